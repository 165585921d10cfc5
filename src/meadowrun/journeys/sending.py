"""Message steps: what they send leaves by the one door, and people go on once it is settled."""

import dataclasses
import datetime as dt
from collections.abc import Iterable, Sequence

import orjson
import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.audit import Actor
from meadowrun.base.errors import Invalid
from meadowrun.campaigns.models import Campaign
from meadowrun.core.guardrails.outcomes import OPEN
from meadowrun.core.journeys.steps import MessageStep
from meadowrun.core.language import Wording
from meadowrun.gateways.channels import CHANNELS
from meadowrun.journeys.models import Journey, JourneyDispatch, JourneyEntry
from meadowrun.messages.actions import edition_to_send
from meadowrun.messages.models import Edition, Message
from meadowrun.outgoing.actions import give_up, open_dispatch, put_some
from meadowrun.outgoing.models import Dispatch

#: After so long a step's dispatch takes nobody new: limits look at the months of what was had.
_FRESH = dt.timedelta(days=20)
#: When those are tried again whose message cannot be sent to anybody.
_TRY_AGAIN = dt.timedelta(minutes=5)
#: So long after it could have waited a message counts as lost that cannot be found.
_LOST_AFTER = dt.timedelta(hours=1)
#: Outcomes after which people have it, or may.
SENT = ("delivered", "bounced", "in_doubt")

#: Has entries wait for their delivery.
_ASKED = """
UPDATE journey_entries e SET phase = 'sending', due = NULL, hold_until = :hold,
    dispatch_id = :dispatch, delivery = v.delivery
FROM jsonb_to_recordset(CAST(:rows AS jsonb)) AS v(id bigint, delivery bigint) WHERE e.id = v.id
"""
#: The dispatch of a step that takes people now.
_OPEN = """
SELECT s.id FROM journey_dispatches j JOIN dispatches s ON s.id = j.dispatch_id
WHERE j.journey_id = :journey AND j.step = :step AND j.tester = :tester
    AND s.edition_id = :edition AND s.taken_at > :since
    AND s.state = 'running' AND s.sender_id IS NOT DISTINCT FROM :sender
    AND s.topic_id IS NOT DISTINCT FROM :topic AND s.consent_rule = :rule
    AND s.hours = CAST(:hours AS jsonb) AND s.best_hour = :best
ORDER BY s.id DESC LIMIT 1
"""
#: How many wait for their message, when what sends it was begun, at the soonest and at the latest,
#: and when the first has waited for as long as it may. The months between are all that is planned
#: for.
_SENDING = """
SELECT count(*) AS people, min(s.taken_at) AS oldest, max(s.taken_at) AS newest,
    min(e.hold_until) AS held
FROM journey_entries e LEFT JOIN dispatches s ON s.id = e.dispatch_id WHERE e.phase = 'sending'
"""
#: Entries whose message is settled: entry, journey, step, outcome, when, delivery, attempt.
_SETTLED = """
SELECT e.id, e.journey_id, e.step, d.outcome, coalesce(d.at, :now) AS at, e.delivery, e.attempt
FROM journey_entries e JOIN dispatches s ON s.id = e.dispatch_id
JOIN journeys j ON j.id = e.journey_id
JOIN deliveries d ON d.contact_id = e.contact_id AND d.dispatch_id = s.id
    AND d.taken_at = s.taken_at AND d.number = e.delivery
    AND d.taken_at BETWEEN :oldest AND :newest
WHERE e.phase = 'sending' AND j.state = ANY(:moving)
AND (d.outcome <> ALL(:open) OR d.outcome = 'in_doubt')
ORDER BY e.id LIMIT :most FOR UPDATE OF e SKIP LOCKED
"""
#: Entries whose message has waited for as long as it may: dispatch and delivery.
_HELD = """
SELECT dispatch_id, delivery FROM journey_entries
WHERE phase = 'sending' AND hold_until <= :now LIMIT :most
"""
#: Entries whose message cannot be found any more, long after it could have waited: the same. A
#: merge can leave a delivery with the record that went.
_LOST = """
SELECT e.id, e.journey_id, e.step, 'lost', CAST(:now AS timestamptz), e.delivery, e.attempt
FROM journey_entries e JOIN journeys j ON j.id = e.journey_id
WHERE e.phase = 'sending' AND j.state = ANY(:moving)
AND e.hold_until <= :since AND e.id <> ALL(:known)
AND NOT EXISTS (SELECT 1 FROM deliveries d JOIN dispatches s ON s.id = d.dispatch_id
    WHERE d.contact_id = e.contact_id AND s.id = e.dispatch_id AND d.taken_at = s.taken_at
    AND d.number = e.delivery)
ORDER BY e.id LIMIT :most FOR UPDATE OF e SKIP LOCKED
"""
_WAS_SENT = """
UPDATE journey_entries e SET sent_delivery = e.delivery WHERE e.id = ANY(:entries)
"""
#: Has entries try the next message of their step.
_NEXT = """
UPDATE journey_entries e SET phase = 'due', due = v.at, attempt = v.attempt, hold_until = NULL,
    delivery = NULL, dispatch_id = NULL
FROM jsonb_to_recordset(CAST(:rows AS jsonb)) AS v(id bigint, at timestamptz, attempt smallint)
WHERE e.id = v.id AND e.state = 'inside'
"""
_PROBLEM = "UPDATE journey_entries SET due = :due WHERE id = ANY(:entries)"


@dataclasses.dataclass(frozen=True, slots=True)
class Settled:
    """What became of the message of one entry."""

    id: int
    journey_id: int
    step: str
    outcome: str
    at: dt.datetime
    delivery: int
    #: which of the messages of the step it was
    attempt: int

    @property
    def sent(self) -> bool:
        """Whether they have it, or may; who may is not written to again."""
        return self.outcome in SENT


def ask(
    session: orm.Session,
    journey: Journey,
    step: MessageStep,
    message: int,
    people: Sequence[tuple[int, int]],
    now: dt.datetime,
    url: str,
) -> None:
    """Asks for a message of a step for some people, entry and contact each; they stay until it is
    settled. Where it cannot be sent to anybody, the journey says why, and they wait."""
    tried = testing(session, [entry for entry, _ in people])
    for tester in (False, True):
        some = [one for one in people if (one[0] in tried) is tester]
        if some:
            _ask(session, _Asked(journey, step, message, tester), some, now, url)


def testing(session: orm.Session, entries: Iterable[int]) -> set[int]:
    """Which of some entries are of testers."""
    asked = sa.select(JourneyEntry.id).where(JourneyEntry.id.in_(entries), JourneyEntry.tester)
    return set(session.scalars(asked))


@dataclasses.dataclass(frozen=True, slots=True)
class _Asked:
    """A message of a step, for everybody or for testers."""

    journey: Journey
    step: MessageStep
    message: int
    tester: bool


def _ask(
    session: orm.Session,
    wanted: _Asked,
    people: Sequence[tuple[int, int]],
    now: dt.datetime,
    url: str,
) -> None:
    journey = wanted.journey
    try:
        dispatch = _dispatch(session, wanted, now, url)
    except Invalid as problem:
        journey.problem = str(problem)
        values = {"due": now + _TRY_AGAIN, "entries": [entry for entry, _ in people]}
        session.execute(sa.text(_PROBLEM), values)
        return
    journey.problem = ""
    asked = sa.select(JourneyEntry.contact_id, JourneyEntry.details, JourneyEntry.control)
    known = session.execute(asked.where(JourneyEntry.id.in_([entry for entry, _ in people]))).all()
    details = {row.contact_id: row.details for row in known}
    # Service messages go to everybody: nobody is kept from what they asked for.
    compared = journey.consent_rule != "service"
    control = {row.contact_id for row in known if row.control and compared}
    numbers = put_some(session, dispatch, details, now, control)
    rows = [{"id": entry, "delivery": numbers[contact]} for entry, contact in people]
    session.execute(
        sa.text(_ASKED),
        {
            "hold": now + _holds(session, wanted.step, dispatch),
            "dispatch": dispatch.id,
            "rows": orjson.dumps(rows).decode(),
        },
    )


def _holds(session: orm.Session, step: MessageStep, dispatch: Dispatch) -> dt.timedelta:
    """How long a message of a step may wait to be handed over: no longer than it is of use."""
    holds = dt.timedelta(hours=step.hold)
    document = session.get_one(Edition, dispatch.edition_id).document
    life = CHANNELS[dispatch.channel].life(document)
    return holds if life is None else min(holds, life)


def _dispatch(session: orm.Session, wanted: _Asked, now: dt.datetime, url: str) -> Dispatch:
    """The dispatch by which a message of a step leaves now. Raises Invalid where it cannot."""
    journey = wanted.journey
    message = session.get(Message, wanted.message)
    if message is None:
        raise Invalid("A message of this journey is gone. Choose another.")
    who = Actor(None, journey.started_by, "author")
    edition = edition_to_send(session, who, now, message, url, "approved")
    channel = CHANNELS[message.channel]
    if journey.sender_id is None:
        raise Invalid("Choose the sender of this journey.")
    # A message that is shown once somebody comes waits there; testers do not wait for an hour.
    at_once = channel.waits_there or wanted.tester
    hours = {} if at_once else wanted.step.within(journey.hours)
    best = wanted.step.best and not at_once
    found = session.execute(
        sa.text(_OPEN),
        {
            "journey": journey.id,
            "step": wanted.step.id,
            "tester": wanted.tester,
            "edition": edition.id,
            "since": now - _FRESH,
            "sender": journey.sender_id,
            "topic": journey.topic_id,
            "rule": journey.consent_rule,
            "hours": orjson.dumps(hours).decode(),
            "best": best,
        },
    ).scalar()
    if found is not None:
        return session.get_one(Dispatch, found)
    campaign = session.get_one(Campaign, journey.campaign_id)
    name = f"{journey.name}: {message.name}"
    asked = Dispatch(
        owner_kind="journey",
        owner_id=journey.id,
        name=Wording("%(name)s, for testers", name=name) if wanted.tester else name,
        channel=message.channel,
        message_id=message.id,
        edition_id=edition.id,
        sender_id=journey.sender_id,
        topic_id=journey.topic_id,
        campaign_id=campaign.id,
        tags=sorted({*campaign.tags, *message.tags}),
        consent_rule=journey.consent_rule,
        hours=hours,
        best_hour=best,
        obeys_caps=not at_once,
        counts=not at_once,
        facts=campaign.facts,
        heard=True,
    )
    return _opened(session, now, wanted, asked)


def _opened(session: orm.Session, now: dt.datetime, wanted: _Asked, asked: Dispatch) -> Dispatch:
    """Opens a dispatch, as that of a step."""
    made = open_dispatch(session, now, asked)
    session.add(
        JourneyDispatch(
            dispatch_id=made.id,
            journey_id=wanted.journey.id,
            step=wanted.step.id,
            tester=wanted.tester,
        )
    )
    session.flush()
    return made


def try_next(session: orm.Session, people: Sequence[Settled]) -> None:
    """Has those who may not get a message of their step try the one after it."""
    rows = [{"id": one.id, "at": one.at.isoformat(), "attempt": one.attempt + 1} for one in people]
    if rows:
        session.execute(sa.text(_NEXT), {"rows": orjson.dumps(rows).decode()})


def settled(
    session: orm.Session, now: dt.datetime, moving: Sequence[str], most: int
) -> list[Settled]:
    """People whose message is settled, locked; what was sent is kept with them."""
    asked = session.execute(sa.text(_SENDING)).one()
    if not asked.people:
        return []
    held: dict[int, list[int]] = {}
    for dispatch_id, delivery in session.execute(sa.text(_HELD), {"now": now, "most": most}):
        held.setdefault(dispatch_id, []).append(delivery)
    for dispatch_id, numbers in held.items():
        give_up(session, session.get_one(Dispatch, dispatch_id), numbers)
    values = {"now": now, "moving": list(moving), "most": most}
    span = {"open": list(OPEN), "oldest": asked.oldest, "newest": asked.newest}
    found = [Settled(*row) for row in session.execute(sa.text(_SETTLED), {**values, **span})]
    if asked.held is not None and asked.held <= now - _LOST_AFTER:
        lost = {**values, "known": [one.id for one in found], "since": now - _LOST_AFTER}
        found += [Settled(*row) for row in session.execute(sa.text(_LOST), lost)]
    sent = [one.id for one in found if one.sent]
    if sent:
        session.execute(sa.text(_WAS_SENT), {"entries": sent})
    return found
