"""Who comes into a journey that is rehearsed, and when: as people did in the past eight weeks, or
on their own dates, or certain people all at once."""

import dataclasses
import datetime as dt
import math
import zoneinfo
from collections import defaultdict
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

import numpy as np
import sqlalchemy as sa
from pyroaring import BitMap

from meadowrun.base.errors import Invalid
from meadowrun.core.journeys.clocks import DAY, NEVER, Clocks, Ints
from meadowrun.core.journeys.imagined import Starts
from meadowrun.core.journeys.outlook import WEEKS, Outlook
from meadowrun.core.journeys.samples import as_many
from meadowrun.core.journeys.steps import Itinerary, Start, Who
from meadowrun.core.journeys.waits import on_clock
from meadowrun.core.language import Wording
from meadowrun.core.wording import count_of, number
from meadowrun.journeys.imagined_numbers import Changing, changing, outlook_of
from meadowrun.journeys.membership import days_of, everybody, lately, members
from meadowrun.journeys.models import Journey
from meadowrun.people.moment import Moment

if TYPE_CHECKING:
    from meadowrun.journeys.imagining import Asked

#: So many people are imagined at the most; each then stands for several.
MOST_PEOPLE = 2000
#: So many days of the past say who comes in on such a day of the week.
SEEN = 7 * WEEKS
#: So many days back starts are looked for whose time after is known.
_BACK = 240
MOST_STARTS, LEAST_PLAYS, MOST_PLAYS = 200_000, 20, 200
_WEEK = dt.timedelta(weeks=1)
#: Two starts of one person within so many minutes are one.
_TWICE = 10.0
#: Those to whom an event happened, in order: contact and moment.
_HAPPENED = """
SELECT e.contact_id, e.at FROM events e JOIN event_kinds n ON n.id = e.kind_id
WHERE (n.key = :kind OR :kind = ANY(n.aka)) AND e.at >= :since AND e.at < :now
AND e.contact_id IN (SELECT c.id FROM contacts c) ORDER BY e.at LIMIT 200000
"""


@dataclasses.dataclass(frozen=True)
class Coming:
    """Who comes in: real people, and by which rule they do."""

    contacts: list[int]
    weight: float
    words: str
    #: starts of the past, where an event starts it: contact and moment, in order
    happened: list[tuple[int, dt.datetime]]
    #: the kind of event that brings them in, by its key; empty: nothing that happens
    event: str = ""
    #: minutes until somebody can come in again, and since when anybody could
    gap: float = 10.0
    since: dt.datetime | None = None
    #: when each comes in, where that is known: place among the contacts and moment
    dated: list[tuple[int, dt.datetime]] = dataclasses.field(default_factory=list)
    #: how they become others as time passes, where they are found anew on each day; and the
    #: moments at which only those come in who were not among them the last time
    changing: Changing = Changing()
    newcomers: list[dt.datetime] = dataclasses.field(default_factory=list)
    #: how many come beside the weeks before, where an event brings them in; and those who come in
    #: when it starts, by their place, since it happened to them in the days before
    outlook: Outlook = Outlook()
    at_once: list[int] = dataclasses.field(default_factory=list)

    def starts(
        self,
        moment: Moment,
        clocks: Clocks,
        zones: Sequence[zoneinfo.ZoneInfo],
        asked: "Asked",
    ) -> tuple[Starts, int]:
        """Everybody who comes in, in so many plays."""
        if self.event:
            return self._like_before(moment, clocks, asked)
        on: dict[dt.datetime, list[int]] = defaultdict(list)
        for place, at in self.dated:
            on[at].append(place)
        if not self.dated:
            on[moment.now] = list(range(len(self.contacts)))
        plays = _plays(sum(map(len, on.values())))
        draw = np.random.default_rng(asked.seed + 1)
        groups = [
            one for play in range(plays) for one in self._in_a_play(moment.now, on, play, draw)
        ]
        sizes = [len(some) for _, _, some in groups]
        person = np.concatenate([some for _, _, some in groups])
        play = np.repeat(np.array([play for play, _, _ in groups]), sizes)
        minutes = np.repeat(np.array([clocks.minutes(at) for _, at, _ in groups], float), sizes)
        return Starts(person, np.zeros(len(person), np.int64), play, minutes), plays

    def _in_a_play(
        self,
        now: dt.datetime,
        on: Mapping[dt.datetime, Sequence[int]],
        play: int,
        draw: np.random.Generator,
    ) -> list[tuple[int, dt.datetime, Ints]]:
        """Who comes in at each moment of one play: all those it is known of, as many more or fewer
        as there will be by then, and newcomers, who are like some of them."""
        full = sorted(on)
        shares = self.changing.drift.drawn(draw, 1, [(at - now) / _WEEK * 7 for at in full])[0]
        found, before = [], now
        for at in sorted({*full, *self.newcomers}):
            weeks = (at - before) / _WEEK
            before = at
            new = (self.changing.added + self.changing.turned) * weeks
            come = np.empty(0, np.int64)
            if at in on:
                come = as_many(draw, on[at], float(shares[full.index(at)]))
                new = self.changing.added * ((at - now) / _WEEK)
            others = draw.integers(len(self.contacts), size=draw.poisson(new / self.weight))
            found.append((play, at, np.concatenate([come, others])))
        return found

    def _like_before(self, moment: Moment, clocks: Clocks, asked: "Asked") -> tuple[Starts, int]:
        """On each day about as many as on such a day of the five weeks before, with the outlook.

        Whoever is drawn stands for somebody like them: the journey refuses them where they had
        started before, as long ago as it remembers by then.
        """
        by_day = self._by_day(moment)
        per_play = sum(map(len, by_day.values())) / SEEN * asked.days
        plays = _plays(per_play + len(self.at_once))
        draw, now = np.random.default_rng(asked.seed + 1), clocks.minutes(moment.now)
        since = clocks.minutes(self.since or moment.now)
        today = moment.now.astimezone(moment.zone).date()
        midnights = [
            clocks.minutes(on_clock(today + dt.timedelta(days=ahead), 0, moment.zone))
            for ahead in range(asked.days + 1)
        ]
        found: list[tuple[int, float, int]] = []
        for play, share in enumerate(self.outlook.drawn(draw, plays).tolist()):
            found += [(who, now, play) for who in self.at_once]
            for ahead, midnight in enumerate(midnights):
                backs = range(7 - ahead % 7, SEEN + 1, 7)
                day = [one for back in backs for one in by_day.get(back, ())]
                if not day:
                    continue
                # As many as then, give or take what chance gives and takes.
                expected = len(day) / WEEKS * share
                for one in draw.integers(len(day), size=draw.poisson(expected)).tolist():
                    who, minute, before = day[one]
                    at = midnight + minute
                    if at >= now and before >= max(_TWICE, min(self.gap, at - since)):
                        found.append((who, at, play))
        return (
            Starts(
                np.array([one[0] for one in found], np.int64),
                np.zeros(len(found), np.int64),
                np.array([one[2] for one in found], np.int64),
                np.array([one[1] for one in found], float),
            ),
            plays,
        )

    def _by_day(self, moment: Moment) -> dict[int, list[tuple[int, float, float]]]:
        """The starts of the past by how many days ago they were: whose, at which minute of the day,
        and how many minutes after the same person's start before that."""
        places = {contact: place for place, contact in enumerate(self.contacts)}
        today = moment.now.astimezone(moment.zone).date()
        found: dict[int, list[tuple[int, float, float]]] = defaultdict(list)
        last: dict[int, dt.datetime] = {}
        for contact, at in self.happened:
            before = (at - last[contact]).total_seconds() / 60 if contact in last else NEVER
            last[contact] = at
            local = at.astimezone(moment.zone)
            back = (today - local.date()).days
            if 0 < back <= SEEN and contact in places:
                minute = local.hour * 60 + local.minute + local.second / 60
                found[back].append((places[contact], minute, before))
        return found


def _plays(starts: float) -> int:
    """How many plays so many starts in each make room for."""
    return int(np.clip(MOST_STARTS // max(starts, 1), LEAST_PLAYS, MOST_PLAYS))


def coming(moment: Moment, journey: Journey, itinerary: Itinerary, asked: "Asked") -> Coming:
    """Who comes in within the imagined days: certain people at once where they are given, else as
    one of its starts says. Raises Invalid."""
    if asked.who:
        return _at_once(moment, asked.who)
    start = _start_of(itinerary, asked)
    if start is None:
        raise Invalid("Choose who comes in: nothing starts this journey yet.")
    if start.how == "event":
        return _by_event(moment, journey, itinerary, start, asked.days)
    if start.how == "date":
        return _by_date(moment, start, asked.days)
    if start.how == "rhythm":
        return _by_rhythm(moment, itinerary, start, asked.days)
    return _at_once(moment, start.who)


def _start_of(itinerary: Itinerary, asked: "Asked") -> Start | None:
    """The start that is rehearsed; None where there is none."""
    return next((one for one in itinerary.starts if asked.start in ("", one.id)), None)


def lane_of(itinerary: Itinerary, asked: "Asked") -> str:
    """The lane that people come into: the start's; of certain people the first one."""
    start = None if asked.who else _start_of(itinerary, asked)
    return start.lane if start else ""


def _at_once(moment: Moment, who: Who) -> Coming:
    found = list(everybody(moment, who))
    if not found:
        raise Invalid("Nobody is one of these people now.")
    some, weight = _some(found)
    said = Wording("%(people)s, all at once", people=count_of(len(found), "person", "people"))
    return Coming(some, weight, said, [])


def _some(contacts: list[int]) -> tuple[list[int], float]:
    """A few of many, spread evenly, and how many each stands for."""
    every = -(-len(contacts) // MOST_PEOPLE)
    some = contacts[::every]
    return some, len(contacts) / len(some)


def _by_event(
    moment: Moment, journey: Journey, itinerary: Itinerary, start: Start, days: int
) -> Coming:
    values = {
        "kind": start.event,
        "since": moment.now - dt.timedelta(days=_BACK),
        "now": moment.now,
    }
    rows = moment.session.execute(sa.text(_HAPPENED), values).tuples().all()
    happened = [(contact, at) for contact, at in rows]
    if start.who:
        let_in = set(members(moment, start.who, {contact for contact, _ in happened}))
        happened = [one for one in happened if one[0] in let_in]
    since = moment.now - dt.timedelta(days=SEEN + 1)
    recent = [one for one in happened if one[1] >= since]
    if not recent:
        raise Invalid(
            "This happened to nobody in the last five weeks. Choose below who to rehearse it with."
        )
    first = set() if journey.started_at else set(lately(moment, start))
    some, weight = _some(list(dict.fromkeys([*(contact for contact, _ in recent), *first])))
    ahead = outlook_of(moment, start.event, days)
    said = _like_them(len(recent), ahead)
    if first:
        n = number(len(first))
        said = Wording("%(who)s, after the %(n)s of the days before", who=said, n=n)
    # Whoever came in because of those days is refused as if it ran since then.
    since = journey.started_at or moment.now - dt.timedelta(days=start.back)
    return Coming(
        some,
        weight,
        said,
        happened,
        start.event,
        _gap(itinerary),
        since,
        outlook=ahead,
        at_once=[place for place, contact in enumerate(some) if contact in first],
    )


def _like_them(starts: int, ahead: Outlook) -> str:
    """Who comes in after so many starts in the last weeks, in words."""
    more = round(100 * (math.exp(ahead.middle) - 1))
    who = Wording("people like the %(n)s who came in the last five weeks", n=number(starts))
    if not more:
        return who
    same = Wording("judging by the same weeks a year ago")
    if more > 0:
        return Wording("%(who)s, and %(n)s%% more, %(same)s", who=who, n=more, same=same)
    return Wording("%(who)s, but %(n)s%% fewer, %(same)s", who=who, n=-more, same=same)


def _gap(itinerary: Itinerary) -> float:
    """Minutes after which somebody can come in again."""
    if itinerary.subject:
        return _TWICE
    return _GAPS.get(itinerary.again, itinerary.again_days * DAY)


#: Minutes after which somebody can come in again, by how often one person can.
_GAPS = {"once": NEVER, "any": _TWICE}


def _by_date(moment: Moment, start: Start, days: int) -> Coming:
    """Whoever has such a date on one of the coming days, by the organisation's calendar."""
    line = {
        "id": "date",
        "kind": "field",
        "field": start.date,
        "op": "yearly_next" if start.yearly else "in_next",
        "value": days + max(start.before, 0),
    }
    lines = (line, *start.who.lines)
    found = list(members(moment, Who(start.who.segment, lines)))
    some, weight = _some(found) if found else ([], 1.0)
    begins = moment.now.astimezone(dt.UTC).date()
    dated = []
    of = days_of(moment, start.date, some)
    for place, contact in enumerate(some):
        for day in day_numbers(of.get(contact), begins, start.yearly):
            if np.isnan(day):
                continue
            on = begins + dt.timedelta(days=int(day) - start.before)
            at = on_clock(on, start.at, moment.zone)
            if moment.now <= at < moment.now + dt.timedelta(days=days):
                dated.append((place, at))
    if not dated:
        raise Invalid("Nobody has such a date in these days. Choose below who to rehearse it with.")
    people = count_of(round(len(dated) * weight), "person", "people")
    said = Wording("%(people)s whose date comes in these days", people=people)
    return Coming(some, weight, said, [], dated=dated)


def _by_rhythm(moment: Moment, itinerary: Itinerary, start: Start, days: int) -> Coming:
    """Those who are such people now, on the days of a rhythm that are imagined, by the
    organisation's calendar; as often as one person can come in."""
    until = moment.now + dt.timedelta(days=days)
    gap = dt.timedelta(minutes=min(_gap(itinerary), 60 * 24 * 3650))
    moments: list[dt.datetime] = []
    between: list[dt.datetime] = []
    for day in start.days():
        at = on_clock(day, start.at, moment.zone)
        if at >= until:
            break
        if at >= moment.now:
            comes = moments if not moments or at >= moments[-1] + gap else between
            comes.append(at)
    found = everybody(moment, start.who) if moments else BitMap()
    if not found:
        raise Invalid("Nobody comes in on these days. Choose below who to rehearse it with.")
    some, weight = _some(list(found))
    said = Wording("%(people)s on each day", people=count_of(len(found), "person", "people"))
    dated = [(place, at) for at in moments for place in range(len(some))]
    become = changing(moment, start.who, found)
    return Coming(some, weight, said, [], dated=dated, changing=become, newcomers=between)


def day_numbers(date: dt.date | None, begins: dt.date, yearly: bool) -> list[float]:
    """The days that a date means, as days from a beginning, in order; NaN fills up: of one that
    comes round each year five, else one."""
    if not yearly:
        return [float("nan") if date is None else float((date - begins).days)]
    found = []
    for year in range(begins.year - 1, begins.year + 4):
        if date is None:
            found.append(float("nan"))
            continue
        try:
            found.append(float((date.replace(year=year) - begins).days))
        except ValueError:
            found.append(float((dt.date(year, 2, 28) - begins).days))
    return found
