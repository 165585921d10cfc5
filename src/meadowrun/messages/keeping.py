"""What is kept once and used in many messages: the house style, feeds, tables; and comments."""

import datetime as dt
import re
from collections.abc import Collection, Mapping
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import audit
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.content import document as doc
from meadowrun.core.content import fillins
from meadowrun.core.content.lines import ICONS, MADE_UP, Json
from meadowrun.core.content.tables import KEY, TableProblem, read_table
from meadowrun.core.language import Wording
from meadowrun.core.values import read_json
from meadowrun.messages import feeds, queries
from meadowrun.messages.models import (
    Comment,
    DataTable,
    Feed,
    HouseStyle,
    Message,
)
from meadowrun.messages.values import known_refs


def keep_house(
    session: orm.Session, actor: Actor, now: dt.datetime, form: Mapping[str, Any]
) -> HouseStyle:
    """Keeps the house style. Raises Invalid naming the place."""
    try:
        looks = doc.take_settings({k: form[k] for k in doc.SETTINGS if k in form})
    except doc.DocumentError as problem:
        raise Invalid(str(problem), problem.slot or "") from None
    greetings: list[tuple[int, str]] = []
    for line in str(form.get("greetings", "")).splitlines():
        hour, _, words = line.strip().partition(" ")
        if not line.strip():
            continue
        if (
            not re.fullmatch(r"\d{1,2}(:00)?", hour)
            or int(hour.split(":")[0]) > 23
            or not words.strip()
        ):
            raise Invalid(
                Wording(
                    "“%(line)s” is not a greeting. Write the hour it begins and the words: 5:00 "
                    "Good morning.",
                    line=line,
                ),
                "greetings",
            )
        greetings.append((int(hour.split(":")[0]), words.strip()))
    if not greetings or min(g[0] for g in greetings) > 0:
        raise Invalid(
            "The first greeting must begin at 0:00, so that every hour has one.", "greetings"
        )
    pages = _pages(str(form.get("pages", "")))
    house = queries.house(session)
    house.pages = pages
    house.looks, house.greetings = looks, [list(one) for one in sorted(greetings)]
    house.agreed_words, house.avoided_words = (
        _words(form.get("agreed_words")),
        _words(form.get("avoided_words")),
    )
    house.review = bool(form.get("review"))
    house.proof_group = ", ".join(
        a.strip() for a in re.split(r"[,;\s]+", str(form.get("proof_group", ""))) if a.strip()
    )
    session.add(house)
    session.flush()
    audit.record(session, actor, now, "changed", "house style", 1, "House style")
    return house


def _pages(text: str) -> list[Json]:
    """Pages of the organisation as they are typed: “camera, Our pictures, https://…”, one a line.
    Raises Invalid naming the line."""
    icons = {str(name).lower(): key for key, name in ICONS.items()} | {key: key for key in ICONS}
    found = []
    for line in filter(str.strip, text.splitlines()):
        icon, _, rest = line.partition(",")
        name, _, href = rest.rpartition(",")
        key = icons.get(icon.strip().lower())
        if key is None or not name.strip():
            raise Invalid(
                Wording(
                    "“%(line)s” is not a page. Write the icon, what it is called, and its address: "
                    "pictures, Our pictures, https://example.org/pictures. Icons are: %(icons)s.",
                    line=line.strip(),
                    icons=", ".join(str(n) for k, n in ICONS.items() if k not in MADE_UP),
                ),
                "pages",
            )
        if problem := doc.address_problem(href.strip()):
            raise Invalid(
                Wording("“%(line)s”: %(problem)s", line=line.strip(), problem=problem), "pages"
            )
        found.append({"icon": key, "name": name.strip()[: doc.MOST_NAME], "href": href.strip()})
    if len(found) > 12:
        raise Invalid("Icons lead to 12 pages at most.", "pages")
    return found


def _words(text: Any) -> list[str]:
    return list(dict.fromkeys(w.strip() for w in re.split(r"[,\n]", str(text or "")) if w.strip()))[
        :200
    ]


def _json(text: str, place: str, what: str) -> Any:
    """What was typed as JSON; plain words as themselves. Raises Invalid for what begins like a list
    or an object and is none."""
    if not text.strip():
        return None
    try:
        return read_json(text)
    except ValueError as problem:
        if text.strip()[0] not in '[{"':
            return text.strip()
        raise Invalid(
            Wording("%(what)s is not JSON: %(problem)s.", what=what, problem=problem), place
        ) from None


def keep_feed(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    form: Mapping[str, str],
    hosts: Collection[str],
    feed: Feed | None = None,
) -> Feed:
    """Keeps a feed. Raises Invalid naming the place, Conflict when the key is taken."""
    key, url = form.get("key", "").strip(), form.get("url", "").strip()
    if feed is None:
        if not KEY.match(key):
            raise Invalid(
                "Name it with lower-case letters, digits and underscores, beginning with a letter.",
                "key",
            )
        if session.scalar(sa.select(Feed.id).where(Feed.key == key)):
            raise Conflict(Wording("There is a feed “%(key)s” already.", key=key))
        feed = Feed(key=key)
    try:
        fillins.tree(url)
    except fillins.FillInError as problem:
        raise Invalid(str(problem), "url") from None
    problem_words = feeds.host_problem(url, hosts)
    if problem_words:
        raise Invalid(
            Wording("This feed cannot be asked: %(problem_words)s.", problem_words=problem_words),
            "url",
        )
    if form.get("when_down") not in ("fallback", "wait", "leave_out"):
        raise Invalid("Choose what happens if it does not answer.", "when_down")
    try:
        feed.timeout_ms = max(100, min(10_000, int(form.get("timeout_ms") or 2000)))
        feed.keep_seconds = max(0, min(86_400, int(form.get("keep_seconds") or 0)))
    except ValueError:
        raise Invalid("Give the times as whole numbers.", "timeout_ms") from None
    feed.url, feed.part, feed.when_down = url, form.get("part", "").strip(), form["when_down"]
    feed.sample = _json(form.get("sample", ""), "sample", "The sample")
    feed.fallback = _json(form.get("fallback", ""), "fallback", "What people read instead")
    session.add(feed)
    session.flush()
    audit.record(session, actor, now, "kept", "feed", feed.id, feed.key)
    return feed


def keep_table(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    key: str,
    content: bytes,
    key_column: str,
    looked_up_by: str,
    words: Dictionary,
    table: DataTable | None = None,
) -> DataTable:
    """Keeps a CSV as a table to look things up in. Raises Invalid naming the place and, for a row,
    its number."""
    if not KEY.match(key):
        raise Invalid(
            "Name it with lower-case letters, digits and underscores, beginning with a letter.",
            "key",
        )
    if looked_up_by != "today" and looked_up_by not in known_refs(words):
        raise Invalid("Choose what it is looked up by.", "looked_up_by")
    try:
        read = read_table(content, key_column)
    except TableProblem as problem:
        raise Invalid(str(problem), problem.place) from None
    table = (
        table
        or session.scalar(sa.select(DataTable).where(DataTable.key == key))
        or DataTable(key=key)
    )
    table.key_column, table.columns, table.rows = read.by, read.columns, read.rows
    table.looked_up_by = looked_up_by
    table.changed_at, table.changed_by = now, actor.name
    session.add(table)
    session.flush()
    audit.record(session, actor, now, "kept", "table", table.id, table.key, rows=len(read.rows))
    return table


def delete_lookup(
    session: orm.Session, actor: Actor, now: dt.datetime, found: Feed | DataTable
) -> None:
    """Deletes a feed or a table that nothing names. Raises Conflict naming what does."""
    kind = "feed" if isinstance(found, Feed) else "table"
    if used := queries.uses_of_lookup(session, kind, found.key):
        raise Conflict(
            Wording(
                "The %(kind)s “%(key)s” is used by %(used)s. Change those first.",
                kind=kind,
                key=found.key,
                used=", ".join(used[:5]),
            )
        )
    audit.record(session, actor, now, "deleted", kind, found.id, found.key)
    session.delete(found)


def comment(
    session: orm.Session, actor: Actor, now: dt.datetime, message: Message, line: str, text: str
) -> Comment:
    """Says something about a line, or, with an empty one, about the whole message. Raises
    Invalid."""
    if not text.strip():
        raise Invalid("Write what you want to say.", "text")
    made = Comment(
        message_id=message.id,
        draft=message.draft,
        line=line[:12],
        text=text.strip()[:4000],
        at=now,
        by=actor.name,
    )
    session.add(made)
    session.flush()
    audit.record(session, actor, now, "commented on", "message", message.id, message.name)
    return made
