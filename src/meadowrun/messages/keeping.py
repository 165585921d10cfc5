"""What is kept once and used in many messages: rows and adaptive blocks, the house style, feeds,
tables, comments."""

import csv
import datetime as dt
import io
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
from meadowrun.core.people_file import plain
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

KEY = re.compile(r"[a-z][a-z0-9_]{0,39}\Z")
MOST_ROWS = 20_000


def keep_house(
    session: orm.Session, actor: Actor, now: dt.datetime, form: Mapping[str, Any]
) -> HouseStyle:
    """Keeps the house style. Raises Invalid naming the place."""
    try:
        looks = doc.take_settings({k: form[k] for k in doc.SETTINGS if k in form})
    except doc.DocumentError as problem:
        raise Invalid(str(problem), problem.slot or "") from None
    greetings = []
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
                (
                    f"“{line}” is no greeting. Write the hour it begins and the words: 5:00 Good "
                    "morning."
                ),
                "greetings",
            )
        greetings.append([int(hour.split(":")[0]), words.strip()])
    if not greetings or min(g[0] for g in greetings) > 0:
        raise Invalid(
            "The first greeting must begin at 0:00, so that every hour has one.", "greetings"
        )
    house = queries.house(session)
    house.looks, house.greetings = looks, sorted(greetings)
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
        raise Invalid(f"{what} is not JSON: {problem}.", place) from None


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
                "Name it with small letters, digits and underscores, beginning with a letter.",
                "key",
            )
        if session.scalar(sa.select(Feed.id).where(Feed.key == key)):
            raise Conflict(f"There is a feed “{key}” already.")
        feed = Feed(key=key)
    try:
        fillins.tree(url)
    except fillins.FillInError as problem:
        raise Invalid(str(problem), "url") from None
    problem_words = feeds.host_problem(url, hosts)
    if problem_words:
        raise Invalid(f"This feed cannot be asked: {problem_words}.", "url")
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
            "Name it with small letters, digits and underscores, beginning with a letter.", "key"
        )
    if looked_up_by != "today" and looked_up_by not in known_refs(words):
        raise Invalid("Choose what it is looked up by.", "looked_up_by")
    try:
        rows = [
            [plain(cell) for cell in row]
            for row in csv.reader(io.StringIO(content.decode("utf-8-sig")))
        ]
    except (UnicodeDecodeError, csv.Error) as problem:
        raise Invalid(f"This is no CSV in UTF-8: {problem}.", "file") from None
    rows = [row for row in rows if any(cell.strip() for cell in row)]
    if len(rows) < 2 or len(rows) > MOST_ROWS:
        raise Invalid(
            f"The file must have a row of names and 1 to {MOST_ROWS:,} rows below it.", "file"
        )
    columns = [re.sub(r"\W+", "_", name.strip().lower()).strip("_") for name in rows[0]]
    bad = next(
        (rows[0][i] for i, c in enumerate(columns) if not KEY.match(c) or columns.index(c) != i),
        None,
    )
    if bad is not None:
        raise Invalid(f"The column “{bad}” has no usable name, or one that is there twice.", "file")
    column = re.sub(r"\W+", "_", key_column.strip().lower()).strip("_") or columns[0]
    if column not in columns:
        raise Invalid(
            f"There is no column “{key_column}”; there are {', '.join(columns)}.", "key_column"
        )
    place, found = columns.index(column), dict[str, Any]()
    for number, row in enumerate(rows[1:], 2):
        if len(row) != len(columns):
            raise Invalid(
                f"Row {number} has {len(row)} cells, the first row {len(columns)}.", "file"
            )
        if row[place].strip().casefold() in found:
            raise Invalid(
                f"Row {number}: “{row[place]}” is there twice in the column “{column}”.", "file"
            )
        found[row[place].strip().casefold()] = dict(
            zip(columns, (cell.strip() for cell in row), strict=True)
        )
    table = (
        table
        or session.scalar(sa.select(DataTable).where(DataTable.key == key))
        or DataTable(key=key)
    )
    table.key_column, table.looked_up_by, table.columns, table.rows = (
        column,
        looked_up_by,
        columns,
        found,
    )
    table.changed_at, table.changed_by = now, actor.name
    session.add(table)
    session.flush()
    audit.record(session, actor, now, "kept", "table", table.id, table.key, rows=len(found))
    return table


def delete_lookup(
    session: orm.Session, actor: Actor, now: dt.datetime, found: Feed | DataTable
) -> None:
    """Deletes a feed or a table that nothing names. Raises Conflict naming what does."""
    kind = "feed" if isinstance(found, Feed) else "table"
    if used := queries.uses_of_lookup(session, kind, found.key):
        raise Conflict(
            f"The {kind} “{found.key}” is used by {', '.join(used[:5])}. Change those first."
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
