"""Who becomes, or stops being, certain people: found from what changed and from what time does.

Everybody is asked about only where that cannot be told: the first time, when something else is
asked, on a new day where conditions go by days, and where conditions look at more than one person.
For each journey no more than a twentieth of the time goes there.
"""

import dataclasses
import datetime as dt
import hashlib
import time
import zoneinfo
from collections.abc import Collection, Mapping

import orjson
from pyroaring import BitMap

from meadowrun.core.audience import definition as d
from meadowrun.core.audience.dates import Clock
from meadowrun.core.audience.kinds.kind import turning_of
from meadowrun.core.audience.nodes import Definition
from meadowrun.core.audience.turning import CONTACTS, Turning
from meadowrun.core.journeys.steps import Start, Who
from meadowrun.journeys.membership import FEW, definition_of, everybody, members
from meadowrun.journeys.models import JourneySeen, JourneyWatch
from meadowrun.people.moment import Moment
from meadowrun.segments import changes
from meadowrun.segments.compile import Compiler
from meadowrun.segments.fetching import zones

#: So long after a look comes the next at the latest; and so long after everybody was asked about,
#: or so many times as long as that took, that is done again at the soonest.
OFTEN = dt.timedelta(seconds=30)
_SPARED = 20
#: Once asking about everybody took so many seconds, the journeys that are left wait for the next
#: look: meanwhile people go on.
_ENOUGH = 2.0
#: A clock on which what is asked is written down, so that only what is asked tells two apart.
_ANY_CLOCK = Clock(dt.datetime(2000, 1, 1, tzinfo=dt.UTC), zoneinfo.ZoneInfo("UTC"))


@dataclasses.dataclass
class Look:
    """One look at all journeys that ask who people are: of whom what changed since the last, and
    how much time went into asking about everybody."""

    moment: Moment
    changed: Mapping[str, BitMap]
    relied_on: Collection[str]
    zones: list[str]
    seconds: float = 0.0
    #: of the journey that is looked at: whether everybody may be asked about, how long that took,
    #: and what is stored about people that it goes by
    may_count: bool = False
    own_seconds: float = 0.0
    own_sources: set[str] = dataclasses.field(default_factory=set)

    @classmethod
    def of(cls, moment: Moment, changed: Mapping[str, BitMap]) -> "Look":
        """A look at a moment."""
        relied_on = changes.relied_on(moment.session)
        return cls(moment, changed, relied_on, zones(moment.session))

    def begin(self, watch: JourneyWatch) -> None:
        """Begins with a journey."""
        spared = max(OFTEN, dt.timedelta(seconds=watch.seconds * _SPARED))
        last = watch.counted_at
        rested = last is None or last + spared <= self.moment.now
        self.may_count = rested and self.seconds < _ENOUGH
        self.own_seconds, self.own_sources = 0.0, set()

    def end(self, watch: JourneyWatch) -> None:
        """Keeps what was learnt of a journey."""
        if self.own_seconds:
            watch.counted_at, watch.seconds = self.moment.now, self.own_seconds
        if self.own_sources != {*watch.sources}:
            watch.sources = sorted(self.own_sources)

    def counted(self, seconds: float) -> None:
        """Everybody was asked about, which took so long."""
        self.seconds += seconds
        self.own_seconds += seconds


def turned(look: Look, journey: int, start: Start) -> BitMap:
    """Who became, or stopped being, one of those that are meant, since the last look. Where it is
    asked for the first time, or something else is asked, nobody did. Raises Invalid."""
    moment = look.moment
    asked = definition_of(moment.session, moment.words, start.who)
    stamp = hashlib.sha256(orjson.dumps([start.how, d.dump(asked)])).hexdigest()
    seen = _seen(look, journey, start.id)
    some = _some(look, seen, asked)
    if some is not None and not some and seen.stamp == stamp:
        return BitMap()
    if some is None and seen.owed:
        return BitMap()
    before = BitMap.deserialize(seen.members) if seen.members else BitMap()
    if some is None:
        began = time.monotonic()
        now_in = everybody(moment, start.who)
        look.counted(time.monotonic() - began)
    else:
        now_in = (before - some) | BitMap(members(moment, start.who, some))
    known, seen.stamp = seen.stamp == stamp, stamp
    if now_in != before or not seen.members:
        seen.members = now_in.serialize()
    if not known:
        return BitMap()
    return now_in - before if start.how == "turns" else before - now_in


def who_turned(look: Look, journey: int, key: str, who: Who) -> BitMap | None:
    """Who may have become one of those that are meant since the last look; None: anybody. Raises
    Invalid."""
    moment = look.moment
    seen = _seen(look, journey, key)
    some = _some(look, seen, definition_of(moment.session, moment.words, who))
    return BitMap() if some is None and seen.owed else some


def _seen(look: Look, journey: int, key: str) -> JourneySeen:
    """What is known of an answer; nothing the first time."""
    session = look.moment.session
    seen = session.get(JourneySeen, (journey, key))
    if seen is None:
        seen = JourneySeen(journey_id=journey, start=key, stamp="", members=b"", asked="")
        session.add(seen)
    return seen


def _some(look: Look, seen: JourneySeen, asked: Definition) -> BitMap | None:
    """The people for whom an answer may have turned since it was known of everybody, and notes
    that it is known of everybody now; None where all have to be asked about. Where that must wait,
    it is owed."""
    words = look.moment.words
    turning = turning_of(asked, words)
    sources = {*turning.sources, CONTACTS}
    look.own_sources |= sources
    written = _written(look, asked)
    some = None
    if not seen.owed and seen.asked == written and seen.as_of is not None:
        some = _by_what_changed(look, turning, sources, seen.as_of)
    if some is None and not look.may_count:
        seen.owed = True
        return None
    if some is None:
        changes.note_ahead(look.moment, sources)
    seen.asked, seen.as_of, seen.owed = written, look.moment.now, False
    return some


def _written(look: Look, asked: Definition) -> str:
    """What is asked, with all that it names, as one short text."""
    compiler = Compiler(look.moment.words, _ANY_CLOCK)
    predicate = compiler.definition(asked)
    whole = orjson.dumps([predicate, repr(sorted(compiler.values.items()))])
    return hashlib.sha256(whole).hexdigest()


def _by_what_changed(
    look: Look, turning: Turning, sources: set[str], since: dt.datetime
) -> BitMap | None:
    """The people for whom an answer may have turned since a moment; None where it may be too many
    to ask about one by one, or cannot be told."""
    if not turning.followed or not sources <= {*look.relied_on}:
        return None
    if turning.daily and _another_day(look, since):
        return None
    found = changes.of(look.changed, sources)
    if found is None:
        return None
    for kind, days in turning.after:
        found |= changes.some_time_after(look.moment, kind, days, since)
    return found if len(found) <= FEW else None


def _another_day(look: Look, since: dt.datetime) -> bool:
    """Whether a day began on somebody's clock since a moment."""
    then = Clock(since, look.moment.zone)
    now = Clock(look.moment.now, look.moment.zone)
    return any(then.today(zone) != now.today(zone) for zone in (None, *look.zones))
