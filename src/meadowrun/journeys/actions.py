"""Verbs of journeys: begun, written, started, paused, wound down, ended; people brought in or taken
out by hand."""

import dataclasses
import datetime as dt
from collections.abc import Callable, Collection, Mapping
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import audit, jobs
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.campaigns.models import Campaign
from meadowrun.core.content.findings import MUST
from meadowrun.core.guardrails.verdict import RULES
from meadowrun.core.journeys import edit
from meadowrun.core.journeys.concerned import target_of
from meadowrun.core.journeys.flat import END, flatten
from meadowrun.core.journeys.reading import from_json, to_json
from meadowrun.core.journeys.steps import (
    Itinerary,
    MessageStep,
    TaskStep,
    WaitForStep,
)
from meadowrun.core.journeys.words import starts_words
from meadowrun.core.language import Wording
from meadowrun.core.timing.hours import Hours, HoursError
from meadowrun.core.wording import count_of, free_name
from meadowrun.journeys import checking, entering, queries, testers
from meadowrun.journeys.entering import Happened
from meadowrun.journeys.leaving import take_off
from meadowrun.journeys.models import (
    MOVES,
    Journey,
    JourneyDay,
    JourneyDispatch,
    JourneyDraft,
    JourneyEdition,
    JourneySeen,
)
from meadowrun.journeys.moves import Move
from meadowrun.journeys.walks import Walk
from meadowrun.messages import actions as messages
from meadowrun.messages.models import Message
from meadowrun.messages.senders import Sender
from meadowrun.outgoing import actions as outgoing
from meadowrun.outgoing.models import Dispatch
from meadowrun.outgoing.settling import locked
from meadowrun.people.models import Contact, EventKind
from meadowrun.tasks.actions import note_kind


def create(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    campaign: Campaign,
    name: str,
    begin: Itinerary | None = None,
) -> Journey:
    """A journey of a campaign, without a step yet or with those of an itinerary to begin from.
    Raises Invalid."""
    name = " ".join(name.split())
    if not name:
        raise Invalid("Give the journey a name.", "name")
    made = Journey(
        campaign_id=campaign.id,
        name=name[:200],
        state="draft",
        draft=1,
        version=1,
        sender_id=session.scalar(sa.select(Sender.id).order_by(Sender.id).limit(1)),
        created_at=now,
        changed_at=now,
    )
    session.add(made)
    session.flush()
    session.add(
        JourneyDraft(
            journey_id=made.id,
            number=1,
            itinerary=to_json(begin or Itinerary()),
            did="",
            by=actor.name,
            at=now,
        )
    )
    session.flush()
    audit.record(session, actor, now, "began", "journey", made.id, made.name)
    return made


def copy(session: orm.Session, actor: Actor, now: dt.datetime, found: Journey) -> Journey:
    """Another journey of the same campaign, with the same itinerary and sent in the same way, not
    started."""
    campaign = session.get_one(Campaign, found.campaign_id)
    name = str(Wording("Copy of %(name)s", name=found.name))
    made = create(session, actor, now, campaign, name)
    made.sender_id, made.topic_id = found.sender_id, found.topic_id
    made.consent_rule, made.hours = found.consent_rule, dict(found.hours)
    kept = queries.draft(session, found)
    write(session, actor, now, made, made.version, "", lambda _: kept)
    return made


def rename(session: orm.Session, actor: Actor, now: dt.datetime, found: Journey, name: str) -> None:
    """Gives a journey another name. Raises Invalid."""
    name = " ".join(name.split())[:200]
    if not name:
        raise Invalid("Give the journey a name.", "name")
    audit.record(session, actor, now, "renamed", "journey", found.id, name, before=found.name)
    found.name = name
    session.flush()


#: Limits at which a journey pauses itself, in percent of what was sent within a day: the least and
#: the most that can be set.
MOST_SHARE = 50.0


@dataclasses.dataclass(frozen=True, slots=True)
class Limits:
    """When a journey pauses itself: where more than a share of its messages of a day bounced, led
    to complaints or could not be filled in, in percent, or more people than that came in within an
    hour; None: never."""

    bounces: float | None
    complaints: float | None
    unfilled: float | None
    an_hour: int | None


def set_safety(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    found: Journey,
    wanted: Limits,
) -> None:
    """Sets when a journey pauses itself. Raises Invalid."""
    an_hour = wanted.an_hour
    for field in ("bounces", "complaints", "unfilled"):
        share = getattr(wanted, field)
        if share is not None and not 0 < share <= MOST_SHARE:
            raise Invalid("Give a share above 0 and up to 50 percent, or nothing.", field)
    if an_hour is not None and not 1 <= an_hour <= 10_000_000:
        raise Invalid("Give a number of people from 1 on, or nothing.", "an_hour")
    found.most_bounces, found.most_complaints = wanted.bounces, wanted.complaints
    found.most_unfilled, found.most_an_hour = wanted.unfilled, wanted.an_hour
    _written(session, found, now)
    said = "changed when it pauses itself"
    audit.record(session, actor, now, said, "journey", found.id, found.name)


def write(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    found: Journey,
    version: int,
    did: str,
    change: Callable[[Itinerary], Itinerary],
) -> Itinerary:
    """Makes a change of the draft, which can be undone; `did` says it in words. Raises Conflict
    where somebody else wrote meanwhile, and what the change raises."""
    _lock(session, found, version)
    before = queries.draft(session, found)
    walked = queries.walked(session, found)
    if walked is not None:
        # Also where changes were undone: a step that people walk is never taken for a new one.
        before = dataclasses.replace(before, ids=max(before.ids, walked.ids))
    after = from_json(to_json(change(before)))
    if after == before:
        return before
    if any(isinstance(step, TaskStep) for step, _, _ in after.walk()):
        note_kind(session)
    # What was undone before is gone for good.
    session.execute(
        sa.delete(JourneyDraft).where(
            JourneyDraft.journey_id == found.id, JourneyDraft.number > found.draft
        )
    )
    found.draft += 1
    session.add(
        JourneyDraft(
            journey_id=found.id,
            number=found.draft,
            itinerary=to_json(after),
            did=did,
            by=actor.name,
            at=now,
        )
    )
    _written(session, found, now)
    return after


def undo(session: orm.Session, now: dt.datetime, found: Journey, version: int, by: int) -> None:
    """Goes back (-1) or forward (1) by one change of the draft, as far as there is one. Raises
    Conflict."""
    _lock(session, found, version)
    if session.get(JourneyDraft, (found.id, found.draft + by)) is not None:
        found.draft += by
        _written(session, found, now)


def _lock(session: orm.Session, found: Journey, version: int) -> None:
    session.refresh(found, with_for_update=True)
    if found.version != version:
        raise Conflict("Somebody else changed this journey meanwhile. Reload the page.")
    if found.state == "ended":
        raise Conflict("This journey has ended.")


def _written(session: orm.Session, found: Journey, now: dt.datetime) -> None:
    found.version += 1
    found.changed_at = now
    session.flush()


def set_sending(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    found: Journey,
    sender_id: int | None,
    topic_id: int | None,
    rule: str,
    hours: Mapping[str, str],
) -> None:
    """Sets from whom its messages are, what they are about, who may get them, and within which
    hours ({"from": "09:00", "to": "17:00"}; {}: at any). Raises Invalid."""
    if rule not in RULES:
        raise Invalid("Choose who may get its messages.", "rule")
    if len(hours) == 1:
        raise Invalid("Give both hours, or none.", "from")
    try:
        Hours.of(hours)
    except HoursError as problem:
        raise Invalid(problem.args[0], "from") from None
    found.sender_id, found.topic_id, found.consent_rule = sender_id, topic_id, rule
    found.hours = dict(hours)
    _written(session, found, now)
    audit.record(session, actor, now, "changed how it sends", "journey", found.id, found.name)


def write_message(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    found: Journey,
    version: int,
    step: str,
    document: Mapping[str, Any],
    channel: str,
) -> Message:
    """Begins the message of a step that has none yet, called as the step says what it should do;
    the step sends it from then on. Raises Invalid, ItineraryError, Conflict."""
    asked = queries.draft(session, found).step(step)
    if not isinstance(asked, MessageStep):
        raise Invalid("This step sends no message.")
    if queries.channels_of(session, {asked.message}):
        raise Invalid("This step has a message already. Edit that one, or choose another.")
    wanted = asked.name or asked.note or found.name
    taken = set(
        session.scalars(
            sa.select(Message.name).where(Message.name.startswith(wanted, autoescape=True))
        )
    )
    made = messages.create(session, actor, now, free_name(wanted, taken), dict(document), channel)
    write(
        session,
        actor,
        now,
        found,
        version,
        Wording("began a message"),
        lambda itinerary: edit.set_values(itinerary, step, message=made.id),
    )
    return made


#: What stands for out of the journey where it is said where people go.
OUT = "out"


def start(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    found: Journey,
    version: int,
    inner: Collection[str] = (),
    to: Mapping[str, str] | None = None,
) -> None:
    """Starts a journey, or has people go on by its newest draft as the next edition; `inner` are
    the machines inside this network that may be called. `to` says where those go who stand on steps
    that are taken away: step → another step, or OUT; else they go behind it. Raises Invalid where
    something must be fixed first, Conflict."""
    _lock(session, found, version)
    itinerary = queries.draft(session, found)
    places = {step: place for step, place in (to or {}).items() if place}
    # A step that is switched off holds nobody.
    if any(place not in (OUT, *flatten(itinerary)) for place in places.values()):
        raise Invalid("The step that people were to go to is not there any more. Choose another.")
    stops = [
        one.text for one in checking.findings(session, found, itinerary, inner) if one.level == MUST
    ]
    if stops:
        raise Invalid(stops[0])
    before = queries.walked(session, found)
    if before is not None and dataclasses.replace(before, ids=itinerary.ids) == itinerary:
        raise Conflict("Nothing was changed since it started.")
    found.edition = (found.edition or 0) + 1
    session.add(
        JourneyEdition(
            journey_id=found.id,
            number=found.edition,
            itinerary=to_json(itinerary),
            by=actor.name,
            at=now,
        )
    )
    session.flush()
    first_time = found.started_at is None
    if first_time:
        found.state, found.started_at, found.started_by = "running", now, actor.name
    elif before is not None:
        _carry_over(session, found, before, itinerary, now, places)
        if before.door.hourly != itinerary.door.hourly:
            entering.give_turns(session, Walk.of(session, found), now)
    _written(session, found, now)
    note_heard(session)
    for one in queries.beginning(itinerary, before):
        jobs.enqueue(session, "journeys.begin", journey_id=found.id, start=one.id)
    # What a start saw counts for nothing once it was taken away.
    kept = [one.id for one in itinerary.starts]
    for table in (JourneySeen, JourneyDay):
        session.execute(
            sa.delete(table).where(table.journey_id == found.id, table.start.not_in(kept))
        )
    jobs.enqueue(session, "journeys.sweep")
    did = "started" if first_time else "made an edition of"
    audit.record(session, actor, now, did, "journey", found.id, found.name, edition=found.edition)


#: People on a step that is taken away: their entries.
_ON = """
SELECT id FROM journey_entries WHERE journey_id = :journey AND step = :step AND state = 'inside'
FOR UPDATE
"""
#: Whoever waits is looked at again by the new edition: a wait is worked out anew from when they
#: came.
_AGAIN = """
UPDATE journey_entries SET phase = 'due', due = arrived_at
WHERE journey_id = :journey AND phase IN ('waiting', 'awaiting')
"""


def _carry_over(
    session: orm.Session,
    found: Journey,
    before: Itinerary,
    after: Itinerary,
    now: dt.datetime,
    to: Mapping[str, str],
) -> None:
    """People go on in the new edition on the step they are on; those on a step that is gone where
    it is said, else on the next one that followed it and is still there."""
    old, new = flatten(before), flatten(after)
    for step in old:
        if step in new:
            continue
        values = {"journey": found.id, "step": step}
        ids = session.scalars(sa.text(_ON), values).all()
        if to.get(step) == OUT:
            take_off(session, [Move(ident, END, now, "removed", "left") for ident in ids])
            continue
        target = to.get(step) or target_of(step, old, new)
        take_off(session, [Move(ident, target, now, "edited") for ident in ids])
    session.execute(sa.text(_AGAIN), {"journey": found.id})


def note_heard(session: orm.Session) -> None:
    """Notes for which kinds of event something waits."""
    wanted: set[str] = set()
    for found in session.scalars(sa.select(Journey).where(Journey.state.in_((*MOVES, "paused")))):
        itinerary = queries.walked(session, found)
        if itinerary is None:
            continue
        wanted |= itinerary.starting_events() | {rule.event for rule in itinerary.exits}
        if itinerary.goal:
            wanted.add(itinerary.goal.event)
        for step, _, _ in itinerary.walk():
            if isinstance(step, WaitForStep):
                wanted |= {path.event for path in step.paths}
    for kind in session.scalars(sa.select(EventKind).order_by(EventKind.id)):
        heard = not wanted.isdisjoint((kind.key, *kind.aka))
        if kind.heard != heard:
            kind.heard = heard
    session.flush()


def pause(session: orm.Session, actor: Actor, now: dt.datetime, found: Journey) -> None:
    """Nobody comes in, goes on or is sent anything until it is resumed. Raises Conflict."""
    _turn(session, actor, now, found, MOVES, "paused", "paused")
    for dispatch in _dispatches(session, found, "running"):
        outgoing.pause(session, now, dispatch)


def resume(session: orm.Session, actor: Actor, now: dt.datetime, found: Journey) -> None:
    """Goes on. What came too late meanwhile goes on now. Raises Conflict."""
    _turn(session, actor, now, found, ("paused", "winding_down"), "running", "resumed")
    found.resumed_at, found.problem = now, ""
    walk = Walk.of(session, found)
    if walk.itinerary.door.hourly:
        # Whose turn came meanwhile begin one after the other all the same.
        entering.give_turns(session, walk, now)
    for dispatch in _dispatches(session, found, "paused"):
        outgoing.resume(session, now, dispatch)
    jobs.enqueue(session, "journeys.sweep")


def wind_down(session: orm.Session, actor: Actor, now: dt.datetime, found: Journey) -> None:
    """Nobody new comes in; who is inside goes on to the end. Raises Conflict."""
    _turn(session, actor, now, found, ("running",), "winding_down", "is winding down")


#: Takes everybody out of a journey.
_EVERYBODY = """
SELECT id FROM journey_entries WHERE journey_id = :journey AND state = 'inside' FOR UPDATE
"""


def end(session: orm.Session, actor: Actor, now: dt.datetime, found: Journey) -> None:
    """Ends a journey for good: who is inside leaves, what waits is not sent. Raises Conflict."""
    _turn(session, actor, now, found, (*MOVES, "paused"), "ended", "ended")
    found.ended_at = now
    ids = session.scalars(sa.text(_EVERYBODY), {"journey": found.id}).all()
    take_off(session, [Move(ident, END, now, "ended", "left") for ident in ids])
    for state in ("running", "paused"):
        for dispatch in _dispatches(session, found, state):
            outgoing.stop(session, now, dispatch)
    note_heard(session)


def _turn(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    found: Journey,
    states: tuple[str, ...],
    to: str,
    did: str,
) -> None:
    """Sets a journey to another state. Raises Conflict where it stands otherwise."""
    session.refresh(found, with_for_update=True)
    if found.state not in states:
        raise Conflict("This journey was changed meanwhile. Reload the page.")
    found.state = to
    _written(session, found, now)
    audit.record(session, actor, now, did, "journey", found.id, found.name)


def _dispatches(session: orm.Session, found: Journey, state: str) -> list[Dispatch]:
    """What a journey sends, in a state, locked in order."""
    asked = (
        sa.select(Dispatch.id)
        .join(JourneyDispatch, JourneyDispatch.dispatch_id == Dispatch.id)
        .where(JourneyDispatch.journey_id == found.id, Dispatch.state == state)
        .order_by(Dispatch.id)
    )
    return [locked(session, ident) for ident in session.scalars(asked).all()]


def take_over(session: orm.Session, actor: Actor, now: dt.datetime, found: Journey) -> None:
    """Makes somebody the one who looks after a journey that was started: who is told of it, and
    gets its tasks where nobody is named. Raises Conflict for one that was never started."""
    if not found.started_by:
        raise Conflict("It was never started; the person who starts it will look after it.")
    before, found.started_by = found.started_by, actor.name
    audit.record(session, actor, now, "took over", "journey", found.id, found.name, after=before)


def delete(session: orm.Session, actor: Actor, now: dt.datetime, found: Journey) -> None:
    """Deletes a journey that was never started. Raises Conflict."""
    if found.state != "draft":
        raise Conflict("A journey that was started stays on record. It can be ended.")
    audit.record(session, actor, now, "deleted", "journey", found.id, found.name)
    session.delete(found)


def bring_in(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    found: Journey,
    contacts: list[int],
    lane: str = "",
    most_wait: int | None = None,
) -> int:
    """Brings contacts into a lane by hand or by the API, as far as the journey lets them; says how
    many. With `most_wait` they become testers whose waits take so many seconds (0: as long as for
    everybody). Raises Conflict where it takes nobody in, Invalid for a lane that is not there."""
    if found.state != "running":
        raise Conflict("Nobody can come into this journey now.")
    walk = Walk.of(session, found)
    if lane not in walk.first:
        raise Invalid("This lane is not there any more.", "lane")
    if most_wait is not None:
        for contact in dict.fromkeys(contacts):
            testers.make(session, actor, now, found, contact, most_wait)
    starts = [Happened(contact, None, now, None, now) for contact in dict.fromkeys(contacts)]
    entered = entering.enter(session, walk, starts, "by_hand", lane=lane)
    audit.record(
        session, actor, now, "brought people into", "journey", found.id, found.name, people=entered
    )
    jobs.enqueue(session, "journeys.sweep")
    return entered


def why_not_in(session: orm.Session, found: Journey, who: Contact, now: dt.datetime) -> Wording:
    """Why a contact is not in a journey, in words."""
    itinerary = queries.walked(session, found)
    if itinerary is None:
        return Wording("it was never started")
    entry = queries.entry(session, found.id, who.id)
    if entry is not None and entry.state == "inside":
        return Wording("they are inside already")
    if entry is not None and itinerary.again == "once":
        return Wording("they were in it before, and it is once per person")
    if entry is not None and itinerary.again == "after":
        days = count_of(itinerary.again_days, "day")
        return Wording("they were in it before, and come in again after %(days)s", days=days)
    names = queries.names(session)
    return Wording(
        "it did not happen since it runs: %(start)s", start=starts_words(itinerary, names)
    )


#: Every time that a contact is inside, locked: entries.
_OF_CONTACT = """
SELECT id FROM journey_entries WHERE journey_id = :journey AND contact_id = :contact
AND state = 'inside' ORDER BY id FOR UPDATE
"""


def take_out(
    session: orm.Session, actor: Actor, now: dt.datetime, found: Journey, contact_id: int
) -> None:
    """Takes a contact out by hand. Raises Conflict where they are not inside."""
    asked = sa.text(_OF_CONTACT)
    inside = session.scalars(asked, {"journey": found.id, "contact": contact_id}).all()
    if not inside:
        raise Conflict("This person is not in the journey any more.")
    take_off(session, [Move(ident, END, now, "by_hand", "left") for ident in inside])
    audit.record(session, actor, now, "removed a contact from", "journey", found.id, found.name)
