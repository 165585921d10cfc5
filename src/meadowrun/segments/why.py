"""One contact judged line by line: everything the plain evaluator needs to know of them, from the
database."""

import dataclasses
from collections.abc import Mapping
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.errors import NotFound
from meadowrun.core.audience.dates import Clock
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.audience.judge import Judge
from meadowrun.core.audience.kinds.groups import exclusion
from meadowrun.core.audience.nodes import Definition, Group, Node
from meadowrun.core.audience.persons import Happening, Mail, Person, Reacted
from meadowrun.core.channels import CHANNEL_WORDS
from meadowrun.core.guardrails.verdict import Facts
from meadowrun.people.moment import Moment
from meadowrun.segments.facts import facts_sql

_CONTACT = """
SELECT c.*, k.name AS company_name, k.attributes AS company_attributes
FROM contacts c LEFT JOIN companies k ON k.id = c.company_id
WHERE c.id = :id
"""
_EVENTS = "SELECT kind_id, at, details FROM events WHERE contact_id = :id ORDER BY at"
_CONSENTS = "SELECT channel, topic_id, agreed FROM consents WHERE contact_id = :id"
_LISTS = "SELECT list_id FROM list_members WHERE contact_id = :id"
_TAGS = "SELECT tag_id FROM contact_tags WHERE contact_id = :id"
_SCORES = "SELECT score_id, points FROM contact_scores WHERE contact_id = :id"
_REACTIONS = """
SELECT dispatch_id, kind, at, link, machine FROM reactions WHERE contact_id = :id ORDER BY at
"""
_MAILS = """
SELECT d.dispatch_id, w.id AS send_id, s.message_id, s.campaign_id,
  coalesce(g.tags, '{}') || m.tags AS tags, d.outcome, d.at, w.success_event, w.success_days,
  s.channel
FROM deliveries d
JOIN dispatches s ON s.id = d.dispatch_id
JOIN messages m ON m.id = s.message_id
LEFT JOIN campaigns g ON g.id = s.campaign_id
LEFT JOIN sends w ON w.dispatch_id = s.id
WHERE d.contact_id = :id
"""
_COLLEAGUES = "SELECT id FROM contacts WHERE company_id = :id"


@dataclasses.dataclass(frozen=True)
class Answer:
    """What one line says of a person. `value` is what it looked at, in words; groups have their
    lines' answers inside."""

    node: Node
    holds: bool
    value: str
    inside: tuple["Answer", ...] = ()


def person(session: orm.Session, contact_id: int, words: Dictionary) -> Person:
    """A contact with all that lines can ask about. Raises NotFound."""
    who = {"id": contact_id}

    def rows(statement: str) -> list[Any]:
        return list(session.execute(sa.text(statement), who))

    row = session.execute(sa.text(_CONTACT), who).mappings().one_or_none()
    if row is None:
        raise NotFound("This contact does not exist any more.")
    kinds = {spec.id: key for key, spec in words.events.items()}
    return Person(
        _values(row, words),
        tuple(Happening(kinds.get(e.kind_id, ""), e.at, e.details or {}) for e in rows(_EVENTS)),
        contact_id,
        row["company_id"],
        {(c.channel, c.topic_id): c.agreed for c in rows(_CONSENTS)},
        frozenset(number for (number,) in rows(_LISTS)),
        _mails(session, contact_id),
        {
            channel: Facts.of(rows(facts_sql(None, "", "WHERE c.id = :id", channel))[0])
            for channel in CHANNEL_WORDS
        },
        frozenset(number for (number,) in rows(_TAGS)),
        dict(rows(_SCORES)),
    )


def _values(row: Mapping[Any, Any], words: Dictionary) -> dict[str, Any]:
    """What the fields of a contact and of its company hold, by ref."""
    values: dict[str, Any] = {}
    for ref, spec in words.fields.items():
        if spec.owner == "company":
            own = row["company_attributes"] or {}
            values[ref] = row["company_name"] if spec.column else own.get(spec.key)
        else:
            values[ref] = row[spec.column] if spec.column else row["attributes"].get(spec.key)
    return values


def _mails(session: orm.Session, contact_id: int) -> tuple[Mail, ...]:
    reacted: dict[int, list[Reacted]] = {}
    for r in session.execute(
        sa.text(_REACTIONS),
        {"id": contact_id},
    ):
        reacted.setdefault(r.dispatch_id, []).append(Reacted(r.kind, r.at, r.link, r.machine))
    return tuple(
        Mail(
            m.send_id,
            m.message_id,
            m.campaign_id,
            m.tags,
            m.outcome,
            m.at,
            tuple(reacted.get(m.dispatch_id, ())),
            m.success_event,
            m.success_days,
            m.channel,
        )
        for m in session.execute(
            sa.text(_MAILS),
            {"id": contact_id},
        )
    )


def judge(moment: Moment) -> Judge:
    """A judge that can look up who works with whom."""

    def colleagues(one: Person) -> list[Person]:
        ids = moment.session.scalars(sa.text(_COLLEAGUES), {"id": one.company}).all()
        return [person(moment.session, i, moment.words) for i in ids]

    return Judge(moment.words, Clock(moment.now, moment.zone), colleagues)


def why(
    moment: Moment,
    definition: Definition,
    contact_id: int,
) -> tuple[bool, tuple[Answer, ...]]:
    """Whether a contact is in the segment, and each line with the value it looked at and its yes or
    no."""
    one, by = person(moment.session, contact_id, moment.words), judge(moment)
    return by.matches(definition, one), tuple(_answer(n, one, by) for n in definition.lines)


def _answer(node: Node, one: Person, by: Judge) -> Answer:
    inside: tuple[Answer, ...] = ()
    # “But not anyone who …” reads as one line, and is answered as one.
    if isinstance(node, Group) and node.match != "colleagues" and not exclusion(node):
        inside = tuple(_answer(line, one, by) for line in node.lines)
    return Answer(node, by.holds(node, one), by.looked_at(node, one), inside)
