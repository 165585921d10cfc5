"""Random histories of a few people: what they do and when it is told, what changes of them, who is
merged or erased, and what becomes of the journey that they walk."""

import collections
import dataclasses
import datetime as dt
import zoneinfo

from hypothesis import strategies as st

from meadowrun.core.journeys.one_person import Happened
from tests.conftest import NOW

ZONES = ("Europe/London", "Asia/Tokyo", "America/New_York", "Pacific/Kiritimati")
PEOPLE = 8
EVERYBODY = range(1, PEOPLE + 1)
#: Whoever said no, and whoever has a town at first.
SAID_NO, INSIDE = 3, {2, 4, 6, 8}
#: The renewal date of some: before they come in, soon after, long after, and on 29 February.
RENEWALS = {1: "2026-11-20", 2: "2026-12-01", 4: "2026-12-24", 5: "2027-02-10", 6: "2024-02-29"}
MINUTES = 40 * 24 * 60
#: Half of what people do falls into their first day, where most of the steps are.
FIRST_DAY = 24 * 60
UNTIL = NOW + dt.timedelta(days=60)
#: What is told a second time is told so much later, without a name.
AGAIN_AFTER = dt.timedelta(minutes=2, seconds=20)


def _after(minutes, seconds=0):
    return NOW + dt.timedelta(minutes=minutes, seconds=seconds)


@dataclasses.dataclass(frozen=True)
class Deed:
    """What somebody does: how many minutes after the start, how many later we are told of it, and
    what it is about."""

    contact: int
    kind: str
    minutes: int
    late: int
    about: str

    @property
    def at(self):
        return _after(self.minutes)

    @property
    def told(self):
        return _after(self.minutes + self.late, 20 if self.late else 0)


@dataclasses.dataclass(frozen=True)
class Coming:
    """When somebody would come in, and what about."""

    contact: int
    at: dt.datetime
    about: str


@dataclasses.dataclass(frozen=True)
class Merging:
    """Two records become one."""

    at: dt.datetime
    kept: int
    gone: int


@dataclasses.dataclass(frozen=True)
class History:
    """What happens to everybody in sixty days. Each sort of thing has seconds of its own, so that
    no two fall upon each other. Its lists hold tuples as the strategies below draw them."""

    deeds: list
    reacted: list
    twice: list
    pause: tuple | None
    doubled: set
    moved: list
    zones: list
    merged: list
    erasures: list
    edited: int | None
    away: tuple | None = None

    def comings(self):
        """Who would come in, in order; the second times are at no other moment."""
        first = [Coming(contact, _after(contact, 15), "5th") for contact in EVERYBODY]
        again = [
            Coming(contact, _after(minutes, 15), about) for contact, minutes, about in self.twice
        ]
        found = [one for one in (*first, *again) if not self.is_erased(one.contact, one.at)]
        return sorted(found, key=lambda one: one.at)

    def did(self, contact):
        """What somebody does, and when we are told."""
        return [
            Happened(one.kind, one.at, one.about, one.told)
            for one in self.deeds
            if one.contact == contact and not self.is_erased(contact, one.told)
        ]

    def told(self):
        """What is told at each moment."""
        found = collections.defaultdict(list)
        for one in self.comings():
            details = {"amount": one.contact, "what": one.about}
            found[one.at].append(_event("began", one.contact, one.at, details))
        for place, one in enumerate(self.deeds):
            said = _event(one.kind, one.contact, one.at, {"what": one.about} if one.about else {})
            moments = (one.told, one.told + AGAIN_AFTER)
            for moment in moments if place in self.doubled else moments[:1]:
                if not self.is_erased(one.contact, moment):
                    found[moment].append(said)
        return found

    def reactions(self):
        """Who reacts to what they were sent last, and how, at each moment."""
        found = collections.defaultdict(list)
        for contact, kind, minutes in self.reacted:
            at = _after(minutes, 30)
            if self.owner(contact, at) == contact and not self.is_erased(contact, at):
                found[at].append((contact, kind))
        return found

    def changes(self):
        """What changes of people at each moment: (contact, column, value)."""
        found = collections.defaultdict(list)
        for contact, minutes in self.moved:
            at = _after(minutes, 5)
            found[at].append((contact, "town", "Farrow" if self.is_inside(contact, at) else None))
        for contact, minutes, zone in self.zones:
            found[_after(minutes, 10)].append((contact, "timezone", zone))
        return found

    def is_inside(self, contact, moment):
        """Whether a record has a town: each move gives or takes it; one that has none takes that of
        a record which is merged into it."""
        moves = {_after(minutes, 5): None for who, minutes in self.moved if who == contact}
        takes = {one.at: one.gone for one in self.mergings() if one.kept == contact}
        inside = contact in INSIDE
        for at, gone in sorted({**moves, **takes}.items(), key=lambda one: one[0]):
            if at > moment:
                break
            inside = inside or self.is_inside(gone, at) if gone else not inside
        return inside

    def clocks(self, contact):
        """The clocks that somebody goes over to, in order; of two at once the last."""
        found = {
            _after(minutes, 10): zoneinfo.ZoneInfo(zone)
            for who, minutes, zone in self.zones
            if who == contact
        }
        return sorted(found.items(), key=lambda one: one[0])

    def renewal(self, contact, moment):
        """The date that a record holds, its own or else that of one that was merged into it."""
        records = [contact, *self.taken_up(contact, moment)]
        day = next((RENEWALS[one] for one in records if one in RENEWALS), None)
        return dt.date.fromisoformat(day) if day else None

    def paused(self):
        """The two moments between which it is paused; they are at no other moment."""
        if self.pause is None:
            return ()
        begin = _after(self.pause[0], 45)
        return begin, begin + dt.timedelta(minutes=self.pause[1])

    def outage(self):
        """The two moments between which no worker is there; they are at no other moment."""
        if self.away is None:
            return ()
        begin = _after(self.away[0], 55)
        return begin, begin + dt.timedelta(minutes=self.away[1])

    def is_away(self, moment):
        """Whether no worker is there to look at what happens."""
        outage = self.outage()
        return bool(outage) and outage[0] <= moment < outage[1]

    def mergings(self):
        """Which records become one, in order: one that is erased by then cannot."""
        found = [Merging(_after(minutes, 50), kept, gone) for kept, gone, minutes in self.merged]
        there = [
            one
            for one in found
            if not any(who in (one.kept, one.gone) and at < one.at for who, at in self._erased())
        ]
        return sorted(there, key=lambda one: one.at)

    def erasings(self):
        """Who is erased, and when, in order: whoever is there by then."""
        found = [one for one in self._erased() if self.owner(*one) == one[0]]
        return sorted(found, key=lambda one: one[1])

    def _erased(self):
        return [(contact, _after(minutes, 35)) for contact, minutes in self.erasures]

    def owner(self, contact, moment):
        """Which record stands for somebody."""
        merged = (one for one in self.mergings() if one.gone == contact and one.at <= moment)
        return next((one.kept for one in merged), contact)

    def taken_up(self, contact, moment):
        """The records that were merged into one."""
        return [one.gone for one in self.mergings() if one.kept == contact and one.at <= moment]

    def is_erased(self, contact, moment):
        """Whether what stands for somebody was erased before a moment."""
        return any(who == self.owner(contact, at) and at < moment for who, at in self.erasings())

    def edit(self):
        """When another edition is used; None: never."""
        return None if self.edited is None else _after(self.edited, 25)


def _event(kind, contact, at, details):
    return {"event": kind, "contact": contact, "at": at.isoformat(), "details": details}


people = st.integers(1, PEOPLE)
moments = st.one_of(st.integers(2, FIRST_DAY), st.integers(2, MINUTES))
abouts = st.sampled_from(("", "", "5th", "6th"))


def deeds(late):
    """What people do; of which we are told so many minutes later."""
    one = st.builds(
        Deed,
        people,
        st.sampled_from(("visited", "ticket_bought")),
        st.one_of(st.integers(1, FIRST_DAY), st.integers(1, MINUTES)),
        st.sampled_from(late),
        abouts,
    )
    return st.lists(one, min_size=12, max_size=40)


#: (contact, minutes after the start): when somebody moves to a town, or away from it.
moving = st.lists(st.tuples(people, moments), max_size=8)
#: (contact, minutes after the start, the clock that they live by from then on).
changing = st.lists(st.tuples(people, moments, st.sampled_from(ZONES)), max_size=8)
#: (contact, what they do with what they were sent last, minutes after the start).
reactions = st.lists(
    st.tuples(people, st.sampled_from(("opened", "clicked", "replied")), st.integers(9, MINUTES)),
    max_size=12,
)
#: (contact, minutes after the start, about what): when somebody would come in a second time.
again = st.lists(
    st.tuples(people, st.one_of(st.integers(20, FIRST_DAY), st.integers(20, MINUTES)), abouts),
    max_size=6,
    unique_by=lambda one: one[1],
)
#: Minutes after the start from which on it is paused, and for how long.
pauses = st.tuples(st.integers(30, MINUTES), st.sampled_from((45, 600, 3 * 24 * 60)))
#: Which of the deeds are told a second time, by their place.
repeated = st.sets(st.integers(0, 39), max_size=8)
#: (the record that stays, the one that goes, minutes after the start).
merges = st.lists(
    st.tuples(people, people, moments),
    max_size=3,
    unique_by=(lambda one: one[0], lambda one: one[2]),
).map(lambda found: _apart(found))
#: (contact, minutes after the start): who is erased.
erased = st.lists(
    st.tuples(people, moments), max_size=2, unique_by=(lambda one: one[0], lambda one: one[1])
)
meddled = st.builds(
    History,
    deeds((0, 0, 0, 7, 200, 30 * 60)),
    reactions,
    again,
    st.none(),
    repeated,
    moving,
    changing,
    merges,
    erased,
    st.one_of(st.none(), moments),
)
#: What happens first of two things that are told in a pause, or changed during it, the judge does
#: not know.
paused = st.builds(
    History,
    deeds((0,)),
    reactions,
    again,
    pauses,
    repeated,
    moving,
    changing,
    st.just([]),
    erased,
    st.none(),
)
#: Days without workers, in which much happens, also twice to one person: it is looked at in its
#: order. What would be another by then goes by what is so when workers are back.
unattended = st.builds(
    History,
    deeds((0,)),
    reactions,
    again,
    st.none(),
    repeated,
    moving,
    st.just([]),
    st.just([]),
    st.just([]),
    st.none(),
    st.tuples(st.integers(0, FIRST_DAY), st.sampled_from((90, 1500, 3 * 24 * 60))),
)
histories = st.one_of(meddled, meddled, paused, unattended)


def _apart(found):
    """Merges of which no two know the same record."""
    seen, kept = set(), []
    for one in found:
        if one[0] != one[1] and not seen & set(one[:2]):
            seen |= set(one[:2])
            kept.append(one)
    return kept
