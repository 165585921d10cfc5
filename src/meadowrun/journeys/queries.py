"""What is read of journeys: their names and numbers, who is where, and one person's way."""

import dataclasses
import datetime as dt
from collections.abc import Collection, Sequence

import orjson
import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import clock
from meadowrun.base.db import existing
from meadowrun.base.kept import Kept
from meadowrun.campaigns.models import Campaign
from meadowrun.core.channels import KINDS
from meadowrun.core.journeys.reading import from_json
from meadowrun.core.journeys.steps import (
    BranchStep,
    Itinerary,
    Start,
    messages_before,
)
from meadowrun.core.journeys.words import Names
from meadowrun.core.values import email_key
from meadowrun.journeys.models import (
    Journey,
    JourneyDraft,
    JourneyEdition,
    JourneyEntry,
    JourneyMove,
)
from meadowrun.messages.compiling import links_of
from meadowrun.messages.models import Message
from meadowrun.people.models import Contact, EventKind, PeopleList, Topic
from meadowrun.people.queries import dictionary
from meadowrun.scores.models import Score
from meadowrun.segments.models import Segment
from meadowrun.shell.models import User
from meadowrun.tags.queries import paths


def journey(session: orm.Session, ident: int) -> Journey:
    """One journey. Raises NotFound."""
    return existing(session, Journey, ident, "journey")


def of_campaign(session: orm.Session, campaign_id: int) -> list[Journey]:
    """The journeys of a campaign, the oldest first."""
    asked = sa.select(Journey).where(Journey.campaign_id == campaign_id).order_by(Journey.id)
    return list(session.scalars(asked))


#: Journeys on which people are and that nobody looks after who still works here.
_NOBODYS = """
SELECT j.id FROM journeys j WHERE j.state IN ('running', 'winding_down', 'paused')
AND EXISTS (SELECT 1 FROM users u WHERE NOT u.active AND u.name = j.started_by)
AND NOT EXISTS (SELECT 1 FROM users u WHERE u.active AND u.name = j.started_by) ORDER BY j.name
"""


def nobodys(session: orm.Session) -> list[Journey]:
    """Journeys that run and whose owner was deactivated."""
    return [session.get_one(Journey, ident) for ident in session.scalars(sa.text(_NOBODYS))]


def all_journeys(session: orm.Session) -> list[Journey]:
    """Every journey: those that run first, then by name."""
    order = sa.case(
        {"running": 0, "winding_down": 1, "paused": 2, "draft": 3, "ended": 4}, value=Journey.state
    )
    return list(session.scalars(sa.select(Journey).order_by(order, Journey.name)))


def of_segment(session: orm.Session, segment_id: int) -> list[Journey]:
    """The journeys that have not ended and speak of a segment, as they are walked or written."""
    open_ones = session.scalars(
        sa.select(Journey).where(Journey.state != "ended").order_by(Journey.id)
    )
    return [
        one
        for one in open_ones
        if any(
            segment_id in segments_of(itinerary)
            for itinerary in (draft(session, one), walked(session, one))
            if itinerary is not None
        )
    ]


def segments_of(itinerary: Itinerary) -> set[int]:
    """The saved segments that an itinerary speaks of."""
    asked = [one.who for one in itinerary.starts] + [one.who for one in itinerary.exits]
    for step, _, _ in itinerary.walk():
        if isinstance(step, BranchStep):
            asked += [path.who for path in step.paths]
    found = {one.segment for one in asked}
    for one in asked:
        found |= {line["segment"] for line in one.lines if line.get("kind") == "segment"}
    return found - {0}


def said_to(session: orm.Session, message_id: int) -> list[tuple[str, str]]:
    """What the events say that start the journeys in which a message goes, as they are walked or
    written: key and label of each detail, each once."""
    words = dictionary(session)
    found: dict[str, str] = {}
    open_ones = sa.select(Journey).where(Journey.state != "ended").order_by(Journey.id)
    for one in session.scalars(open_ones):
        for itinerary in (draft(session, one), walked(session, one)):
            if itinerary is None or message_id not in itinerary.messages():
                continue
            kinds = [words.event(key) for key in sorted(itinerary.starting_events())]
            found |= {detail.key: detail.label for kind in kinds if kind for detail in kind.details}
    return list(found.items())


#: So many people inside of a journey are counted where a glance is enough.
MOST_COUNTED = 10_000
#: Running journeys, the newest first: number, name, state, how many are inside, counted up to so
#: many, and whether it has a goal.
_ON_THEIR_WAY = """
SELECT j.id, j.name, j.state, j.problem, (SELECT count(*) FROM (SELECT 1 FROM journey_entries e
    WHERE e.journey_id = j.id AND e.state = 'inside' AND NOT e.tester LIMIT :most) x) AS inside,
    (SELECT coalesce(jsonb_typeof(d.itinerary->'goal') = 'object', FALSE) FROM journey_editions d
    WHERE d.journey_id = j.id AND d.number = j.edition) AS aims
FROM journeys j WHERE j.state IN ('running', 'winding_down', 'paused')
ORDER BY j.started_at DESC LIMIT :journeys
"""


@dataclasses.dataclass(frozen=True, slots=True)
class OnTheirWay:
    """A journey that people are on, and how many, up to MOST_COUNTED."""

    id: int
    name: str
    state: str
    problem: str
    inside: int
    #: it has a goal
    aims: bool

    @property
    def many(self) -> bool:
        """Whether they are more than were counted."""
        return self.inside > MOST_COUNTED


def on_their_way(session: orm.Session, journeys: int) -> list[OnTheirWay]:
    """So many of the journeys that people are on, the newest first."""
    values = {"most": MOST_COUNTED + 1, "journeys": journeys}
    return [OnTheirWay(*row) for row in session.execute(sa.text(_ON_THEIR_WAY), values)]


#: Of each journey that people are on: how many came in, and how many reached the goal, within the
#: last seven days and within the seven before.
_WEEKS = """
SELECT journey_id, count(*) FILTER (WHERE what = 'in' AND at > :week) AS came,
    count(*) FILTER (WHERE what = 'in' AND at <= :week) AS came_before,
    count(*) FILTER (WHERE what = 'goal' AND at > :week) AS reached,
    count(*) FILTER (WHERE what = 'goal' AND at <= :week) AS reached_before
FROM (
    SELECT journey_id, 'in' AS what, began_at AS at FROM journey_entries
    WHERE began_at > :since AND began_at <= :now AND NOT tester
    UNION ALL
    SELECT journey_id, 'goal', goal_at FROM journey_entries
    WHERE goal_at > :since AND goal_at <= :now AND NOT tester) x
GROUP BY journey_id
"""


@dataclasses.dataclass(frozen=True, slots=True)
class Week:
    """How many came into a journey, and how many reached its goal, within seven days and within the
    seven before."""

    came: int = 0
    came_before: int = 0
    reached: int = 0
    reached_before: int = 0


#: Weeks by journey, as they were a minute ago at most.
_weeks: Kept[dict[int, Week]] = Kept(60.0)


def weeks(session: orm.Session, now: dt.datetime, walked: Sequence[OnTheirWay]) -> dict[int, Week]:
    """The last week of each journey into which anybody came, by its number; counted anew at once
    where as many as before are not on those that are `walked`."""
    week = dt.timedelta(days=7)
    values = {"now": now, "week": now - week, "since": now - 2 * week}

    def count() -> dict[int, Week]:
        found = session.execute(sa.text(_WEEKS), values)
        return {ident: Week(*numbers) for ident, *numbers in found}

    return _weeks.get(session, tuple(walked), now, count)[0]


def count_by_campaign(session: orm.Session) -> dict[int, int]:
    """How many journeys each campaign has."""
    asked = sa.select(Journey.campaign_id, sa.func.count()).group_by(Journey.campaign_id)
    return dict(session.execute(asked).tuples().all())


def running_by_campaign(session: orm.Session) -> dict[int, list[tuple[str, str]]]:
    """The journeys of each campaign that people are on: name and path."""
    asked = sa.select(Journey).where(Journey.state.in_(("running", "winding_down", "paused")))
    found: dict[int, list[tuple[str, str]]] = {}
    for one in session.scalars(asked.order_by(Journey.name)):
        found.setdefault(one.campaign_id, []).append((one.name, f"/journeys/{one.id}"))
    return found


def running_by_message(session: orm.Session) -> dict[int, list[tuple[str, str]]]:
    """The journeys that people are on by the messages that go in them: name and path."""
    asked = (
        sa.select(Journey, JourneyEdition.itinerary)
        .join(
            JourneyEdition,
            sa.and_(
                JourneyEdition.journey_id == Journey.id, JourneyEdition.number == Journey.edition
            ),
        )
        .where(Journey.state.in_(("running", "winding_down", "paused")))
        .order_by(Journey.name)
    )
    found: dict[int, list[tuple[str, str]]] = {}
    for one, itinerary in session.execute(asked):
        for message in from_json(itinerary).messages():
            found.setdefault(message, []).append((one.name, f"/journeys/{one.id}"))
    return found


def draft(session: orm.Session, found: Journey) -> Itinerary:
    """The itinerary as it is written now."""
    return from_json(session.get_one(JourneyDraft, (found.id, found.draft)).itinerary)


def walked(session: orm.Session, found: Journey) -> Itinerary | None:
    """The itinerary that people walk; None before it was started."""
    if found.edition is None:
        return None
    return from_json(session.get_one(JourneyEdition, (found.id, found.edition)).itinerary)


def links_before(session: orm.Session, itinerary: Itinerary) -> dict[str, dict[str, str]]:
    """For each step that waits for something the links of the messages that may have gone before
    it, the nearest ones first: address → what it is called."""
    before = messages_before(itinerary)
    asked = sa.select(Message).where(Message.id.in_(set[int]().union(*before.values())))
    links = {one.id: links_of(session, one) for one in session.scalars(asked)}
    return {
        step: {href: label for number in numbers for href, label in links.get(number, {}).items()}
        for step, numbers in before.items()
    }


#: Since when a start brings people in: since the first edition after the last one without it.
_START_SINCE = """
SELECT min(at) FROM journey_editions WHERE journey_id = :journey AND number > coalesce((
    SELECT max(number) FROM journey_editions
    WHERE journey_id = :journey AND NOT itinerary -> 'starts' @> CAST(:start AS jsonb)), 0)
"""


def start_since(session: orm.Session, found: Journey, start: Start) -> dt.datetime:
    """Since when a start of a journey that was started brings people in: one that starts by
    something else by now is another."""
    said = {
        key: value
        for key in ("id", "how", "event", "date", "rhythm", "first")
        if (value := getattr(start, key))
    }
    values = {"journey": found.id, "start": orjson.dumps([said]).decode()}
    since: dt.datetime = session.execute(sa.text(_START_SINCE), values).scalar_one()
    return since


def beginning(itinerary: Itinerary, before: Itinerary | None) -> list[Start]:
    """The starts that bring people in as soon as an itinerary is started, and did not already:
    `before` is what was walked."""
    known = before.starts if before else ()
    return [
        one for one in itinerary.starts if (one.how == "everyone" or one.back) and one not in known
    ]


def names(session: orm.Session) -> Names:
    """What everything is called that an itinerary can speak of."""
    messages = session.execute(sa.select(Message.id, Message.name, Message.channel))
    return Names(
        messages={
            ident: (name, KINDS[channel].name[:1].upper() + KINDS[channel].name[1:])
            for ident, name, channel in messages
        },
        segments=dict(session.execute(sa.select(Segment.id, Segment.name)).tuples().all()),
        events=_events(session),
        tags=paths(session),
        lists=dict(session.execute(sa.select(PeopleList.id, PeopleList.name)).tuples().all()),
        topics=dict(session.execute(sa.select(Topic.id, Topic.name)).tuples().all()),
        scores=dict(session.execute(sa.select(Score.id, Score.name)).tuples().all()),
        colleagues=dict(session.execute(_COLLEAGUES).tuples().all()),
        journeys=dict(session.execute(_OPEN_ONES).tuples().all()),
        words=dictionary(session),
        today=clock.now(session).date(),
    )


_COLLEAGUES = sa.select(User.id, User.name).where(User.active)
_OPEN_ONES = sa.select(Journey.id, Journey.name).where(Journey.state != "ended")


def _events(session: orm.Session) -> dict[str, str]:
    """What people did, by the key of its kind: those that are offered, by all keys that they
    have."""
    kinds = session.scalars(sa.select(EventKind).where(~EventKind.retired))
    return {key: kind.did for kind in kinds for key in (kind.key, *kind.aka)}


def entries_of(session: orm.Session, contact_id: int) -> list[tuple[JourneyEntry, Journey]]:
    """Where a contact is or was, the latest first."""
    asked = (
        sa.select(JourneyEntry, Journey)
        .join(Journey, Journey.id == JourneyEntry.journey_id)
        .where(JourneyEntry.contact_id == contact_id)
        .order_by(JourneyEntry.id.desc())
    )
    return [(row[0], row[1]) for row in session.execute(asked)]


def channels_of(session: orm.Session, messages: set[int]) -> dict[int, str]:
    """The channel of each of some messages that are there."""
    asked = sa.select(Message.id, Message.channel).where(Message.id.in_(messages))
    return dict(session.execute(asked).tuples().all())


def has_draft(session: orm.Session, ident: int, number: int) -> bool:
    """Whether a journey has a draft of a number."""
    return session.get(JourneyDraft, (ident, number)) is not None


def campaign_names(session: orm.Session) -> dict[int, str]:
    """The name of each campaign."""
    return dict(session.execute(sa.select(Campaign.id, Campaign.name)).tuples().all())


def contact_at(session: orm.Session, address: str) -> Contact | None:
    """The contact with an email address."""
    key = email_key(address)
    return session.scalar(sa.select(Contact).where(Contact.email_key == key).limit(1))


def contacts_of(session: orm.Session, entries: Sequence[JourneyEntry]) -> dict[int, Contact]:
    """The contacts of some entries, by number; whoever was erased is missing."""
    numbers = {one.contact_id for one in entries}
    return {
        one.id: one for one in session.scalars(sa.select(Contact).where(Contact.id.in_(numbers)))
    }


def entry(session: orm.Session, journey_id: int, contact_id: int) -> JourneyEntry | None:
    """The last time that a contact was in a journey."""
    return session.scalar(
        sa.select(JourneyEntry)
        .where(JourneyEntry.journey_id == journey_id, JourneyEntry.contact_id == contact_id)
        .order_by(JourneyEntry.id.desc())
        .limit(1)
    )


def entries_by_number(session: orm.Session, idents: Collection[int]) -> dict[int, JourneyEntry]:
    """Some entries, by number."""
    asked = sa.select(JourneyEntry).where(JourneyEntry.id.in_(idents))
    return {one.id: one for one in session.scalars(asked)}


def entries(session: orm.Session, journey_id: int, contact_id: int) -> list[JourneyEntry]:
    """Every time that a contact was or is in a journey, the latest first."""
    asked = sa.select(JourneyEntry).where(
        JourneyEntry.journey_id == journey_id, JourneyEntry.contact_id == contact_id
    )
    return list(session.scalars(asked.order_by(JourneyEntry.id.desc())))


def moves(session: orm.Session, entry_id: int) -> list[JourneyMove]:
    """Every move of an entry, in order."""
    asked = sa.select(JourneyMove).where(JourneyMove.entry_id == entry_id)
    return list(session.scalars(asked.order_by(JourneyMove.id)))


#: So many people of a step are shown.
MOST_SHOWN = 200


def people_on(
    session: orm.Session, ident: int, step: str | None, state: str, most: int = MOST_SHOWN
) -> list[JourneyEntry]:
    """Who is on a step now, or stands otherwise; who came first comes first."""
    asked = sa.select(JourneyEntry).where(
        JourneyEntry.journey_id == ident, JourneyEntry.state == state, ~JourneyEntry.tester
    )
    if step is not None:
        asked = asked.where(JourneyEntry.step == step)
    return list(
        session.scalars(asked.order_by(JourneyEntry.arrived_at, JourneyEntry.id).limit(most))
    )
