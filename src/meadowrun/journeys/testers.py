"""Testers: contacts, mostly colleagues, who try a journey. They walk it as everybody does, whatever
brings them in, but their waits can be cut short, and they are kept out of all figures and limits.
"""

import dataclasses
import datetime as dt

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import audit
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Invalid
from meadowrun.core.language import Wording
from meadowrun.journeys.models import Journey, JourneyEntry, JourneyTester
from meadowrun.people.models import Contact

#: How long a wait of a tester may take, in seconds, as it is chosen; 0: as long as for everybody.
MOST_WAITS = {
    60: Wording("a minute"),
    600: Wording("ten minutes"),
    3600: Wording("an hour"),
    0: Wording("as long as for everybody"),
}
#: So many testers a journey may have.
MOST_TESTERS = 50


@dataclasses.dataclass(frozen=True, slots=True)
class Tester:
    """Somebody who tries a journey, how long each wait of theirs may take, and where they are:
    their last entry, if they ever came in."""

    contact: Contact
    most_wait: int | None
    entry: JourneyEntry | None


def testers(session: orm.Session, journey_id: int) -> list[Tester]:
    """Who tries a journey, in the order in which they were added."""
    asked = (
        sa.select(JourneyTester, Contact)
        .join(Contact, Contact.id == JourneyTester.contact_id)
        .where(JourneyTester.journey_id == journey_id)
        .order_by(JourneyTester.at, JourneyTester.contact_id)
    )
    rows = [(row[0], row[1]) for row in session.execute(asked)]
    latest = sa.select(sa.func.max(JourneyEntry.id)).where(
        JourneyEntry.journey_id == journey_id,
        JourneyEntry.tester,
        JourneyEntry.contact_id.in_([contact.id for _, contact in rows]),
    )
    found = session.scalars(
        sa.select(JourneyEntry).where(
            JourneyEntry.id.in_(latest.group_by(JourneyEntry.contact_id).scalar_subquery())
        )
    )
    entries = {one.contact_id: one for one in found}
    return [Tester(contact, one.most_wait, entries.get(contact.id)) for one, contact in rows]


def make(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    journey: Journey,
    contact_id: int,
    most_wait: int,
) -> None:
    """Makes a contact a tester from their next time on, with waits of at most so many seconds (0:
    as long as for everybody). Raises Invalid for too many, or a time that is not offered."""
    if most_wait not in MOST_WAITS:
        raise Invalid("Choose how long a tester waits at a step.", "most_wait")
    found = session.get(JourneyTester, (journey.id, contact_id))
    if found is None:
        asked = sa.select(sa.func.count()).where(JourneyTester.journey_id == journey.id)
        if session.execute(asked).scalar_one() >= MOST_TESTERS:
            raise Invalid(
                Wording("A journey has %(most)s testers at most.", most=MOST_TESTERS), "email"
            )
        found = JourneyTester(journey_id=journey.id, contact_id=contact_id)
        session.add(found)
    found.most_wait, found.by, found.at = most_wait or None, actor.name, now
    session.flush()
    audit.record(session, actor, now, "made a tester of", "journey", journey.id, journey.name)


def remove(
    session: orm.Session, actor: Actor, now: dt.datetime, journey: Journey, contact_id: int
) -> None:
    """Has a contact be like everybody from their next time on."""
    found = session.get(JourneyTester, (journey.id, contact_id))
    if found is not None:
        session.delete(found)
        did = "removed a tester from"
        audit.record(session, actor, now, did, "journey", journey.id, journey.name)
