"""Parts of a typed step: spans of time, hours and days, things by their names, events by what
people did, and the words that nothing was made of."""

import dataclasses
import re
from collections.abc import Mapping

from meadowrun.core import wording
from meadowrun.core.audience import typed as people
from meadowrun.core.audience.edit import fresh
from meadowrun.core.journeys.steps import Span, Step, Who
from meadowrun.core.journeys.words import Names

#: Numbers as they are said of spans and of times.
NUMBERS = wording.NUMBERS | {"no": 0, "a couple of": 2, "couple of": 2, "a few": 3}
_UNIT = r"(?P<unit>min(?:ute)?s?|h(?:ou)?rs?|days?|weeks?|fortnights?|months?|nights?)"
_NUMBER = "|".join(sorted(NUMBERS, key=len, reverse=True))
_SPAN = re.compile(rf"\b(?P<amount>\d+|{_NUMBER})\s+{_UNIT}\b", re.I)
#: “half an hour”: so many minutes, or so many hours.
_HALF = re.compile(r"\bhalf (?:an? )?(?P<unit>hour|day)\b", re.I)
_HALVES = {"hour": Span(30, "minute"), "day": Span(12, "hour")}
_CLOCK = re.compile(
    r"\b(?:(?:but )?not before|until|at|by|till)?\s*(?P<hour>\d{1,2})(?:[:.](?P<minute>\d\d))?\s*"
    r"(?P<half>am|pm)?\b",
    re.I,
)
#: Times of a day by name → minutes after midnight.
_TIMES_OF_DAY = {"morning": 9 * 60, "noon": 12 * 60, "afternoon": 14 * 60, "evening": 18 * 60}
_TIME_OF_DAY = re.compile(
    rf"\b(?:at |in the |until |till )?(?P<time>{'|'.join(_TIMES_OF_DAY)})\b", re.I
)
_WEEKDAY = re.compile(
    r"\b(?:until |till |on |for )?(?:the )?(?:next |coming )?"
    r"(?P<day>mon|tues|wednes|thurs|fri|satur|sun)day\b",
    re.I,
)
_DAYS = ("mon", "tues", "wednes", "thurs", "fri", "satur", "sun")
#: Words that carry no meaning of their own here.
_FILLERS = re.compile(
    r"\b(?:then|and|please|they|the|their|own|time|a|an|for|to|up|at|most|within|of|them|someone|"
    r"people|until|or|in|from|with|step|after|it|is|are|was|who|message|segment|have|has|not|"
    r"don[’']t|do|did|didn[’']t|haven[’']t|apart|that|into|on to|till|first|now|mail|belong|"
    r"straight away|right away|immediately|max|maximum)\b",
    re.I,
)


@dataclasses.dataclass(frozen=True, slots=True)
class Reading:
    """What was made of a typed step, and the words of it that nothing was made of."""

    step: Step
    unused: tuple[str, ...] = ()


def rest_of(text: str, *used: str) -> tuple[str, ...]:
    """The words of a text that were not used and mean something."""
    return tuple(re.findall(r"[^\W_][\w’'-]*", _FILLERS.sub(" ", without(text, *used))))


def without(text: str, *parts: str) -> str:
    """A text without the first of each of some parts."""
    for part in parts:
        text = re.sub(re.escape(part), " ", text, count=1, flags=re.I) if part else text
    return text


def span_in(text: str) -> tuple[Span, str] | None:
    """The first span of time of a text, and the words of it."""
    half = _HALF.search(text)
    if half is not None:
        return _HALVES[half["unit"].lower()], half[0]
    met = _SPAN.search(text)
    if met is None:
        return None
    said = met["amount"].lower()
    amount = int(said) if said.isdecimal() else NUMBERS[said]
    unit = met["unit"].lower()
    if unit.startswith(("fortnight", "month")):
        return Span(amount * (14 if unit[0] == "f" else 30), "day"), met[0]
    key = {"m": "minute", "h": "hour", "d": "day", "n": "day", "w": "week"}[unit[0]]
    return Span(amount, key), met[0]


def begins_with_span(text: str) -> bool:
    """Whether a text begins with a span of time."""
    return bool(_SPAN.match(text) or _HALF.match(text))


def weekday_in(text: str) -> tuple[int, str] | None:
    """A day of the week (0 is Monday) of a text, and the words of it."""
    met = _WEEKDAY.search(text)
    return (_DAYS.index(met["day"].lower()), met[0]) if met else None


def clock_in(text: str) -> tuple[int, str] | None:
    """An hour of the day in minutes after midnight, and the words of it."""
    named = ("at", "until", "till", "not before", "but not before")
    for met in _CLOCK.finditer(text):
        hour, minute = int(met["hour"]), int(met["minute"] or 0)
        half = (met["half"] or "").lower()
        if not (met["minute"] or half or met[0].strip().lower().startswith(named)):
            continue
        if half == "pm" and hour < 12:
            hour += 12
        if half == "am" and hour == 12:
            hour = 0
        if hour < 24 and minute < 60:
            return hour * 60 + minute, met[0].strip()
    said = _TIME_OF_DAY.search(text)
    return (_TIMES_OF_DAY[said["time"].lower()], said[0]) if said else None


def named(text: str, name: str) -> str | None:
    """The words of a text that name something; None where it does not. Either may be longer: the
    whole name in the text, or the whole text the beginning of the name or a part of it."""
    if name.lower() in text.lower():
        at = text.lower().index(name.lower())
        return text[at : at + len(name)]
    bare = text.strip(" .,“”\"'").lower()
    if len(bare) >= 3 and bare in name.lower():
        return text
    return None


def things_in(text: str, things: Mapping[int, str]) -> list[tuple[int, str]]:
    """The things that a text names: number and the words, the longest first."""
    found = [
        (number, said) for number, name in things.items() if (said := named(text, name)) is not None
    ]
    return sorted(found, key=lambda one: -len(one[1]))[:3]


def who_of(text: str, names: Names) -> list[tuple[Who, tuple[str, ...]]]:
    """The people that words may mean, each with the words that nothing was made of; the likeliest
    first."""
    return [
        (Who(lines=(fresh(one.line),)), one.unused)
        for one in people.read(text.strip(" :“”\"'"), names.words, names.today)
    ][:3]


def people_in(text: str, names: Names) -> list[tuple[Who, tuple[str, ...]]]:
    """The people that words may mean, also those of a segment that is named, each with the words
    that nothing was made of."""
    saved = [(Who(number), rest_of(text, at)) for number, at in things_in(text, names.segments)]
    return saved + who_of(text, names)


def done_in(text: str, names: Names) -> list[tuple[str, str]]:
    """The events that a text names, by key, each with its words. Words that say one exactly say no
    other: “renewed a membership” is not “started a membership” in another tense."""
    said = [(key, did, at) for key, did in names.events.items() if (at := _did(text, did))]
    exact = [at.lower() for _, did, at in said if at.lower() == did.lower()]
    same_verb = [at.lower() for _, did, at in said if verb_in(at, did)]
    found = []
    for key, did, at in said:
        words = at.lower()
        taken = any(words in one or one in words for one in exact)
        other = any(words in one or one in words for one in same_verb) and not verb_in(at, did)
        if words != did.lower() and (taken or other):
            continue
        found.append((key, at))
    return found


def _did(text: str, did: str) -> str | None:
    """The words of a text that say what somebody did, in any tense: “buys a ticket” for “bought a
    ticket”."""
    if did.lower() in text.lower():
        at = text.lower().index(did.lower())
        return text[at : at + len(did)]
    rest = did.split(" ", 1)[1] if " " in did else ""
    rest = re.sub(r"^(?:a|an|the) ", "", rest)
    if len(rest) >= 4 and rest.lower() in text.lower():
        at = text.lower().index(rest.lower())
        before = re.search(r"\w+(?: (?:a|an|the|their))? $", text[:at])
        return text[before.start() if before else at : at + len(rest)]
    return None if " " in did else verb_in(text, did)


def verb_in(text: str, did: str) -> str | None:
    """The word of a text that is the verb of what somebody did, in any tense of a regular verb."""
    stem = re.sub(r"(?:ed|d|s|ing)$", "", did.split(" ", 1)[0].lower())
    met = re.search(rf"\b{re.escape(stem)}(?:e|ed|s|es|ing)?\b", text, re.I)
    return met[0] if met and len(stem) >= 4 else None
