"""Change steps: tags, lists, topics, fields and scores of all who are on one, in a few
statements."""

import dataclasses
import datetime as dt
import zoneinfo
from collections.abc import Sequence
from typing import Any

import orjson
import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.core import values
from meadowrun.core.audience.fields import FieldSpec
from meadowrun.core.journeys.details import number_of
from meadowrun.core.journeys.steps import TODAY, ChangeStep
from meadowrun.core.language import Wording
from meadowrun.core.timing.zones import zone_of
from meadowrun.journeys.models import Journey
from meadowrun.people.queries import dictionary

_TAG = {
    False: "INSERT INTO contact_tags (contact_id, tag_id) SELECT c.id, :number FROM contacts c "
    "WHERE c.id = ANY(:contacts) ON CONFLICT DO NOTHING",
    True: "DELETE FROM contact_tags WHERE tag_id = :number AND contact_id = ANY(:contacts)",
}
_LIST = {
    False: "INSERT INTO list_members (contact_id, list_id) SELECT c.id, :number FROM contacts c "
    "WHERE c.id = ANY(:contacts) ON CONFLICT DO NOTHING",
    True: "DELETE FROM list_members WHERE list_id = :number AND contact_id = ANY(:contacts)",
}
_THERE = {
    "tag": "SELECT 1 FROM tags WHERE id = :number",
    "list": "SELECT 1 FROM lists WHERE id = :number",
    "topic": "SELECT 1 FROM topics WHERE id = :number",
    "score": "SELECT 1 FROM scores WHERE id = :number",
}
#: Writes down a yes or a no of contacts to a topic by email, with its evidence, for those of whom
#: it is not known already.
_CONSENT = """
WITH said AS (
    INSERT INTO consents AS k (contact_id, channel, topic_id, agreed, at, how)
    SELECT c.id, 'email', :number, :agreed, :now, :how FROM contacts c WHERE c.id = ANY(:contacts)
    ORDER BY c.id
    ON CONFLICT (contact_id, channel, topic_id)
        DO UPDATE SET agreed = excluded.agreed, at = excluded.at, how = excluded.how
        WHERE k.agreed <> excluded.agreed
    RETURNING contact_id)
INSERT INTO consent_changes (contact_id, channel, topic_id, agreed, at, how)
SELECT contact_id, 'email', :number, :agreed, :now, :how FROM said
"""
#: Gives contacts points of a score, or takes them.
_POINTS = """
INSERT INTO score_points (contact_id, score_id, points, at, by, why)
SELECT c.id, :number, :points, :now, :by, :why FROM contacts c
WHERE c.id = ANY(:contacts) ORDER BY c.id
"""
#: Sets an own field of contacts to a value each; null empties it.
_OF_CONTACT = """
UPDATE contacts c SET updated_at = :now, attributes = CASE WHEN coalesce(v.value, 'null') = 'null'
    THEN c.attributes - CAST(:key AS text)
    ELSE c.attributes || jsonb_build_object(CAST(:key AS text), v.value) END
FROM jsonb_to_recordset(CAST(:rows AS jsonb)) AS v(contact bigint, value jsonb)
WHERE c.id = v.contact
"""
#: The same of their companies; of several people of one the first says.
_OF_COMPANY = """
UPDATE companies o SET attributes = CASE WHEN coalesce(x.value, 'null') = 'null'
    THEN o.attributes - CAST(:key AS text)
    ELSE o.attributes || jsonb_build_object(CAST(:key AS text), x.value) END
FROM (
    SELECT DISTINCT ON (c.company_id) c.company_id, v.value
    FROM jsonb_to_recordset(CAST(:rows AS jsonb)) AS v(contact bigint, value jsonb)
    JOIN contacts c ON c.id = v.contact WHERE c.company_id IS NOT NULL
    ORDER BY c.company_id, v.contact) x
WHERE o.id = x.company_id
"""
#: Sets one of the fields that have a column.
_COLUMN = """
UPDATE contacts c SET updated_at = :now, {column} = v.value #>> '{{}}'
FROM jsonb_to_recordset(CAST(:rows AS jsonb)) AS v(contact bigint, value jsonb)
WHERE c.id = v.contact
"""


@dataclasses.dataclass(frozen=True, slots=True)
class Came:
    """Somebody who came to a step: the contact, and the zone that they have."""

    contact: int
    timezone: str | None

    def local(self, now: dt.datetime, zone: zoneinfo.ZoneInfo) -> dt.datetime:
        """A moment on their own clock, without its zone; `zone` is for people without one."""
        return now.astimezone(zone_of(self.timezone) or zone).replace(tzinfo=None)


def change(
    session: orm.Session,
    step: ChangeStep,
    journey: Journey,
    people: Sequence[Came],
    now: dt.datetime,
    zone: zoneinfo.ZoneInfo,
) -> None:
    """Makes the change of a step; what is gone since changes nothing. `zone` is that of people
    without one, by which their day is told."""
    if step.what == "field":
        spec = dictionary(session).fields.get(step.field)
        if spec is not None and not spec.retired:
            _set(session, spec, step.value, people, now, zone)
        return
    given = {"number": step.number, "contacts": [one.contact for one in people]}
    if session.execute(sa.text(_THERE[step.what]), given).first() is None:
        return
    if step.what == "topic":
        how = Wording("the journey “%(name)s”", name=journey.name)
        consent = {**given, "agreed": not step.remove, "now": now, "how": str(how)}
        session.execute(sa.text(_CONSENT), consent)
        return
    if step.what == "score":
        points = number_of(step.value) or 0.0
        said = Wording("the journey “%(name)s”", name=journey.name)
        values_of = {
            **given,
            "points": -points if step.remove else points,
            "now": now,
            "by": journey.started_by,
            "why": str(said),
        }
        session.execute(sa.text(_POINTS), values_of)
        return
    session.execute(sa.text((_TAG if step.what == "tag" else _LIST)[step.remove]), given)


def _set(
    session: orm.Session,
    spec: FieldSpec,
    text: str,
    people: Sequence[Came],
    now: dt.datetime,
    zone: zoneinfo.ZoneInfo,
) -> None:
    """Sets a field of some people; a value that it cannot hold any more sets nothing."""
    try:
        rows = [
            {"contact": one.contact, "value": _value(spec, text, one.local(now, zone))}
            for one in people
        ]
    except values.ValueProblem:
        return
    given = {"rows": orjson.dumps(rows).decode()}
    if spec.column is not None:
        asked = sa.text(_COLUMN.format(column=spec.column))
        session.execute(asked, {**given, "now": now})
    elif spec.owner == "company":
        session.execute(sa.text(_OF_COMPANY), {**given, "key": spec.key})
    else:
        session.execute(sa.text(_OF_CONTACT), {**given, "key": spec.key, "now": now})


def _value(spec: FieldSpec, text: str, local: dt.datetime) -> Any:
    """What a field is set to, as it is stored, at a moment on their clock. Raises ValueProblem."""
    if spec.is_day and text.lower() == TODAY:
        return values.typed(spec.type, local if spec.type == "datetime" else local.date())
    if spec.ref == "timezone" and text:
        return values.timezone(text)
    return values.typed(spec.type, text or None, spec.options)
