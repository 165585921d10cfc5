"""Typed starts: something happens, a date comes near, somebody becomes one of certain people."""

import dataclasses
import re

from meadowrun.core.journeys.steps import MOST_BACK, Start, WaitStep
from meadowrun.core.journeys.typed.parts import NUMBERS, clock_in, done_in, people_in, rest_of
from meadowrun.core.journeys.typed.waits import for_date
from meadowrun.core.journeys.words import Names
from meadowrun.core.timing import rhythm
from meadowrun.core.timing.rhythm import RhythmError

_BACK = re.compile(
    r",? (?:and )?(?:also|including)(?: (?:those|whoever did))?(?: (?:of|in|within))? the "
    rf"(?:last|past) (?P<days>\d{{1,3}}|{'|'.join(NUMBERS)}) days?\b",
    re.I,
)
Found = list[tuple[Start, tuple[str, ...]]]

_WHEN = re.compile(r"(?:(?:it )?starts? )?(?:as soon as|whenever|when|once|if|or)?\b ?", re.I)
_SOMEONE = re.compile(
    r"(?:some(?:one|body)|they|whoever|people|an? (?:person|contact)|contacts?)\b\s*", re.I
)
_TURNS = re.compile(
    r"(?:becomes?|turns?(?: into)?|enters?|joins?|comes? into|(?:is|are|gets?) added to)"
    r"(?: one)?(?: of)?\b",
    re.I,
)
_TURNS_NOT = re.compile(
    r"(?:(?:(?:is|are) )?(?:no longer|not any ?more)|stops? being|leaves?|ceases? to be)"
    r"(?: one)?(?: of)?(?: in)?\b",
    re.I,
)
_EVERYONE = re.compile(
    r"(?:at once )?(?:with |for )?(?:everyone|everybody|all(?: people| contacts)?)\b"
    r"(?:,? at once,?)?",
    re.I,
)
_ONLY_IF = re.compile(
    r",? (?:(?:but )?only )?(?:if|where|for)(?: it is)?(?: (?:those|one))?\b", re.I
)


def read_start(text: str, names: Names) -> Found:
    """What may bring people in by words: “bought a ticket”, “7 days before their renewal date”,
    “becomes a member”, “everyone in Members”; each with the words that nothing was made of, the
    likeliest first."""
    said = " ".join(text.split())
    for begins in (_WHEN, _SOMEONE):
        met = begins.match(said)
        said = said[met.end() :] if met else said
    found = [*_told(said, names), *_of_people(said, names)]
    if only := _ONLY_IF.search(said):
        some = people_in(said[only.end() :], names)
        found += [
            (dataclasses.replace(start, who=who), (*unused, *beside))
            for start, unused in _told(said[: only.start()], names)
            for who, beside in some
        ]
    found += _by_rhythm(said, names)
    return sorted(found, key=lambda one: len(one[1]))


_ALL = re.compile(r",? ?(?:for |with )?\b(?:everyone|everybody|all)\b", re.I)
_EVERY = re.compile(r"\b(?:every|each|on the|on|daily|weekly|monthly)\b", re.I)


def _by_rhythm(text: str, names: Names) -> Found:
    """“every second Wednesday at 15:30, everyone in Members”, or the other way round."""
    said = _ALL.search(text)
    if said is None:
        return []
    days, people = text[: said.start()], text[said.end() :]
    if not days.strip():
        begins = list(_EVERY.finditer(people))
        if not begins:
            return []
        place = begins[0].start()
        days, people = people[place:], people[:place]
    clock = clock_in(days)
    if clock:
        days = days.replace(clock[1], " ", 1)
    try:
        rule = rhythm.read(days, names.today).rule()
    except RhythmError:
        return []
    people = re.sub(r"^\W*(?:who|whose|that)?\b", "", people).strip(" ,")
    at = clock[0] if clock else 9 * 60
    return [
        (Start("rhythm", who=who, at=at, rhythm=rule, first=names.today.isoformat()), unused)
        for who, unused in people_in(people, names)
    ]


def _told(text: str, names: Names) -> Found:
    """What happens, or a date that comes near, to whomever."""
    back, days, bare = _BACK.search(text), 0, text
    if back:
        said = back["days"].lower()
        days = int(said) if said.isdecimal() else NUMBERS[said]
        bare = text.replace(back[0], " ", 1)
    happens = [
        (Start("event", key, back=min(days, MOST_BACK)), rest_of(bare, at))
        for key, at in done_in(bare, names)
    ]
    return [*happens, *_dated(text, names)]


def _dated(text: str, names: Names) -> Found:
    """“3 days before their renewal date at 10:00”, “on their birthday”."""
    found: Found = []
    for reading in for_date(text, names):
        step = reading.step
        assert isinstance(step, WaitStep)
        days = step.span.length().total_seconds() / 86_400
        if days == int(days):
            before = int(days) if step.before else -int(days)
            at = 9 * 60 if step.at is None else step.at
            start = Start("date", date=step.date, before=before, at=at, yearly=step.yearly)
            found.append((start, tuple(one for one in reading.unused if one.lower() != "on")))
    return found


def _of_people(text: str, names: Names) -> Found:
    """“becomes a member”, “is no longer in Members”, “everyone in Members”."""
    for how, pattern in (("everyone", _EVERYONE), ("turns_not", _TURNS_NOT), ("turns", _TURNS)):
        met = pattern.match(text)
        if met is not None:
            rest = re.sub(r"^\W*(?:who|whose|that)?\b", "", text[met.end() :]).strip()
            return [(Start(how, who=who), unused) for who, unused in people_in(rest, names)]
    return []
