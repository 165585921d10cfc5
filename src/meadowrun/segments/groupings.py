"""Groupings: ordered groups that never overlap, with everyone else; their changes and their
sizes."""

import copy
import dataclasses
import datetime as dt
import secrets
from typing import Any

import sqlalchemy as sa
from pyroaring import BitMap
from sqlalchemy import orm

from meadowrun.base import audit
from meadowrun.base.audit import Actor
from meadowrun.base.db import existing
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.core.audience import definition as d
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.language import Wording
from meadowrun.people.moment import Moment
from meadowrun.people.queries import definitions_using
from meadowrun.segments.looking import look
from meadowrun.segments.models import Grouping, Segment
from meadowrun.segments.queries import naming
from meadowrun.segments.sets import STALE

MOST_GROUPS = 50


@dataclasses.dataclass(frozen=True)
class GroupSize:
    """`own` match the group's lines; `size` of them are in it, the others in a group before it."""

    key: str
    name: str
    own: int
    size: int


@dataclasses.dataclass(frozen=True)
class Divided:
    """Everyone by groups, “everyone else” last; `several` match more than one group."""

    sizes: list[GroupSize]
    several: BitMap


def get(session: orm.Session, ident: int) -> Grouping:
    return existing(session, Grouping, ident, "grouping")


def every(session: orm.Session) -> list[Grouping]:
    """All groupings, by name."""
    return list(session.scalars(sa.select(Grouping).order_by(Grouping.name)))


def create(session: orm.Session, actor: Actor, now: dt.datetime, name: str) -> Grouping:
    """An empty grouping: everybody is in “everyone else”. Raises Invalid, or Conflict when the
    name is taken."""
    name = _free_name(session, name, None)
    made = Grouping(
        name=name, version=1, groups=[], created_at=now, changed_at=now, changed_by=actor.name
    )
    session.add(made)
    session.flush()
    audit.record(session, actor, now, "added", "grouping", made.id, name)
    return made


def _free_name(session: orm.Session, name: str, own: int | None) -> str:
    name = " ".join(name.split())
    if not name:
        raise Invalid("Give the grouping a name, like “Regions”.", "name")
    taken = session.scalar(sa.select(Grouping.id).where(Grouping.name == name))
    if taken is not None and taken != own:
        raise Conflict(Wording("There is a grouping called “%(name)s” already.", name=name))
    return name


def change(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    words: Dictionary,
    grouping: Grouping,
    what: dict[str, Any],
) -> str:
    """One change: rename (name), set (key or none, name, lines), up, down or remove (key). Returns
    the key it was about.

    Raises Invalid, or Conflict when somebody changed the grouping after the version it names.
    """
    session.refresh(grouping, with_for_update=True)
    if what.get("version") is not None and what["version"] != grouping.version:
        raise Conflict(
            Wording(
                "%(changed_by)s changed this grouping while you were editing it. What you "
                "wrote is still here; open theirs in another window.",
                changed_by=grouping.changed_by,
            )
        )
    verb, key = what.get("do"), str(what.get("key") or "")
    groups: list[dict[str, Any]] = copy.deepcopy(grouping.groups)
    place = next((n for n, p in enumerate(groups) if p["key"] == key), None)
    if verb == "rename":
        grouping.name = _free_name(session, str(what.get("name", "")), grouping.id)
    elif verb == "set":
        key = _set(session, words, grouping, groups, place, what)
    elif place is None:
        raise Invalid("That group is no longer there.", key)
    elif verb == "remove":
        _refuse_used(session, grouping, groups[place])
        del groups[place]
    elif verb in ("up", "down"):
        other = place + (-1 if verb == "up" else 1)
        if 0 <= other < len(groups):
            groups[place], groups[other] = groups[other], groups[place]
    else:
        raise Invalid(Wording("“%(verb)s” is not a change of a grouping.", verb=verb))
    grouping.groups, grouping.version = groups, grouping.version + 1
    grouping.changed_at, grouping.changed_by = now, actor.name
    session.flush()
    about = {"how": verb, "group": key}
    audit.record(session, actor, now, "changed", "grouping", grouping.id, grouping.name, **about)
    return key


def _refuse_used(session: orm.Session, grouping: Grouping, group: dict[str, Any]) -> None:
    """Raises Conflict where segments name a group of a grouping."""
    users = [
        s.name
        for s in using(session, grouping.id)
        if _names_group(s.definition, grouping.id, group["key"])
    ]
    if users:
        raise Conflict(
            Wording(
                "“%(name)s” is used by %(users)s. Change those first.",
                name=group["name"],
                users=", ".join(users[:5]),
            )
        )


def _set(
    session: orm.Session,
    words: Dictionary,
    grouping: Grouping,
    groups: list[dict[str, Any]],
    place: int | None,
    what: dict[str, Any],
) -> str:
    name = " ".join(str(what.get("name", "")).split())
    if not name:
        raise Invalid("Give the group a name, like “North”.", "name")
    if (
        any(p["name"].lower() == name.lower() for n, p in enumerate(groups) if n != place)
        or name.lower() == "everyone else"
    ):
        raise Invalid(Wording("There is a group called “%(name)s” already.", name=name), "name")
    try:
        lines = d.dump(d.parse({"lines": what.get("lines") or []}, words))["lines"]
    except d.DefinitionError as problem:
        raise Invalid(str(problem), problem.line) from None
    if not lines:
        raise Invalid(
            "A group needs at least one line; people who match none are in “everyone else”.",
            "lines",
        )
    if names_grouping(lines, grouping.id, words):
        raise Invalid(
            "A group cannot be made of its own grouping: that would be a circle.", "lines"
        )
    if place is not None:
        groups[place] |= {"name": name, "lines": lines}
        return str(groups[place]["key"])
    if len(groups) >= MOST_GROUPS:
        raise Invalid(
            Wording("A grouping has at most %(most_groups)s groups.", most_groups=MOST_GROUPS),
            "name",
        )
    groups.append({"key": secrets.token_hex(3), "name": name, "lines": lines})
    return str(groups[-1]["key"])


def names_grouping(lines: list[dict[str, Any]], ident: int, words: Dictionary) -> bool:
    """Whether lines speak of a grouping, in a group or by way of a segment."""
    for line in lines:
        if line.get("kind") == "grouping" and line["grouping"] == ident:
            return True
        inner = (
            line.get("lines")
            or (
                line.get("kind") == "segment"
                and (words.segment(line["segment"]) or {}).get("lines")
            )
            or []
        )
        if names_grouping(inner, ident, words):
            return True
    return False


def _names_group(definition: dict[str, Any], ident: int, key: str) -> bool:
    return any(
        line.get("kind") == "grouping"
        and line["grouping"] == ident
        and line["group"] == key
        or _names_group(line, ident, key)
        for line in definition.get("lines", [])
    )


def uses(session: orm.Session, ident: int) -> list[str]:
    """What is made of a grouping, in words: segments, other groupings, messages and shared
    parts."""
    return definitions_using(
        session,
        (
            f'$.** ? (@.kind == "grouping" && @.grouping == {int(ident)} || @.type == "only" && '
            f"@.grouping == {int(ident)})"
        ),
    )


def using(session: orm.Session, ident: int) -> list[Segment]:
    """Segments that speak of a grouping."""
    return naming(session, "grouping", "grouping", ident)


def delete(session: orm.Session, actor: Actor, now: dt.datetime, grouping: Grouping) -> None:
    """Deletes a grouping that nothing uses. Raises Conflict naming what does."""
    if users := uses(session, grouping.id):
        raise Conflict(
            Wording(
                "“%(name)s” is used by %(users)s. Change those first.",
                name=grouping.name,
                users=", ".join(users[:5]),
            )
        )
    audit.record(
        session,
        actor,
        now,
        "deleted",
        "grouping",
        grouping.id,
        grouping.name,
        groups=grouping.groups,
    )
    session.delete(grouping)


def divided(
    moment: Moment,
    groups: list[dict[str, Any]],
) -> Divided:
    """Each group's people in order. Raises DefinitionError for lines that name what is gone."""
    taken, several, found_sizes, everyone = BitMap(), BitMap(), [], 0
    for group in groups:
        looked = look(moment, d.parse({"lines": group["lines"]}, moment.words), STALE)
        own = looked.sieve.members
        found_sizes.append(GroupSize(group["key"], group["name"], len(own), len(own - taken)))
        several |= own & taken
        taken |= own
        everyone = looked.sieve.everyone
    if not groups:
        everyone = moment.session.execute(sa.text("SELECT count(*) FROM contacts")).scalar_one()
    rest = everyone - len(taken)
    return Divided([*found_sizes, GroupSize("else", "everyone else", rest, rest)], several)
