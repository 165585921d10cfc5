"""Reading a message as somebody, and who of an audience reads which version of it."""

import dataclasses
import datetime as dt
import json
import zoneinfo
from collections.abc import Mapping
from typing import Any

import sqlalchemy as sa
from pyroaring import BitMap
from sqlalchemy import orm

from meadowrun.base.errors import Invalid
from meadowrun.base.kept import Kept
from meadowrun.campaigns.models import Campaign
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.content.compiled import Compiled, Rendered, Renderer, placed
from meadowrun.core.content.lines import Json, places, walk
from meadowrun.messages import queries
from meadowrun.messages.models import Message
from meadowrun.messages.values import Needs, as_nobody, condition, of_people, part_sql
from meadowrun.people.models import Contact
from meadowrun.segments.queries import compiler_for, id_sets
from meadowrun.sends.models import Send
from meadowrun.sends.queries import audience
from meadowrun.sends.queries import hours as hours_of

_sets: Kept[list[BitMap]] = Kept()


@dataclasses.dataclass(frozen=True)
class Version:
    """One version of an “only if” line: how many read it, and somebody who does."""

    name: str
    count: int
    someone: int | None
    case: str


@dataclasses.dataclass(frozen=True)
class Readers:
    """Who reads what of one “only if” line. `nothing` says that everyone else reads nothing there."""

    line: str
    place: str
    versions: tuple[Version, ...]
    others: Version
    nothing: bool


def facts(session: orm.Session, message_id: int) -> dict[str, Any] | None:
    """The facts of the campaign whose send uses this message last; None when no send does."""
    return session.scalar(sa.select(Campaign.facts).join(Send, Send.campaign_id == Campaign.id)
                          .where(Send.message_id == message_id).order_by(Send.id.desc()).limit(1))


def read_as(session: orm.Session, message: Message, document: Json, person: Contact | None, words: Dictionary,
            now: dt.datetime, zone: zoneinfo.ZoneInfo, public_url: str) -> tuple[Rendered, str]:
    """What a person would get now, and the line beside its subject. Raises CompileError, NoVersion."""
    compiled = queries.compiled(session, document, public_url, tracked=False)
    flat = of_people(session, [person.id], Needs.of(compiled), words, now, zone).get(person.id) if person else None
    renderer, values = Renderer(compiled), as_nobody_in(compiled, flat, facts(session, message.id) or {}, words)
    return renderer.render(values), renderer.preheader(values)


def as_nobody_in(compiled: Compiled, flat: dict[str, Any] | None, known: Mapping[str, Any], words: Dictionary) -> dict[str, Any]:
    """Values for a message or for all that it chooses from."""
    made = as_nobody(compiled, flat, known, words)
    for member in compiled.members.values():
        more = as_nobody(member, flat, known, words)
        for root, values in more.items():
            if isinstance(values, dict) and isinstance(made.get(root), dict):
                made[root] = more[root] | made[root]
    return made


def hours(session: orm.Session, message_id: int) -> tuple[int, int] | None:
    """The hours in which the last send of a message that has not gone yet will go; None where none is planned."""
    send = session.scalar(sa.select(Send).where(Send.message_id == message_id, Send.state.in_(("draft", "planned")))
                          .order_by(Send.id.desc()).limit(1))
    return hours_of(send) if send else None


def audience_of(session: orm.Session, message_id: int, words: Dictionary, now: dt.datetime,
                zone: zoneinfo.ZoneInfo) -> tuple[BitMap | None, str]:
    """The people the last send of a message is for, and what they are called; None and “everyone” where no send says."""
    send = session.scalar(sa.select(Send).where(Send.message_id == message_id).order_by(Send.id.desc()).limit(1))
    if send is None or not send.audience.get("in"):
        return None, "everyone"
    try:
        who = audience(session, send.audience, words, now, zone)
    except Invalid:
        return None, "everyone"
    key = json.dumps([who.predicate, {k: str(v) for k, v in who.values.items()}], sort_keys=True)
    (people,), _ = _sets.get(session, key, now, lambda: id_sets(session, [who.predicate], who.values))
    return people, f"the people of “{send.name}”"


def who_reads(session: orm.Session, document: Json, words: Dictionary, now: dt.datetime,
              zone: zoneinfo.ZoneInfo, among: BitMap | None = None) -> tuple[list[Readers], int]:
    """For each “only if” line who reads which version, among some or everyone; and how many these are.

    Versions are asked in order; somebody who matches two reads the first. Inside another version only its readers count.
    """
    rows = queries.rows_of(session, document)
    lines = placed(document, rows)
    asked: dict[str, str] = {"": "TRUE"}
    compiler = compiler_for(session, words, now, zone)
    for line in walk(lines):
        if line["type"] == "only":
            for case in line["cases"]:
                asked[case["id"]] = f"({part_sql(line['partition'], compiler)}) = {compiler.bind(case['part'])}" \
                    if line["partition"] else condition(case["lines"], compiler)
    if len(asked) == 1:
        return [], 0
    key = json.dumps([asked, {k: str(v) for k, v in compiler.values.items()}], sort_keys=True)
    fetched, _ = _sets.get(session, key, now, lambda: id_sets(session, list(asked.values()), compiler.values))
    sets = dict(zip(asked, fetched, strict=True))
    found: list[Readers] = []
    base = sets[""] if among is None else among
    _count(lines, base, sets, places(lines), found)
    return found, len(base)


def _count(lines: list[Json], among: BitMap, sets: Mapping[str, BitMap], where: Mapping[str, str], found: list[Readers]) -> None:
    for line in lines:
        if line["type"] == "columns":
            for held in line["columns"]:
                _count(held, among, sets, where, found)
        elif line["type"] == "only":
            left, versions, inner = among, [], []
            for case in line["cases"]:
                readers = left & sets[case["id"]]
                left = left - readers
                versions.append(Version(case["name"] or case["part"] or "a version", len(readers),
                                        readers.min() if readers else None, case["id"]))
                inner.append((case["content"], readers))
            others = Version("everyone else", len(left), left.min() if left else None, "")
            found.append(Readers(line["id"], where[line["id"]], tuple(versions), others, not line["otherwise"]))
            for content, readers in [*inner, (line["otherwise"], left)]:
                _count(content, readers, sets, where, found)

