"""Partitions: ordered parts that never overlap, with everyone else; their changes and their
sizes."""

import copy
import dataclasses
import datetime as dt
import secrets
import zoneinfo
from typing import Any

import sqlalchemy as sa
from pyroaring import BitMap
from sqlalchemy import orm

from meadowrun.base import audit
from meadowrun.base.audit import Actor
from meadowrun.base.db import found
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.core.audience import definition as d
from meadowrun.core.audience.fields import Dictionary
from meadowrun.people.queries import definitions_using
from meadowrun.segments.looking import look
from meadowrun.segments.models import Partition, Segment
from meadowrun.segments.queries import naming
from meadowrun.segments.sets import STALE

MOST_PARTS = 50


@dataclasses.dataclass(frozen=True)
class PartSize:
    """`own` match the part's lines; `size` of them are in it, the others in a part before it."""

    key: str
    name: str
    own: int
    size: int


@dataclasses.dataclass(frozen=True)
class Divided:
    """Everyone by parts, “everyone else” last; `several` match more than one part."""

    sizes: list[PartSize]
    several: BitMap


def get(session: orm.Session, ident: int) -> Partition:
    return found(session, Partition, ident, "partition")


def every(session: orm.Session) -> list[Partition]:
    """All partitions, by name."""
    return list(session.scalars(sa.select(Partition).order_by(Partition.name)))


def create(session: orm.Session, actor: Actor, now: dt.datetime, name: str) -> Partition:
    """An empty partition: everybody is in “everyone else”. Raises Invalid, or Conflict when the
    name is taken."""
    name = _free_name(session, name, None)
    made = Partition(
        name=name, version=1, parts=[], created_at=now, changed_at=now, changed_by=actor.name
    )
    session.add(made)
    session.flush()
    audit.record(session, actor, now, "added", "partition", made.id, name)
    return made


def _free_name(session: orm.Session, name: str, own: int | None) -> str:
    name = " ".join(name.split())
    if not name:
        raise Invalid("Give the partition a name, like “Regions”.", "name")
    taken = session.scalar(sa.select(Partition.id).where(Partition.name == name))
    if taken is not None and taken != own:
        raise Conflict(f"There is a partition called “{name}” already.")
    return name


def change(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    words: Dictionary,
    partition: Partition,
    what: dict[str, Any],
) -> str:
    """One change: rename (name), set (key or none, name, lines), up, down or remove (key). Returns
    the key it was about.

    Raises Invalid, or Conflict when somebody changed the partition after the version it names.
    """
    session.refresh(partition, with_for_update=True)
    if what.get("version") is not None and what["version"] != partition.version:
        raise Conflict(
            f"{partition.changed_by} changed this partition while you were editing it. What you "
            "wrote is still here; "
            "open theirs in another window."
        )
    verb, key = what.get("do"), str(what.get("key") or "")
    parts: list[dict[str, Any]] = copy.deepcopy(partition.parts)
    place = next((n for n, p in enumerate(parts) if p["key"] == key), None)
    if verb == "rename":
        partition.name = _free_name(session, str(what.get("name", "")), partition.id)
    elif verb == "set":
        key = _set(session, words, partition, parts, place, what)
    elif place is None:
        raise Invalid("That part is no longer there.", key)
    elif verb == "remove":
        users = [
            s.name
            for s in using(session, partition.id)
            if _names_part(s.definition, partition.id, key)
        ]
        if users:
            raise Conflict(
                f"“{parts[place]['name']}” is used by {', '.join(users[:5])}. Change those first."
            )
        del parts[place]
    elif verb in ("up", "down"):
        other = place + (-1 if verb == "up" else 1)
        if 0 <= other < len(parts):
            parts[place], parts[other] = parts[other], parts[place]
    else:
        raise Invalid(f"“{verb}” is no change of a partition.")
    partition.parts, partition.version = parts, partition.version + 1
    partition.changed_at, partition.changed_by = now, actor.name
    session.flush()
    audit.record(
        session,
        actor,
        now,
        "changed",
        "partition",
        partition.id,
        partition.name,
        how=verb,
        part=key,
    )
    return key


def _set(
    session: orm.Session,
    words: Dictionary,
    partition: Partition,
    parts: list[dict[str, Any]],
    place: int | None,
    what: dict[str, Any],
) -> str:
    name = " ".join(str(what.get("name", "")).split())
    if not name:
        raise Invalid("Give the part a name, like “North”.", "name")
    if (
        any(p["name"].lower() == name.lower() for n, p in enumerate(parts) if n != place)
        or name.lower() == "everyone else"
    ):
        raise Invalid(f"There is a part called “{name}” already.", "name")
    try:
        lines = d.dump(d.parse({"lines": what.get("lines") or []}, words))["lines"]
    except d.DefinitionError as problem:
        raise Invalid(str(problem), problem.line) from None
    if not lines:
        raise Invalid(
            "A part needs at least one line; whoever matches none is in “everyone else”.", "lines"
        )
    if names_partition(lines, partition.id, words):
        raise Invalid(
            "A part cannot be made of its own partition: that would be a circle.", "lines"
        )
    if place is not None:
        parts[place] |= {"name": name, "lines": lines}
        return str(parts[place]["key"])
    if len(parts) >= MOST_PARTS:
        raise Invalid(f"A partition has at most {MOST_PARTS} parts.", "name")
    parts.append({"key": secrets.token_hex(3), "name": name, "lines": lines})
    return str(parts[-1]["key"])


def names_partition(lines: list[dict[str, Any]], ident: int, words: Dictionary) -> bool:
    """Whether lines speak of a partition, in a group or by way of a segment."""
    for line in lines:
        if line.get("kind") == "part" and line["partition"] == ident:
            return True
        inner = (
            line.get("lines")
            or (
                line.get("kind") == "segment"
                and (words.segment(line["segment"]) or {}).get("lines")
            )
            or []
        )
        if names_partition(inner, ident, words):
            return True
    return False


def _names_part(definition: dict[str, Any], ident: int, key: str) -> bool:
    return any(
        line.get("kind") == "part"
        and line["partition"] == ident
        and line["part"] == key
        or _names_part(line, ident, key)
        for line in definition.get("lines", [])
    )


def uses(session: orm.Session, ident: int) -> list[str]:
    """What is made of a partition, in words: segments, other partitions, messages and kept rows."""
    return definitions_using(
        session,
        (
            f'$.** ? (@.kind == "part" && @.partition == {int(ident)} || @.type == "only" && '
            f"@.partition == {int(ident)})"
        ),
    )


def using(session: orm.Session, ident: int) -> list[Segment]:
    """Segments that speak of a partition."""
    return naming(session, "part", "partition", ident)


def delete(session: orm.Session, actor: Actor, now: dt.datetime, partition: Partition) -> None:
    """Deletes a partition that nothing uses. Raises Conflict naming what does."""
    if users := uses(session, partition.id):
        raise Conflict(f"“{partition.name}” is used by {', '.join(users[:5])}. Change those first.")
    audit.record(
        session,
        actor,
        now,
        "deleted",
        "partition",
        partition.id,
        partition.name,
        parts=partition.parts,
    )
    session.delete(partition)


def divided(
    session: orm.Session,
    parts: list[dict[str, Any]],
    words: Dictionary,
    now: dt.datetime,
    zone: zoneinfo.ZoneInfo,
) -> Divided:
    """Each part's people in order. Raises DefinitionError for lines that name what is gone."""
    taken, several, found_sizes, everyone = BitMap(), BitMap(), [], 0
    for part in parts:
        looked = look(session, d.parse({"lines": part["lines"]}, words), words, now, zone, STALE)
        own = looked.sieve.members
        found_sizes.append(PartSize(part["key"], part["name"], len(own), len(own - taken)))
        several |= own & taken
        taken |= own
        everyone = looked.sieve.everyone
    if not parts:
        everyone = session.execute(sa.text("SELECT count(*) FROM contacts")).scalar_one()
    rest = everyone - len(taken)
    return Divided([*found_sizes, PartSize("else", "everyone else", rest, rest)], several)
