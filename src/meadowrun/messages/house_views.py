"""The house style, and what messages look up: feeds and tables."""

import json
from collections.abc import Sequence
from typing import Any

import flask

from meadowrun.base.errors import MeadowrunError
from meadowrun.core import wording
from meadowrun.core.content import document as doc
from meadowrun.core.content.colour import contrast
from meadowrun.core.content.lines import ICONS, MADE_UP
from meadowrun.core.language import Wording
from meadowrun.core.values import is_whole
from meadowrun.messages import feeds, keeping, queries
from meadowrun.messages.models import DataTable, Feed
from meadowrun.messages.values import known_refs
from meadowrun.people.asked import words
from meadowrun.shell.request import (
    Answer,
    actor,
    db,
    done,
    needs,
    not_done,
    now,
    rows_as_csv,
    settings,
    uploaded,
)

pages = flask.Blueprint("house", __name__)


@pages.get("/messages/house")
def style() -> Answer:
    house = queries.house(db())
    return _style(
        {
            **house.looks,
            "greetings": "\n".join(f"{h}:00 {w}" for h, w in house.greetings),
            "agreed_words": ", ".join(house.agreed_words),
            "avoided_words": ", ".join(house.avoided_words),
            "pages": "\n".join(
                f"{ICONS[page['icon']]}, {page['name']}, {page['href']}"
                for page in house.pages or ()
            ),
            "review": house.review,
            "proof_group": house.proof_group,
        },
        None,
    )


def _style(shown: dict[str, object], problem: MeadowrunError | None) -> str:
    looks = {k: str(shown.get(k, v)) for k, v in doc.SETTINGS.items()}
    pairs = [
        (Wording("text on its background"), "sheet", "ink"),
        (Wording("button texts on buttons"), "accent", "on_accent"),
        (Wording("links on their background"), "sheet", "accent"),
    ]
    ratios = [
        (name, contrast(looks[a], looks[b]))
        for name, a, b in pairs
        if doc.COLOUR.match(looks[a]) and doc.COLOUR.match(looks[b])
    ]
    return flask.render_template(
        "messages/house.html",
        shown=shown,
        problem=problem,
        fonts=doc.FONTS,
        design=doc.DESIGN,
        ratios=ratios,
        icons=[name for key, name in ICONS.items() if settings().demo or key not in MADE_UP],
    )


@pages.post("/messages/house")
@needs("approver")
def keep_style() -> Answer:
    form = flask.request.form.to_dict()
    try:
        keeping.keep_house(db(), actor(), now(), form)
    except MeadowrunError as problem:
        db().rollback()
        return _style(
            {
                **doc.SETTINGS,
                "greetings": "",
                "agreed_words": "",
                "avoided_words": "",
                "pages": "",
                "review": "",
                "proof_group": "",
                **form,
            },
            problem,
        ), problem.status
    return done(
        "house.style", "Saved. New messages start with it; existing ones keep their design."
    )


@pages.get("/messages/lookups")
def lookups() -> Answer:
    return _lookups(None)


def _lookups(problem: MeadowrunError | None, typed: dict[str, str] | None = None) -> str:
    held: dict[str, Sequence[Feed | DataTable]] = {
        "feed": queries.feeds(db()),
        "table": queries.tables(db()),
    }
    return flask.render_template(
        "messages/lookups.html",
        feeds=held["feed"],
        tables=held["table"],
        problem=problem,
        uses={
            (kind, one.key): queries.uses_of_lookup(db(), kind, one.key)
            for kind, every in held.items()
            for one in every
        },
        typed=typed or {},
        shown=_shown,
        hosts=sorted(settings().feed_hosts),
        fields=sorted(known_refs(words()).items(), key=lambda i: i[1]),
        personal=feeds.personal,
    )


def _shown(feed: Feed) -> dict[str, Any]:
    """A feed as its form shows it."""
    return {
        **{
            slot: getattr(feed, slot)
            for slot in ("key", "url", "part", "timeout_ms", "keep_seconds", "when_down")
        },
        **{
            slot: ""
            if getattr(feed, slot) is None
            else json.dumps(getattr(feed, slot), ensure_ascii=False)
            for slot in ("fallback", "sample")
        },
    }


@pages.post("/messages/feeds")
@needs("author")
def keep_feed() -> Answer:
    form = flask.request.form.to_dict()
    feed = db().get(Feed, int(form["id"])) if is_whole(form.get("id", "")) else None
    try:
        keeping.keep_feed(db(), actor(), now(), form, settings().feed_hosts, feed)
    except MeadowrunError as problem:
        db().rollback()
        return _lookups(problem, form), problem.status
    feeds.forget()
    return done("house.lookups", "The feed was saved.")


@pages.post("/messages/feeds/<int:ident>/ask")
@needs("author")
def ask_feed(ident: int) -> Answer:
    """Asks a feed once and keeps the answer as the sample to read messages with."""
    feed = db().get(Feed, ident)
    if feed is None:
        flask.abort(404)
    try:
        feed.sample = feeds.pick(
            feeds.fetch(feed.url, feed.timeout_ms, settings().feed_hosts), feed.part
        )
    except (OSError, ValueError) as problem:
        return not_done(
            Wording("The feed “%(key)s” gave nothing: %(problem)s.", key=feed.key, problem=problem),
            "house.lookups",
        )
    return done(
        "house.lookups",
        Wording("The feed “%(key)s” answered; its answer is the sample now.", key=feed.key),
    )


@pages.post("/messages/tables")
@needs("author")
def keep_table() -> Answer:
    form, file = flask.request.form.to_dict(), flask.request.files.get("file")
    try:
        made = keeping.keep_table(
            db(),
            actor(),
            now(),
            form.get("key", "").strip(),
            uploaded(file),
            form.get("key_column", ""),
            form.get("looked_up_by", ""),
            words(),
        )
    except MeadowrunError as problem:
        db().rollback()
        return _lookups(problem, form), problem.status
    return done(
        "house.lookups",
        Wording(
            "The table “%(key)s” holds %(rows)s rows.",
            key=made.key,
            rows=wording.number(len(made.rows)),
        ),
    )


@pages.post("/messages/<any(feeds, tables):what>/<int:ident>/delete")
@needs("author")
def delete(what: str, ident: int) -> Answer:
    found = db().get(Feed, ident) if what == "feeds" else db().get(DataTable, ident)
    if found is None:
        flask.abort(404)
    try:
        keeping.delete_lookup(db(), actor(), now(), found)
    except MeadowrunError as problem:
        return not_done(problem, "house.lookups")
    return done("house.lookups", "Deleted.")


@pages.get("/messages/tables/<int:ident>.csv")
def table_csv(ident: int) -> Answer:
    """A table as the CSV it came from, for a spreadsheet."""
    table = db().get(DataTable, ident)
    if table is None:
        flask.abort(404)
    return rows_as_csv(
        [
            table.columns,
            *([row.get(name, "") for name in table.columns] for row in table.rows.values()),
        ],
        table.key,
    )
