"""Fields and kinds of event as a dictionary: how full, commonest values, near duplicates, where
used; renamed, merged, retired."""

import dataclasses
import datetime as dt
import difflib
from collections.abc import Callable, Iterator
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import audit
from meadowrun.base.audit import Actor
from meadowrun.base.clock import now as clock_now
from meadowrun.base.db import rows_changed
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.core.language import Wording
from meadowrun.core.wording import fold, held
from meadowrun.people.models import EventKind, Field
from meadowrun.people.queries import definitions_using

#: A part of a definition or an itinerary that names a field: a line that asks it, a step that sets
#: it, or a start or a wait that goes by its date.
_NAMES_FIELD = (
    '(@.kind == "field" || @.kind == "change") && @.field == "{ref}" || @.date == "{ref}"'
)


@dataclasses.dataclass(frozen=True)
class Entry:
    """What is known of one own field. `used` says where, in words."""

    field: Field
    filled: int
    of: int
    common: list[tuple[str, int]]
    duplicates: list[Field]
    used: list[str]

    def said(self, value: str) -> str:
        """One of its commonest values as it is read."""
        if self.field.type == "yes_no":
            return held("yes_no", value == "true")
        return held("number", float(value)) if self.field.type == "number" else self._text(value)

    def _text(self, value: str) -> str:
        return held(self.field.type if self.field.type in ("date", "datetime") else "text", value)


def get(session: orm.Session, ident: int) -> Field:
    found = session.get(Field, ident)
    if found is None:
        raise Invalid("This field does not exist any more.")
    return found


def entry(session: orm.Session, field: Field) -> Entry:
    """Everything the dictionary says of a field."""
    table = "contacts" if field.owner == "contact" else "companies"
    total = session.execute(sa.text(f"SELECT count(*) FROM {table}")).scalar_one()
    filled = session.execute(
        sa.text(
            f"SELECT count(*) FROM {table} WHERE coalesce(attributes->>:key, '') NOT IN ('', '[]')"
        ),
        {"key": field.key},
    ).scalar_one()
    value = (
        (
            "jsonb_array_elements_text(CASE jsonb_typeof(attributes->:key) WHEN 'array' THEN "
            "attributes->:key END)"
        )
        if field.type == "choices"
        else "attributes->>:key"
    )
    common = [
        (row[0], row[1])
        for row in session.execute(
            sa.text(
                f"SELECT v, count(*) FROM (SELECT {value} AS v FROM {table}) x WHERE v <> '' "
                "GROUP BY v ORDER BY 2 DESC, 1 LIMIT 8"
            ),
            {"key": field.key},
        )
    ]
    others = session.scalars(
        sa.select(Field)
        .where(Field.owner == field.owner, Field.id != field.id)
        .order_by(Field.label)
    ).all()
    return Entry(
        field,
        filled,
        total,
        common,
        [o for o in others if alike(o.label, field.label)],
        uses(session, field),
    )


def alike(one: str, other: str) -> bool:
    """Whether two labels look like the same thing: “state” and “State code”, “birth day” and
    “birthday”."""
    a, b = fold(one), fold(other)
    if (
        a.replace(" ", "") == b.replace(" ", "")
        or difflib.SequenceMatcher(None, a, b).ratio() >= 0.82
    ):
        return True
    mine, theirs = set(a.split()), set(b.split())
    return mine < theirs or theirs < mine


def ref(field: Field) -> str:
    """How definitions name a field."""
    return field.key if field.owner == "contact" else f"company.{field.key}"


def uses(session: orm.Session, field: Field) -> list[str]:
    """Where a field is used, in words: segments, groupings, messages and shared parts, filled in or
    asked for."""
    fill = f"%{'contact' if field.owner == 'contact' else 'company'}.{field.key}%".replace(
        "_", r"\_"
    )
    filled = session.execute(
        sa.text("SELECT DISTINCT kind, name FROM definitions_in_use WHERE lines::text LIKE :fill"),
        {"fill": fill},
    )
    asked = definitions_using(session, f"$.** ? ({_NAMES_FIELD.format(ref=ref(field))})")
    return sorted({*asked, *(f"{kind} “{name}”" for kind, name in filled)})


def change(
    session: orm.Session, actor: Actor, field: Field, label: str, meaning: str, options: list[str]
) -> None:
    """Another name, meaning or choices; the key stays, so that nothing breaks. Choices that are in
    use cannot go. Raises Invalid."""
    label = " ".join(label.split())
    if not label:
        raise Invalid("A field needs a name.", "label")
    options = list(dict.fromkeys(o for o in (" ".join(x.split()) for x in options) if o))
    before = {"name": field.label, "meaning": field.meaning, "choices": field.options}
    if field.type in ("choice", "choices"):
        gone = set(field.options) - set(options)
        held = gone & {value for value, _ in entry(session, field).common}
        if held:
            raise Invalid(
                Wording(
                    "“%(held)s” is still somebody’s value. Change those contacts first.",
                    held=sorted(held)[0],
                ),
                "options",
            )
        field.options = options
    field.label, field.meaning = label, meaning.strip()
    audit.record(
        session,
        actor,
        clock_now(session),
        "changed the field",
        "field",
        field.id,
        label,
        **audit.from_to(
            before, {"name": field.label, "meaning": field.meaning, "choices": field.options}
        ),
    )


def retire(session: orm.Session, actor: Actor, field: Field, retired: bool) -> None:
    """A retired field is offered nowhere; what uses it goes on, and its values stay."""
    field.retired = retired
    audit.record(
        session,
        actor,
        clock_now(session),
        "retired" if retired else "took back",
        "field",
        field.id,
        field.label,
    )


#: How a record of a table is called in a message.
_CALLED = {
    "contacts": "coalesce(nullif(concat_ws(' ', first_name, last_name), ''), email, id::text)",
    "companies": "name",
}
_DIFFER = """
SELECT {name}, attributes->>:kept, attributes->>:gone, count(*) OVER ()
FROM {table}
WHERE jsonb_exists(attributes, :gone) AND jsonb_exists(attributes, :kept)
  AND attributes->:gone <> attributes->:kept
ORDER BY id
LIMIT 3
"""
_LET_GO = """
UPDATE {table} SET attributes = attributes - CAST(:gone AS text)
WHERE jsonb_exists(attributes, :gone) AND jsonb_exists(attributes, :kept)
  AND (:stays OR attributes->:gone = attributes->:kept)
"""
_TAKE_OVER = """
UPDATE {table}
SET attributes = (attributes - CAST(:gone AS text))
  || jsonb_build_object(CAST(:kept AS text), attributes->:gone)
WHERE jsonb_exists(attributes, :gone)
"""
_CHOICES_HELD = """
SELECT DISTINCT v
FROM {table}, jsonb_array_elements_text(
  CASE jsonb_typeof(attributes->:kept) WHEN 'array' THEN attributes->:kept
  ELSE jsonb_build_array(attributes->:kept) END
) AS v
WHERE jsonb_exists(attributes, :kept)
ORDER BY v
"""


def _refuse_where_they_differ(session: orm.Session, table: str, keys: dict[str, str]) -> None:
    """Raises Conflict, naming some records whose values under the two keys differ."""
    differ = session.execute(sa.text(_DIFFER.format(table=table, name=_CALLED[table])), keys).all()
    if not differ:
        return
    many = differ[0][3]
    who = (
        f"1 {'contact holds' if table == 'contacts' else 'company holds'}"
        if many == 1
        else f"{many:,} {table} hold"
    )
    some = "; ".join(f"{one} ({here}, {there})" for one, here, there, _ in differ)
    raise Conflict(
        Wording(
            "%(who)s different values in both, like %(some)s. Say which counts.", who=who, some=some
        )
    )


def merge(session: orm.Session, actor: Actor, gone: Field, kept: Field, wins: str = "") -> int:
    """Moves what `gone` holds to `kept`, where that is blank, and lines of segments with it; `gone`
    is deleted.

    Where both hold different values, that of the field which `wins` ("kept" or "gone") counts.
    Returns how many records took a value over. Raises Conflict where they differ and none is to
    win, or where a message fills it in.
    """
    if wins not in ("", "kept", "gone"):
        raise Invalid("Where both differ, the value of “kept” or of “gone” can win.", "wins")
    if gone.id == kept.id or gone.owner != kept.owner or gone.type != kept.type:
        raise Invalid("Two fields of the same sort and owner can be merged.", "into")
    # A segment's lines are rewritten; a text is its author's.
    messages = [u for u in uses(session, gone) if u.startswith(("the message", "the shared part"))]
    if messages:
        raise Conflict(Wording("%(messages)s uses it. Change that first.", messages=messages[0]))
    table = "contacts" if gone.owner == "contact" else "companies"
    values = {"gone": gone.key, "kept": kept.key}
    if not wins:
        _refuse_where_they_differ(session, table, values)
    session.execute(sa.text(_LET_GO.format(table=table)), {**values, "stays": wins != "gone"})
    moved = rows_changed(session.execute(sa.text(_TAKE_OVER.format(table=table)), values))
    if kept.type in ("choice", "choices"):
        held = session.scalars(sa.text(_CHOICES_HELD.format(table=table)), values).all()
        # What somebody holds can be chosen, also where a field was filled before it had choices.
        kept.options = list(dict.fromkeys([*kept.options, *gone.options, *held]))
    old, new = ref(gone), ref(kept)

    def renamed(node: dict[str, Any]) -> None:
        if node.get("kind") in ("field", "change") and node.get("field") == old:
            node["field"] = new
        # The start or a wait of a journey that goes by a date.
        if node.get("date") == old:
            node["date"] = new

    for table_, column in _DEFINITIONS:
        _rewrite(session, table_, column, _NAMES_FIELD.format(ref=old), renamed)
    audit.record(
        session,
        actor,
        clock_now(session),
        "merged the field",
        "field",
        kept.id,
        kept.label,
        gone=gone.label,
        moved=moved,
    )
    session.delete(gone)
    session.flush()
    return int(moved)


#: where definitions stand that are no part of a text
_DEFINITIONS = (
    ("segments", "definition"),
    ("segment_versions", "definition"),
    ("groupings", "groups"),
    ("scores", "rules"),
    ("journey_drafts", "itinerary"),
    ("journey_editions", "itinerary"),
)


def _rewrite(
    session: orm.Session,
    table: str,
    column: str,
    where: str,
    change: Callable[[dict[str, Any]], None],
) -> None:
    """Changes every object inside a column of JSON, in the rows where a condition of a jsonpath
    holds of one."""
    rows = session.execute(
        sa.text(
            f"SELECT ctid, {column} FROM {table} WHERE jsonb_path_exists({column}, CAST(:path AS "
            "jsonpath))"
        ),
        {"path": f"$.** ? ({where})"},
    ).all()
    for place, data in rows:
        for node in _nodes(data):
            change(node)
        session.execute(
            sa.text(
                f"UPDATE {table} SET {column} = :data WHERE ctid = CAST(:place AS tid)"
            ).bindparams(sa.bindparam("data", type_=sa.dialects.postgresql.JSONB)),
            {"data": data, "place": str(place)},
        )


def _nodes(data: Any) -> Iterator[dict[str, Any]]:
    if isinstance(data, list):
        for item in data:
            yield from _nodes(item)
    elif isinstance(data, dict):
        yield data
        for value in data.values():
            if isinstance(value, list | dict):
                yield from _nodes(value)


#: where conditions stand beside texts
_MESSAGES = (
    ("conditions", "lines"),
    ("messages", "document"),
    ("drafts", "document"),
    ("shared_parts", "lines"),
    ("shared_part_versions", "lines"),
)


def rewrite_everywhere(
    session: orm.Session,
    where: str,
    change: Callable[[dict[str, Any]], None],
    editions: bool = False,
) -> None:
    """Changes the objects inside every definition, in the rows where a condition of a jsonpath
    holds of one. With `editions` also in the conditions of what is sent: where what they name by
    number would be gone otherwise, and means the same under the other."""
    for table, column in (
        *_DEFINITIONS,
        *_MESSAGES,
        *((("editions", "compiled"),) if editions else ()),
    ):
        _rewrite(session, table, column, where, change)


def duplicates_of_kind(session: orm.Session, kind: EventKind) -> list[EventKind]:
    """Other kinds of event that look like the same thing, by what they are called."""
    others = session.scalars(
        sa.select(EventKind).where(EventKind.id != kind.id).order_by(EventKind.did)
    ).all()
    words = set(kind.key.split("_"))
    return [o for o in others if alike(o.did, kind.did) or set(o.key.split("_")) == words]


_MOVE_EVENTS = "UPDATE events SET kind_id = :kept WHERE kind_id = :gone"
_MOVE_ASIDE = "UPDATE details_aside SET kind_id = :kept WHERE kind_id = :gone"
_SUCCESS = "UPDATE sends SET success_event = :new WHERE success_event = :old"


def merge_kinds(session: orm.Session, actor: Actor, gone: EventKind, kept: EventKind) -> int:
    """Makes one kind of event of two: what was stored and what names `gone` becomes of `kept`, and
    what still comes in under its key does, too. Returns how many events moved. Raises Invalid, and
    Conflict when a detail of both holds different types.
    """
    if gone.id == kept.id:
        raise Invalid("Choose another kind of event to merge it into.", "into")
    differ = [
        key
        for key, detail in gone.details.items()
        if key in kept.details and kept.details[key]["type"] != detail["type"]
    ]
    if differ:
        raise Conflict(
            Wording(
                "Both have the detail “%(label)s”, one as a number and one as a text. They "
                "stay apart.",
                label=gone.details[differ[0]]["label"],
            )
        )
    _name_instead(session, gone.key, kept.key)
    ids = {"kept": kept.id, "gone": gone.id}
    moved = int(rows_changed(session.execute(sa.text(_MOVE_EVENTS), ids)))
    session.execute(sa.text(_MOVE_ASIDE), ids)
    kept.details = gone.details | kept.details
    kept.aka = sorted({*kept.aka, gone.key, *gone.aka})
    now, what = clock_now(session), {"gone": gone.did, "moved": moved}
    audit.record(session, actor, now, "merged the event", "event_kind", kept.id, kept.did, **what)
    session.delete(gone)
    session.flush()
    return moved


def _name_instead(session: orm.Session, old: str, new: str) -> None:
    """Whatever names one kind of event by its key names another."""

    def renamed(node: dict[str, Any]) -> None:
        for slot in ("event", "unless"):
            if node.get(slot) == old:
                node[slot] = new

    rewrite_everywhere(session, f'@.event == "{old}" || @.unless == "{old}"', renamed)
    session.execute(sa.text(_SUCCESS), {"old": old, "new": new})


def change_kind(
    session: orm.Session,
    actor: Actor,
    kind: EventKind,
    did: str,
    do: str,
    meaning: str,
    retired: bool,
    by_website: bool = True,
) -> None:
    """The words a kind of event is spoken of in, and whether a website may tell of it. Raises
    Invalid."""
    did, do = " ".join(did.split()), " ".join(do.split())
    if not did or not do:
        raise Invalid(
            (
                "Give both: what somebody did (“bought a ticket”), and what they did not do (“buy "
                "a ticket”)."
            ),
            "did",
        )
    before = {
        "did": kind.did,
        "do": kind.do,
        "meaning": kind.meaning,
        "retired": kind.retired,
        "by_website": kind.by_website,
    }
    kind.did, kind.do, kind.meaning, kind.retired, kind.by_website = (
        did,
        do,
        meaning.strip(),
        retired,
        by_website,
    )
    audit.record(
        session,
        actor,
        clock_now(session),
        "changed the event",
        "event_kind",
        kind.id,
        did,
        **audit.from_to(
            before,
            {
                "did": did,
                "do": do,
                "meaning": kind.meaning,
                "retired": retired,
                "by_website": by_website,
            },
        ),
    )


def kind_facts(session: orm.Session, kind: EventKind) -> dict[str, Any]:
    """How often an event came in the last 90 days, from how many people, and the commonest values
    of its details."""
    values = {"k": kind.id, "since": clock_now(session) - dt.timedelta(days=90)}
    count, people = session.execute(
        sa.text(
            "SELECT count(*), count(DISTINCT contact_id) FROM events WHERE kind_id = :k AND at "
            ">= :since"
        ),
        values,
    ).one()
    common: dict[str, list[tuple[str, int]]] = {}
    for key in list(kind.details)[:8]:
        common[key] = [
            (row[0], row[1])
            for row in session.execute(
                sa.text(
                    "SELECT details->>:key AS v, count(*) FROM events WHERE kind_id = :k AND at "
                    ">= :since AND details->>:key IS NOT NULL "
                    "GROUP BY 1 ORDER BY 2 DESC LIMIT 6"
                ),
                {**values, "key": key},
            )
        ]
    # Conditions on it, and what starts a journey, is waited for in one or is its goal.
    used = definitions_using(session, f'$.** ? (@.event == "{kind.key}")')
    sends = session.scalars(
        sa.text("SELECT name FROM sends WHERE success_event = :key ORDER BY id DESC LIMIT 5"),
        {"key": kind.key},
    ).all()
    return {
        "count": count,
        "people": people,
        "common": common,
        "duplicates": duplicates_of_kind(session, kind),
        "others": session.scalars(
            sa.select(EventKind).where(EventKind.id != kind.id).order_by(EventKind.did)
        ).all(),
        "used": used + [f"the send “{n}”, as its success" for n in sends],
    }
