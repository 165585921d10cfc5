"""When a send starts, when it reaches whom, and when it ends."""

import dataclasses
import datetime as dt
import itertools
import zoneinfo
from collections import Counter
from collections.abc import Sequence

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.errors import Invalid
from meadowrun.core import wording
from meadowrun.core.guardrails.limits import within_words
from meadowrun.core.language import Wording, worded
from meadowrun.core.timing.best_hours import open_hours
from meadowrun.core.timing.hours import Hours, HoursError, hours_words
from meadowrun.core.timing.moments import Moments, by_hour
from meadowrun.core.timing.rhythm import Rhythm, at_words
from meadowrun.core.timing.zones import moment_of, zone_of
from meadowrun.gateways.channels import CHANNELS
from meadowrun.messages.models import Message
from meadowrun.messages.queries import to_send
from meadowrun.outgoing import calendars
from meadowrun.outgoing.models import Holidays, QuietHours
from meadowrun.outgoing.timing import ZONES
from meadowrun.sends.models import Send

#: So long before a moment that is offered somebody can still look at everything.
_TO_LOOK = dt.timedelta(minutes=15)


def zones_on_file(session: orm.Session, send: Send) -> list[zoneinfo.ZoneInfo]:
    """The zones of all contacts; whoever has none has that of the send, which is the
    organisation's where it goes by each person's own clock."""
    here = zoneinfo.ZoneInfo(send.zone)
    names = session.scalars(sa.text(ZONES)).all()
    return list({here, *(zone_of(name) or here for name in names)})


def starts(session: orm.Session, send: Send, now: dt.datetime) -> dt.datetime:
    """When a send starts: now, at its moment, or when that comes first on anybody's clock; one that
    repeats, at its first date from now on."""
    if send.leaves_at is None:
        return now
    if send.rhythm:
        following = next_date(session, send, None, now)
        return date_starts(session, send, following) if following else now
    return max(date_starts(session, send, first_local(send)), now)


def first_local(send: Send) -> dt.datetime:
    """The moment of a planned send (naive), as the clock it goes by shows it."""
    if send.local_at is not None:
        return send.local_at
    if send.leaves_at is None:
        raise ValueError("a send without a moment has no date")
    return send.leaves_at.astimezone(zoneinfo.ZoneInfo(send.zone)).replace(tzinfo=None)


def date_starts(session: orm.Session, send: Send, local: dt.datetime) -> dt.datetime:
    """When a date of a send starts: at its moment, or when that comes first on anybody's clock."""
    if send.local_at is None:
        return moment_of(local, zoneinfo.ZoneInfo(send.zone))
    return min(moment_of(local, place) for place in zones_on_file(session, send))


def next_date(
    session: orm.Session, send: Send, after: dt.datetime | None, now: dt.datetime | None = None
) -> dt.datetime | None:
    """The next date (naive) of a send that repeats, later than one of its dates (None: the first),
    and not before now; None: there is none any more."""
    rhythm, first = Rhythm.of(send.rhythm), first_local(send)
    for date in rhythm.dates(first):
        if after is not None and date <= after:
            continue
        if now is None or date_starts(session, send, date) >= now:
            return date
    return None


def dates_ahead(send: Send, most: int = 10) -> list[dt.datetime]:
    """The next dates (naive) of a send that repeats, as the clock it goes by shows them."""
    if not send.rhythm or send.leaves_at is None:
        return []
    found = Rhythm.of(send.rhythm).dates(first_local(send))
    since = send.next_local
    return list(itertools.islice((d for d in found if since is None or d >= since), most))


def has_passed(session: orm.Session, send: Send, now: dt.datetime) -> bool:
    """Whether the moment of a send lies behind everybody, and all its dates if it repeats."""
    if send.leaves_at is None:
        return False
    if send.rhythm:
        return next_date(session, send, None, now) is None
    soon = now - dt.timedelta(minutes=5)
    if send.local_at is None:
        return send.leaves_at < soon
    places = zones_on_file(session, send)
    return all(moment_of(send.local_at, place) < soon for place in places)


def moments_of(session: orm.Session, send: Send, starts_at: dt.datetime) -> Moments:
    """When a send that starts at a moment may reach people. Raises HoursError."""
    return Moments(
        starts_at,
        send.local_at,
        send.passed,
        calendars.hours_of(session, send.hours),
        send.portion_gap if send.portion_size else 0,
    )


def last_moment(session: orm.Session, send: Send, starts_at: dt.datetime) -> dt.datetime:
    """When a send that starts at a moment ends for whoever still waits: at the moment that was
    named, or so many hours after it may reach the last zone; and before its message expires."""
    moments = moments_of(session, send, starts_at)
    begins = [starts_at]
    if send.local_at is not None:
        found = (moments.begins(place) for place in zones_on_file(session, send))
        begins += [moment for moment in found if moment is not None]
    # Everybody's best hour comes within a day.
    spread = dt.timedelta(days=1) if send.best_hour else dt.timedelta(0)
    last = max(begins).replace(microsecond=0) + spread
    until = send.ends_at or last + dt.timedelta(hours=send.within_hours)
    life = life_of(session, send)
    return until if life is None else min(until, last + life)


def end_of(moment: dt.datetime, repeats: bool, now: dt.datetime) -> dt.datetime:
    """A moment after which nothing of a send leaves, checked. Raises Invalid."""
    if repeats:
        raise Invalid(
            "A send that repeats ends so long after each date. Choose how long.", "within"
        )
    if moment <= now:
        raise Invalid("That moment has passed. Choose one ahead.", "within")
    return moment


def begins_proposed(send: Send, now: dt.datetime, zone: dt.tzinfo) -> dt.datetime:
    """The moment that is offered where somebody chooses one, on the clock it would be named in: the
    one that is set, else the full hour that leaves enough time to look at everything before."""
    if send.leaves_at:
        return send.local_at or send.leaves_at.astimezone(zoneinfo.ZoneInfo(send.zone))
    return (now + _TO_LOOK + dt.timedelta(hours=1)).astimezone(zone).replace(minute=0)


def ends_proposed(send: Send, now: dt.datetime) -> dt.datetime:
    """The end that is offered where none is named: so long after the start as is chosen, on the
    clock of the send."""
    begins = max(send.leaves_at or now, now)
    ends = send.ends_at or begins + dt.timedelta(hours=send.within_hours)
    return ends.astimezone(zoneinfo.ZoneInfo(send.zone))


def life_of(session: orm.Session, send: Send) -> dt.timedelta | None:
    """How long its message is of use once it could go; None: for as long as it waits."""
    message = session.get(Message, send.message_id) if send.message_id else None
    if message is None:
        return None
    document = to_send(session, message, send.takes)
    return CHANNELS[message.channel].life(document)


def last_words(session: orm.Session, send: Send) -> Wording:
    """How long people wait at most, in words: “within 7 days”, “until Fri 4 Dec 2026, 18:00”."""
    life, said = life_of(session, send), chosen_last_words(send)
    if life is None:
        return said
    if send.ends_at is not None:
        return Wording("%(said)s, while it has not expired", said=said)
    if dt.timedelta(hours=send.within_hours) <= life:
        return said
    # Whole hours that have begun.
    left = -(-int(life.total_seconds()) // 3600)
    return Wording("within %(time)s, when it expires", time=within_words(left))


def chosen_last_words(send: Send) -> Wording:
    """How long people wait at most by what was chosen, whatever its message says of that."""
    if send.ends_at is None:
        return Wording("within %(time)s", time=within_words(send.within_hours))
    local = send.ends_at.astimezone(zoneinfo.ZoneInfo(send.zone))
    return Wording(
        "until %(day)s, %(time)s",
        day=wording.weekday_date(local.date()),
        time=wording.time(local),
    )


def open_hours_of(session: orm.Session, send: Send, channel: str, now: dt.datetime) -> list[int]:
    """The hours of the day at which a send can reach people. Raises HoursError."""
    quiet = quiet_of(session, send, channel)
    starts_at = starts(session, send, now)
    hours = [moments_of(session, send, starts_at).hours, *([quiet.open] if quiet else [])]
    return open_hours(hours, starts_at.date())


def quiet_of(session: orm.Session, send: Send, channel: str) -> QuietHours | None:
    """The quiet hours that a send keeps to; None: there are none for it."""
    if send.consent_rule == "service" or CHANNELS[channel].waits_there:
        return None
    return session.get(QuietHours, channel)


def leaves_words(send: Send) -> Wording:
    """When a send leaves, in words; on whose clock is said where it is each person's own."""
    if send.leaves_at is None:
        return Wording("as soon as it is started")
    there = first_local(send)
    if send.rhythm:
        return _repeats_words(send, there)
    at = Wording(
        "%(day)s at %(time)s",
        day=wording.weekday_date(there.date()),
        time=wording.time(there),
    )
    return at if send.local_at is None else Wording("%(at)s their time", at=at)


def _repeats_words(send: Send, first: dt.datetime) -> Wording:
    """When a send that repeats leaves, in words."""
    said = Wording(
        "%(rhythm)s, from %(day)s",
        rhythm=at_words(Rhythm.of(send.rhythm), first),
        day=wording.day(first.date()),
    )
    if send.ends_empty:
        said = Wording("%(said)s, until nobody is left to get it", said=said)
    return said if send.local_at is None else Wording("%(said)s, on their clock", said=said)


def clock_words(send: Send) -> Wording:
    """`leaves_words` with the zone it is named in."""
    said = leaves_words(send)
    if send.leaves_at is None or send.local_at is not None:
        return said
    return Wording("%(at)s in the time zone of %(zone)s", at=said, zone=send.zone)


def hours_words_of(session: orm.Session, send: Send) -> Wording:
    """The hours of a send in words, with the holidays that it keeps."""
    try:
        said = hours_words(Hours.of(send.hours))
    except HoursError as problem:
        return worded(str(problem))
    found = session.get(Holidays, send.hours["calendar"]) if send.hours.get("calendar") else None
    return (
        Wording("%(hours)s but not on holidays (%(name)s)", hours=said, name=found.name)
        if found
        else said
    )


@dataclasses.dataclass(frozen=True, slots=True)
class Part:
    """The people of one part of the world: how many, and when the first and the last get it."""

    name: str
    people: int
    first: dt.datetime
    last: dt.datetime


@dataclasses.dataclass(frozen=True, slots=True)
class Arrivals:
    """When the people of a send get it, as far as the hours decide."""

    #: (moment, people), in order
    moments: Sequence[tuple[dt.datetime, int]]
    #: parts of the world, by when they get it
    parts: Sequence[Part]
    #: how many are reached only after the last moment, and so not at all
    too_late: int
    #: how many are not reached because their moment has passed
    passed: int
    #: how many of them have no zone of their own
    assumed: int
    #: the clock on which they are shown
    zone: zoneinfo.ZoneInfo

    @property
    def here(self) -> list[tuple[dt.datetime, int]]:
        """The moments on the organisation's clock."""
        return [(moment.astimezone(self.zone), count) for moment, count in self.moments]

    @property
    def people(self) -> int:
        return sum(people for _, people in self.moments)

    @property
    def length(self) -> dt.timedelta:
        """From the first until the last."""
        return self.moments[-1][0] - self.moments[0][0] if self.moments else dt.timedelta(0)


#: The part of the world that zones of the tz database name first.
PARTS = {
    "Africa": Wording("Africa"),
    "America": Wording("the Americas"),
    "Antarctica": Wording("the Antarctic"),
    "Arctic": Wording("the Arctic"),
    "Asia": Wording("Asia"),
    "Atlantic": Wording("the Atlantic"),
    "Australia": Wording("Australia"),
    "Europe": Wording("Europe"),
    "Indian": Wording("the Indian Ocean"),
    "Pacific": Wording("the Pacific"),
}


def arrivals(
    session: orm.Session,
    send: Send,
    channel: str,
    people: Sequence[tuple[str | None, int | None, int]],
    now: dt.datetime,
    zone: zoneinfo.ZoneInfo,
) -> Arrivals:
    """When the people of some zones (name, the hour chosen for them, how many) would get a send.
    Raises HoursError."""
    starts_at = starts(session, send, now)
    moments = moments_of(session, send, starts_at)
    quiet = quiet_of(session, send, channel)
    shut = [quiet.open] if quiet is not None and quiet.does == "wait" else list[Hours]()
    total = sum(count for *_, count in people)
    until = last_moment(session, send, starts_at)
    by_part: dict[str, list[tuple[zoneinfo.ZoneInfo, int | None, int]]] = {}
    for name, hour, count in people:
        place = zone_of(name) or zone
        by_part.setdefault(place.key.partition("/")[0], []).append((place, hour, count))
    reached: Counter[dt.datetime] = Counter()
    parts = []
    for name, counted in by_part.items():
        found = by_hour(counted, moments, shut, send.portion_size, total)
        reached.update(dict(found))
        in_time = [(moment, count) for moment, count in found if moment < until]
        if in_time:
            there = sum(count for _, count in in_time)
            shown = PARTS.get(name, name)
            parts.append(Part(shown, there, in_time[0][0], in_time[-1][0]))
    in_all = sorted((moment, count) for moment, count in reached.items() if moment < until)
    return Arrivals(
        in_all,
        sorted(parts, key=lambda part: (part.first, -part.people)),
        reached.total() - sum(count for _, count in in_all),
        total - reached.total(),
        sum(count for name, _, count in people if zone_of(name) is None),
        zone,
    )
