"""What must have become of people in one lane of a journey, by the judge: walked part by part, from
one moment at which something becomes another to the next."""

import dataclasses
import datetime as dt
import zoneinfo

import sqlalchemy as sa

from meadowrun.core.journeys.engine import Rules, begin, carry_over, go_on
from meadowrun.core.journeys.flat import END
from meadowrun.core.journeys.one_person import Answered, Came, Person, Way
from meadowrun.journeys.models import JourneyCall, JourneyMove
from meadowrun.outgoing.models import Delivery, Reaction
from tests.conftest import NOW
from tests.store.histories import UNTIL, ZONES

TICK = dt.timedelta(microseconds=1)
#: Two starts of one person within this time are one.
TWICE = dt.timedelta(minutes=10)


@dataclasses.dataclass(frozen=True)
class Edition:
    """What people go by from a moment on, and where those go whose step is gone: END for out."""

    since: dt.datetime
    rules: Rules
    to: dict = dataclasses.field(default_factory=dict)


@dataclasses.dataclass
class Entry:
    """One time that somebody came in: by which record, and what about."""

    contact: int
    about: str
    way: Way
    #: what became of messages and calls: (step, arrival) → Answered
    answers: dict

    @property
    def key(self):
        return self.contact, self.way.began, self.about

    def inside(self, moment):
        return not self.way.over or self.way.here.seen > moment

    def end(self, at, because):
        """Ends it by what is no step."""
        self.way = dataclasses.replace(self.way, came=(*self.way.came, Came(END, at, because, at)))

    @property
    def steps(self):
        """The steps that they came to, as the log has them: that a record went is no step."""
        came = self.way.came
        return came[:-1] if came[-1].because in ("merged", "erased") else came


class Lane:
    """Everybody who came into a lane. `answers` says what became of what was asked for, by the
    record that came in, when, and what about."""

    def __init__(self, name, editions, history, looks, by_subject, is_meant, answers):
        self.name, self.history, self.looks = name, history, looks
        self.editions, self.rules = editions, editions[0].rules
        self.by_subject, self.is_meant, self.answers = by_subject, is_meant, answers
        self.entries = []

    def lived(self):
        """Every entry, with its way to the end."""
        happens = [
            *((one.at, self._merge, one) for one in self.history.mergings()),
            *((at, self._erase, contact) for contact, at in self.history.erasings()),
            *((one.since, self._edit, one) for one in self.editions[1:]),
        ]
        since = NOW
        for at, change, what in sorted(happens, key=lambda one: one[0]):
            self._go_on(since, at - TICK)
            for one in self.entries:
                one.way = dataclasses.replace(one.way, since=at)
            change(at, what)
            since = at
        self._go_on(since, UNTIL)
        return self.entries

    def _go_on(self, since, until):
        for one in self.entries:
            one.way = go_on(self.rules, self._person(one, since), one.way, until)
        for one in self.history.comings():
            if since <= one.at <= until and self._comes_in(one):
                about = one.about if self.by_subject else ""
                answers = self.answers.get((one.contact, one.at, about), {})
                entry = Entry(one.contact, about, begin(self.rules, self.name, one.at), answers)
                entry.way = go_on(self.rules, self._person(entry, since), entry.way, until)
                self.entries.append(entry)

    def _comes_in(self, coming):
        """Whether a start brings somebody in who is not inside, nor came a moment ago."""
        paused = self.history.paused()
        if self.rules.first[self.name] == END or paused and paused[0] <= coming.at < paused[1]:
            return False
        about = coming.about if self.by_subject else ""
        mine = self._of(self.history.owner(coming.contact, coming.at), coming.at, about)
        last = max((one.way.began for one in mine), default=NOW - TWICE)
        return coming.at - last >= TWICE and not any(one.inside(coming.at) for one in mine)

    def _of(self, record, moment, about):
        """The entries of a record about something."""
        return [
            one
            for one in self.entries
            if one.about == about and self.history.owner(one.contact, moment) == record
        ]

    def _merge(self, at, merging):
        """Of two who are inside the one that went further goes on."""
        for about in sorted({one.about for one in self.entries}):
            before = at - TICK
            kept, gone = (
                next((o for o in self._of(who, before, about) if not o.way.over), None)
                for who in (merging.kept, merging.gone)
            )
            if kept and gone:
                further = len(kept.way.came) >= len(gone.way.came)
                (gone if further else kept).end(at, "merged")

    def _erase(self, at, contact):
        for one in self.entries:
            if self.history.owner(one.contact, at) == contact and not one.way.over:
                one.end(at, "erased")

    def _edit(self, at, edition):
        for one in self.entries:
            one.way = carry_over(one.way, self.rules, edition.rules, at, edition.to)
        self.rules = edition.rules

    def _person(self, entry, since):
        """Who walks an entry from a moment on, as the judge knows them."""
        history = self.history
        record = history.owner(entry.contact, since)

        def is_one(meant, moment):
            looked = next((one for one in self.looks if one >= moment), moment)
            return self.is_meant(meant) and history.is_inside(record, looked)

        person = Person(
            record,
            zoneinfo.ZoneInfo(ZONES[(record - 1) % 4]),
            [one for who in (record, *history.taken_up(record, since)) for one in history.did(who)],
            is_one,
            lambda step, moment: entry.answers.get((step, moment)),
            lambda field: history.renewal(record, since),
            {"amount": entry.contact},
            history.clocks(record),
            looks=self.looks,
            worked=self.looks,
            paused=[history.paused()] if history.pause else [],
        )
        return person.about(entry.about)


def answered(session, entry_id):
    """What became of each message of an entry and what came back of it, from the deliveries and
    the reactions, and of each call: by step and arrival."""
    rows = session.scalars(
        sa.select(JourneyMove).where(JourneyMove.entry_id == entry_id).order_by(JourneyMove.id)
    ).all()
    calls = session.scalars(sa.select(JourneyCall).where(JourneyCall.entry_id == entry_id))
    of_step = {one.step: Answered(one.done_at, one.state == "done") for one in calls if one.done_at}
    found = {(one.to_step, one.at): of_step[one.to_step] for one in rows if one.to_step in of_step}
    for before, after in zip(rows, rows[1:], strict=False):
        if after.delivery is None:
            continue
        sent = session.scalars(sa.select(Delivery).where(Delivery.number == after.delivery)).one()
        came_back = session.scalars(
            sa.select(Reaction).where(Reaction.delivery == sent.number, ~Reaction.machine)
        )
        found[before.to_step, before.at] = Answered(
            sent.at,
            sent.outcome == "delivered",
            tuple((one.kind, one.at, "") for one in came_back),
            sent.outcome == "control",
        )
    return found
