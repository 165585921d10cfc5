"""Gathers what a rehearsal goes by: real people, what people really did, hours, limits, and what is
planned; and lets the journey pass in imagined time. Nothing leaves, nothing is written."""

import dataclasses
import datetime as dt
import time
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
import sqlalchemy as sa

from meadowrun.base.errors import Invalid
from meadowrun.campaigns.models import Campaign
from meadowrun.core.guardrails.caps import Cap
from meadowrun.core.guardrails.guards import NO, OF_A_SEND, UNKNOWN, YES, Facts, verdicts
from meadowrun.core.journeys.chance import in_control
from meadowrun.core.journeys.clocks import DAY, Clocks, Floats, Ints
from meadowrun.core.journeys.flat import first_steps, flatten, lifts
from meadowrun.core.journeys.imagined import (
    Leaving,
    People,
    Rehearsal,
    Starts,
    Texts,
    World,
)
from meadowrun.core.journeys.rehearsal import options, rehearse
from meadowrun.core.journeys.steps import (
    BranchStep,
    Itinerary,
    MessageStep,
    WaitStep,
    Who,
)
from meadowrun.core.timing.best_hours import open_hours
from meadowrun.core.timing.hours import Hours
from meadowrun.core.timing.zones import zone_of
from meadowrun.gateways.channels import CHANNELS
from meadowrun.journeys import imagined_starts
from meadowrun.journeys.imagined_elsewhere import from_elsewhere
from meadowrun.journeys.imagined_pasts import gathered_pasts
from meadowrun.journeys.imagined_starts import Coming
from meadowrun.journeys.membership import chosen, days_of, meant, members
from meadowrun.journeys.models import Journey
from meadowrun.messages.models import Message
from meadowrun.outgoing import calendars
from meadowrun.outgoing.best_hours import hours_chosen
from meadowrun.outgoing.caps import WISHES, all_caps
from meadowrun.outgoing.models import QuietHours
from meadowrun.people.moment import Moment
from meadowrun.segments.facts import facts_sql

#: Who of some contacts is inside one of some journeys.
_INSIDE = """
SELECT DISTINCT contact_id FROM journey_entries
WHERE state = 'inside' AND journey_id = ANY(:journeys) AND contact_id = ANY(:ids)
"""


@dataclasses.dataclass(frozen=True)
class Asked:
    """What an author asks a rehearsal for."""

    #: so many days are imagined
    days: int = 28
    #: certain people who all come in at once; none: as the journey starts
    who: Who = Who()
    #: by which of its starts people come in, by its id; empty: by the first
    start: str = ""
    #: path of a wait for something → the share of people, from 0 to 1, who do it
    shares: Mapping[str, float] = dataclasses.field(default_factory=dict)
    seed: int = 1
    #: for whom the author answers, by their place among the starts; and step → the path they take
    follow: int = -1
    answers: Mapping[str, str] = dataclasses.field(default_factory=dict)


@dataclasses.dataclass(frozen=True)
class Rehearsed:
    """A rehearsal with what it went by."""

    found: Rehearsal
    clocks: Clocks
    began: dt.datetime
    days: int
    plays: int
    #: how long it took, in seconds
    seconds: float
    #: the contact of each start whose way can be followed
    contacts: dict[int, int]
    #: step → the channel on which its message leaves
    channels: dict[str, str]
    #: who comes in, and how people react, in words
    people: str
    pasts: str
    #: so many messages of other journeys these people get meanwhile
    of_journeys: int

    @property
    def first_day(self) -> int:
        """Which day of the clocks it began on."""
        return int(self.clocks.minutes(self.began) // DAY)


def imagine(moment: Moment, journey: Journey, itinerary: Itinerary, asked: Asked) -> Rehearsed:
    """Rehearses an itinerary with real people. Raises Invalid where that cannot be."""
    began = time.monotonic()
    itinerary = itinerary.on()
    messages = _messages(moment, itinerary)
    coming = imagined_starts.coming(moment, journey, itinerary, asked)
    world, pasts, of_journeys = _gathered(moment, journey, itinerary, asked, messages, coming)
    found = _played(itinerary, asked, world)
    return Rehearsed(
        found,
        world.clocks,
        moment.now,
        asked.days,
        world.plays,
        time.monotonic() - began,
        {place: int(coming.contacts[world.starts.person[place]]) for place in found.ways},
        {ident: message.channel for ident, message in messages.items()},
        coming.words,
        pasts,
        round(of_journeys),
    )


def _gathered(
    moment: Moment,
    journey: Journey,
    itinerary: Itinerary,
    asked: Asked,
    messages: Mapping[str, Message],
    coming: Coming,
) -> tuple[World, str, float]:
    """All that a rehearsal goes by; in words by which past events and reactions; and how many
    messages of other journeys these people get meanwhile."""
    contacts = coming.contacts
    zones = [zone_of(name) or moment.zone for name in _zones_of(moment, contacts).values()]
    known = {str(zone): zone for zone in [moment.zone, *zones]}
    places = {name: place for place, name in enumerate(known)}
    clocks = Clocks.of(moment.now.astimezone(dt.UTC).date(), asked.days + 3, list(known.values()))
    # Service messages go whatever people asked for.
    wishes = _wishes(moment, contacts) if journey.consent_rule != "service" else {}
    caps = [*all_caps(moment.session), *wishes]
    starts, plays = coming.starts(moment, clocks, zones, asked)
    starts = _let_in(moment, itinerary, coming, starts)
    pasts, pasts_words, before = gathered_pasts(moment, itinerary, coming, messages, asked.days)
    past = before.drawn(np.random.default_rng(asked.seed), starts, plays)
    elsewhere = from_elsewhere(moment, journey, contacts, caps, clocks, asked.days)
    people = People(
        np.array(contacts, np.int64),
        np.array([places[str(one)] for one in zones], np.int64),
        _verdicts(moment, journey, itinerary, messages, contacts),
        _among(moment, itinerary, contacts),
        _dates(moment, itinerary, contacts),
        elsewhere.had,
        _taken_out(moment, itinerary, contacts, asked.days),
        elsewhere.anything,
    )
    world = World(
        clocks,
        people,
        pasts,
        dataclasses.replace(starts, past=past),
        plays,
        clocks.minutes(moment.now) + asked.days * DAY,
        _leaving(moment, journey, itinerary, messages, caps, contacts),
        tuple(caps),
        asked.shares,
        journey.salt,
        coming.weight,
        asked.seed,
        wished={len(caps) - len(wishes) + place: who for place, who in enumerate(wishes.values())},
        gap=coming.weight * 60 / itinerary.door.hourly if itinerary.door.hourly else 0.0,
        looked_from=clocks.minutes(moment.now),
        most_inside=itinerary.door.most_inside / coming.weight,
    )
    return world, pasts_words, elsewhere.of_journeys * coming.weight


def _played(itinerary: Itinerary, asked: Asked, world: World) -> Rehearsal:
    """What became of everybody; and the way of whom the author answers for, as they answer."""
    steps = flatten(itinerary)
    first = first_steps(itinerary)[imagined_starts.lane_of(itinerary, asked)]

    def play(within: World) -> Rehearsal:
        return rehearse(steps, first, within, itinerary.exits, itinerary.goal, lifts(itinerary))

    found = play(world)
    if not asked.answers or asked.follow not in found.ways:
        return found
    # Whoever the author answers for is followed only: no number is counted with them.
    answered = play(dataclasses.replace(world, answers={asked.follow: asked.answers}))
    ways = {**found.ways, asked.follow: answered.ways[asked.follow]}
    return dataclasses.replace(found, ways=ways)


def _let_in(moment: Moment, itinerary: Itinerary, coming: Coming, starts: Starts) -> Starts:
    """The starts without those who are inside a journey now that keeps them out of this one."""
    if not itinerary.door.not_while:
        return starts
    values = {"journeys": list(itinerary.door.not_while), "ids": coming.contacts}
    kept_out = list(moment.session.scalars(sa.text(_INSIDE), values))
    stays = ~np.isin(np.array(coming.contacts)[starts.person], kept_out)
    return Starts(starts.person[stays], starts.past[stays], starts.play[stays], starts.at[stays])


def _wishes(moment: Moment, contacts: Sequence[int]) -> dict[Cap, npt.NDArray[np.bool_]]:
    """What people asked for themselves, as limits: who of some contacts wants at most so many
    messages a week."""
    found = moment.session.execute(sa.text(WISHES), {"ids": list(contacts)}).tuples().all()
    by_most: dict[int, list[int]] = {}
    for contact, most in found:
        by_most.setdefault(most, []).append(contact)
    return {
        Cap(most, 1, "week"): np.isin(contacts, whose) for most, whose in sorted(by_most.items())
    }


def _messages(moment: Moment, itinerary: Itinerary) -> dict[str, Message]:
    """The messages of each step, by what they are known by. Raises Invalid."""
    if not any(lane.steps for lane in itinerary.lanes):
        raise Invalid("There is no step yet. Type what happens first.")
    found = {}
    for step, _, _ in itinerary.walk():
        if isinstance(step, MessageStep):
            for option, number in zip(options(step), step.messages, strict=True):
                message = moment.session.get(Message, number)
                if message is None:
                    raise Invalid("Choose the message of each step first.")
                found[option] = message
    return found


def _zones_of(moment: Moment, contacts: Sequence[int]) -> dict[int, str | None]:
    asked = "SELECT id, timezone FROM contacts WHERE id = ANY(:ids)"
    found: dict[int, str | None] = dict.fromkeys(contacts)
    for contact, zone in moment.session.execute(sa.text(asked), {"ids": list(contacts)}):
        found[contact] = zone
    return found


def _leaving(
    moment: Moment,
    journey: Journey,
    itinerary: Itinerary,
    messages: Mapping[str, Message],
    caps: Sequence[Cap],
    contacts: Sequence[int],
) -> dict[str, Leaving]:
    """How the message of each step leaves."""
    campaign = moment.session.get_one(Campaign, journey.campaign_id)
    steps = {
        option: step
        for step, _, _ in itinerary.walk()
        if isinstance(step, MessageStep)
        for option in options(step)
    }
    found: dict[str, Leaving] = {}
    for ident, message in messages.items():
        waits_there = CHANNELS[message.channel].waits_there
        quiet = moment.session.get(QuietHours, message.channel)
        step = steps[ident]
        hours = calendars.hours_of(moment.session, step.within(journey.hours))
        of = [] if waits_there else [hours]
        if quiet is not None and journey.consent_rule != "service" and not waits_there:
            of.append(quiet.open)
        tags = frozenset({*campaign.tags, *message.tags})
        about = tuple(
            place for place, cap in enumerate(caps) if cap.is_about(message.channel, tags)
        )
        limits = () if waits_there else about
        best = step.best and not waits_there
        hour = _best_hours(moment, contacts, of) if best else None
        found[ident] = Leaving(
            message.channel,
            tuple(of),
            step.hold * 60.0,
            limits,
            limits,
            hour,
            comes=not waits_there,
        )
    return found


def _best_hours(moment: Moment, contacts: Sequence[int], of: Sequence[Hours]) -> Ints:
    """The hour of the day at which each contact gets it, within some hours; -1: any."""
    hours = hours_chosen(moment.session, contacts, open_hours(of, moment.now.date()))
    return np.array([-1 if one is None else one for one in hours], np.int64)


def _verdicts(
    moment: Moment,
    journey: Journey,
    itinerary: Itinerary,
    messages: Mapping[str, Message],
    contacts: Sequence[int],
) -> dict[str, Texts]:
    """What the verdict says of everybody for the messages of each step, by the guards
    themselves."""
    percent = itinerary.goal.control if itinerary.goal else 0
    compared = percent if journey.consent_rule != "service" else 0
    control = np.array([in_control(one, compared, journey.salt) for one in contacts], bool)
    by_channel: dict[str, Texts] = {}
    for channel in {message.channel for message in messages.values()}:
        asked = facts_sql(journey.topic_id, "", "WHERE c.id = ANY(:ids)", channel)
        rows = moment.session.execute(sa.text(asked), {"ids": list(contacts)})
        known = {row.id: Facts.of(row) for row in rows}
        columns = {
            field: np.array(
                [_code(getattr(known.get(one), field, None)) for one in contacts], np.int8
            )
            for field in Facts._fields
        }
        said = verdicts(columns, journey.consent_rule, OF_A_SEND)
        by_channel[channel] = np.where((said == "go") & control, "control", said)
    return {ident: by_channel[message.channel] for ident, message in messages.items()}


def _code(fact: bool | None) -> int:
    return UNKNOWN if fact is None else YES if fact else NO


def _among(
    moment: Moment, itinerary: Itinerary, contacts: Sequence[int]
) -> dict[str, npt.NDArray[np.bool_]]:
    """Who takes each path of each branch, as things are now. Raises Invalid."""
    found: dict[str, npt.NDArray[np.bool_]] = {}
    for step, _, _ in itinerary.walk():
        if isinstance(step, BranchStep):
            for path in step.paths[:-1]:
                inside = members(moment, path.who, contacts) if path.who else []
                found[path.id] = np.isin(contacts, inside)
    return found


def _taken_out(
    moment: Moment, itinerary: Itinerary, contacts: Sequence[int], days: int
) -> dict[str, npt.NDArray[np.bool_]]:
    """Who is one of those whom each rule takes out, on each day from now on as far as time alone
    makes somebody one of them. Raises Invalid."""
    found: dict[str, npt.NDArray[np.bool_]] = {}
    for rule in itinerary.exits:
        if not rule.who:
            continue
        columns: list[npt.NDArray[np.bool_]] = []
        before: tuple[str, dict[str, Any]] | None = None
        for day in range(days + 1):
            then = dataclasses.replace(moment, now=moment.now + dt.timedelta(days=day))
            compiler, predicate = meant(then, rule.who)
            asked = (predicate, compiler.values)
            if asked != before:
                # Of what does not go by the time the answer is the same on every day.
                inside = chosen(moment.session, compiler, predicate, contacts)
                columns.append(np.isin(contacts, inside))
            else:
                columns.append(columns[-1])
            before = asked
        found[rule.id] = np.stack(columns, axis=1)
    return found


def _dates(moment: Moment, itinerary: Itinerary, contacts: Sequence[int]) -> dict[str, Floats]:
    """The days that come into question for everybody at each step that waits for a date."""
    begins = moment.now.astimezone(dt.UTC).date()
    found: dict[str, Floats] = {}
    for step, _, _ in itinerary.walk():
        if not isinstance(step, WaitStep) or not step.date:
            continue
        days = days_of(moment, step.date, contacts)
        found[step.id] = np.array(
            [imagined_starts.day_numbers(days.get(one), begins, step.yearly) for one in contacts]
        ).reshape(len(contacts), -1)
    return found
