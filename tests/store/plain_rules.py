"""A slow reading of every rule about who gets a message and when: one person, one half hour after
the other, from the rules as they are written down for people.

It shares nothing with the application, so that the two can be held against each other. Everything
begins and ends on whole half hours.
"""

import dataclasses
import datetime as dt
import zoneinfo

STEP = dt.timedelta(minutes=30)
HOME = zoneinfo.ZoneInfo("Europe/London")


@dataclasses.dataclass
class Person:
    """One person as they are now."""

    ident: int
    address: str
    zone: str | None = None
    #: a yes, a no, or never asked: to all emails, and to the topic
    agreed: bool | None = True
    topic: bool | None = None
    suppressed: bool = False
    #: good, none or bad
    mailbox: str = "good"
    paused: bool = False
    bounced_before: bool = False
    #: at most so many messages a week, as they wish
    wish: int | None = None
    bought: bool = False
    #: their server refuses what comes, for the moment
    refuses: bool = False
    #: the hours of the day at which they react, the best first; empty: nothing is known of them
    react_at: tuple = ()

    def clock(self, moment):
        return moment.astimezone(zoneinfo.ZoneInfo(self.zone) if self.zone else HOME)


@dataclasses.dataclass
class Limit:
    """At most so many within so many periods; of messages with a tag, or of all."""

    most: int
    length: int
    unit: str
    tagged: bool = False


@dataclasses.dataclass
class Letter:
    """One send."""

    number: int
    starts: dt.datetime
    ends: dt.datetime
    message: int = 0
    rule: str = "agreed"
    topic: bool = False
    #: a time on each person's own clock, without a zone
    local: dt.datetime | None = None
    passed: str = "next_day"
    #: minutes of the day from and to, days of the week
    hours: tuple = (0, 0, (0, 1, 2, 3, 4, 5, 6))
    #: days on which it does not leave
    holidays: frozenset = frozenset()
    #: it leaves at the best hour of each person
    best: bool = False
    gap: int = 0
    again: str = "each"
    obeys: bool = True
    counts: bool = True
    no_room: str = "wait"
    tagged: bool = False
    still_in: bool = False
    at_last: str = "drop"


@dataclasses.dataclass
class Standing:
    """Where one person stands in one send."""

    outcome: str = "waiting"
    #: when it is looked at again, and the rules that kept it until then
    due: dt.datetime | None = None
    because: frozenset = frozenset()
    #: its time has come once: whether there is room was asked
    judged: bool = False
    at: dt.datetime | None = None
    control: bool = False
    repeated: bool = False
    portion: int = 0
    #: the hour of the day that was chosen for them when the send began
    hour: int | None = None


class Reading:
    """Everybody and everything that was sent, as the rules say it must be."""

    def __init__(self, people, limits, quiet, control_of_all, usual_hours):
        self.people = {person.ident: person for person in people}
        #: the hours of the day at which people in general react, the best first
        self.usual_hours = usual_hours
        #: what was found before: slow as it is, it is asked for at each half hour
        self.known_begins, self.known_hours = {}, {}
        self.limits, self.quiet = limits, quiet
        #: who gets no marketing at all
        self.held_out = control_of_all
        self.letters: list[Letter] = []
        self.stands: dict[tuple[int, int], Standing] = {}

    def start(self, letter, drawn):
        """A send begins; `drawn` says of each person whether they are in its control group, have an
        address that another record of it has, and in which portion they are."""
        self.letters.append(letter)
        for ident, (control, repeated, portion) in drawn.items():
            stands = Standing(control=control, repeated=repeated, portion=portion)
            self.stands[letter.number, ident] = stands
            # Who gets nothing anyway is looked at as it starts, others when their time comes.
            if control or repeated:
                stands.due = letter.starts
            else:
                stands.hour = self.best_hour(letter, self.people[ident]) if letter.best else None
                self.wait(letter, stands, self.people[ident], letter.starts, room=False)

    def best_hour(self, letter, person):
        """Their best hour of those at which it may leave on any of the next seven days; their very
        best where there is none."""
        midnight = dt.datetime.combine(letter.starts.date(), dt.time())
        ranked = person.react_at or self.usual_hours
        for hour in ranked:
            week = (midnight + dt.timedelta(days=day, hours=hour) for day in range(7))
            if any(self.open_for(letter, here) for here in week):
                return hour
        return ranked[0]

    def open_for(self, letter, here):
        """Whether neither hours nor holidays nor quiet hours are against a time on a clock."""
        if not letter_open(letter, here):
            return False
        if not self.quiet or letter.rule == "service":
            return True
        first, last, _ = self.quiet
        return open_at((last, first, (0, 1, 2, 3, 4, 5, 6)), here)

    def pass_to(self, now):
        """Whatever is due at a moment. Room goes to service messages first, then to who waits
        longest."""
        for ident in self.people:
            for letter in sorted(
                self.letters, key=lambda one: (one.rule != "service", one.starts, one.number)
            ):
                stands = self.stands.get((letter.number, ident))
                if stands and stands.outcome == "waiting" and stands.due <= now:
                    self.judge(letter, stands, self.people[ident], now)

    def look_again(self, now, ident=None):
        """Something that people wait for is another: until when they wait is worked out anew."""
        for letter in self.letters:
            for person in self.people.values():
                stands = self.stands.get((letter.number, person.ident))
                if stands and stands.outcome == "waiting" and ident in (None, person.ident):
                    self.wait(letter, stands, person, now, stands.judged)

    def judge(self, letter, stands, person, now):
        stands.judged = True
        stands.outcome, why = self.stopped(letter, stands, person, now) or ("waiting", "")
        stands.because = frozenset({why})
        if (
            stands.outcome != "waiting"
            or now < letter.ends
            and self.wait(letter, stands, person, now)
        ):
            return
        blocked = self.blocked(letter, stands, person, now) if now < letter.ends else {}
        if "passed" in blocked:
            stands.outcome, stands.because = "late", frozenset({"passed"})
        elif "quiet_hours" in blocked:
            stands.outcome, stands.because = "quiet", frozenset({"quiet_hours"})
        elif blocked:
            stands.outcome, stands.because = "no_room", frozenset(blocked)
        else:
            stands.outcome, stands.at = ("bounced" if person.refuses else "delivered"), now
            if person.refuses:
                self.look_again(now, person.ident)

    def wait(self, letter, stands, person, now, room=True):
        """Finds the first half hour from now on at which nothing makes it wait. Says whether that
        is later than now."""
        moment, before = now, set()
        while moment < letter.ends:
            waits = {
                why
                for why, waits in self.blocked(letter, stands, person, moment, room).items()
                if waits
            }
            if not waits:
                break
            moment, before = moment + STEP, waits
        stands.due, stands.because = moment, frozenset(before)
        return moment > now

    def stopped(self, letter, stands, person, now):
        """The first reason for which it is not sent at all, whatever the hour."""
        asks = letter.rule != "service"
        yes = person.agreed is True or letter.topic and person.topic is True
        if person.suppressed:
            return "suppressed", "suppressed"
        if asks and person.agreed is False:
            return "no_consent", "refused_channel"
        if asks and letter.topic and person.topic is False:
            return "no_consent", "refused_topic"
        if person.mailbox == "none":
            return "no_address", "no_address"
        if person.mailbox == "bad":
            return "bad_address", "bad_address"
        if person.bounced_before:
            return "bounced_before", "bounced"
        if letter.rule == "agreed" and not yes:
            return "no_consent", "never_asked"
        if asks and person.paused:
            return "no_consent", "paused"
        if stands.repeated:
            return "duplicate", "repeated_address"
        if letter.again == "message" and any(
            self.stands[other.number, person.ident].outcome == "delivered"
            for other in self.letters
            if other.message == letter.message and other is not letter
        ):
            return "had_it", "had_before"
        if letter.at_last == "drop" and now >= letter.ends:
            return "late", "last_moment"
        if letter.still_in and person.bought:
            return "left_audience", "left_audience"
        if asks and person.ident in self.held_out:
            return "held_out", "held_out"
        if stands.control:
            return "control", "control_group"
        return None

    def blocked(self, letter, stands, person, moment, room=True):
        """What keeps it from leaving at a moment: reason → whether it waits for that."""
        found = {}
        begins = self.begins(letter, stands, person)
        if begins is None:
            return {"passed": False}
        own = "portion" if stands.portion else "own_clock"
        if stands.hour is not None:
            own, begins = "best_hour", self.at_hour(letter, stands, person, begins)
        if moment < begins:
            found[own] = True
        here = person.clock(moment)
        if not letter_open(letter, here):
            found["hours"] = True
        if self.quiet and letter.rule != "service":
            first, last, does = self.quiet
            if not open_at((last, first, (0, 1, 2, 3, 4, 5, 6)), here):
                found["quiet_hours"] = does == "wait"
        if room:
            for why in self.full(letter, person, moment):
                found[why] = letter.no_room == "wait"
        return found

    def begins(self, letter, stands, person):
        """From when on it may reach a person; None: never."""
        key = letter.number, letter.starts, person.zone, stands.portion
        if key not in self.known_begins:
            self.known_begins[key] = self._begins(letter, stands, person)
        return self.known_begins[key]

    def _begins(self, letter, stands, person):
        begins = letter.starts
        here = person.clock(begins).replace(tzinfo=None)
        wanted = letter.local or here
        if wanted < here and letter.passed == "skip":
            return None
        while wanted < here and letter.passed == "next_day":
            wanted += dt.timedelta(days=1)
        while person.clock(begins).replace(tzinfo=None) < wanted:
            begins += STEP
        for portion in range(stands.portion + 1):
            begins += dt.timedelta(minutes=letter.gap) if portion else dt.timedelta()
            while stands.portion and not letter_open(letter, person.clock(begins)):
                begins += STEP
        return begins

    def at_hour(self, letter, stands, person, begins):
        """When their hour begins first, or lasts, from a moment on while it may leave; at that
        moment where it never may."""
        key = letter.number, person.zone, self.quiet, stands.hour, begins
        if key in self.known_hours:
            return self.known_hours[key]
        found = begins
        for ahead in range(21 * 48):
            here = person.clock(begins + ahead * STEP)
            lasts = here.hour == stands.hour and (not ahead or not here.minute)
            if lasts and self.open_for(letter, here):
                found = begins + ahead * STEP
                break
        self.known_hours[key] = found
        return found

    def full(self, letter, person, moment):
        """Which of the limits and the person's own wish leave no room at a moment."""
        had = [
            (stands.at, other.tagged)
            for other in self.letters
            if (stands := self.stands.get((other.number, person.ident)))
            and stands.outcome == "delivered"
            and other.counts
        ]
        found = set()
        for limit in self.limits if letter.obeys else ():
            if limit.tagged and not letter.tagged:
                continue
            within = [
                at
                for at, tagged in had
                if (tagged or not limit.tagged) and self.within(limit, person, at, moment)
            ]
            if len(within) >= limit.most:
                found.add("cap")
        if letter.rule != "service" and person.wish:
            week = Limit(person.wish, 1, "week")
            if sum(self.within(week, person, at, moment) for at, _ in had) >= person.wish:
                found.add("own_limit")
        return found

    @staticmethod
    def within(limit, person, at, moment):
        """Whether something that went at a moment counts at another one."""
        if limit.unit == "minute":
            return moment - at < dt.timedelta(minutes=limit.length)
        then, here = person.clock(at).date(), person.clock(moment).date()
        if limit.unit == "day":
            return (here - then).days < limit.length
        if limit.unit == "week":
            monday = [day - dt.timedelta(days=day.weekday()) for day in (then, here)]
            return (monday[1] - monday[0]).days < 7 * limit.length
        return (here.year - then.year) * 12 + here.month - then.month < limit.length


def letter_open(letter, here):
    """Whether its own hours and holidays let a send leave at a time on somebody's clock."""
    return open_at(letter.hours, here) and here.date() not in letter.holidays


def open_at(hours, here):
    """Whether a window of hours is open at a moment on somebody's clock. One over midnight belongs
    to the day on which it begins."""
    begins, ends, days = hours
    minute = here.hour * 60 + here.minute
    if begins < ends:
        return here.weekday() in days and begins <= minute < ends
    if minute >= begins:
        return here.weekday() in days
    return minute < ends and (here.weekday() - 1) % 7 in days
