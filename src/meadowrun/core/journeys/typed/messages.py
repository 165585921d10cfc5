"""Typed messages: one, others in turn for whoever may not get it, and reminders."""

import dataclasses
import re
from collections.abc import Sequence

from meadowrun.core.channels import KINDS
from meadowrun.core.journeys.reading import MOST_NOTE
from meadowrun.core.journeys.steps import MessageStep, Path, Span, Step, WaitForStep
from meadowrun.core.journeys.typed import waits_for
from meadowrun.core.journeys.typed.parts import (
    NUMBERS,
    Reading,
    clock_in,
    named,
    rest_of,
    span_in,
)
from meadowrun.core.journeys.words import Names

_VERBS = re.compile(
    r"(?:then )?(?:try )?(?:send|email|e-mail|mail|text|sms|push notification|push|message|write)\b"
    r"(?: (?:them|the|an?))*"
    r"(?: (?:email|e-mail|text message|text|message|sms|push notification|push))?\b",
    re.I,
)
#: The channel named behind the message: “Welcome by email”, “the Welcome email”.
_BY = re.compile(
    r"\s*\b(?:by |as an? )?(?P<channel>e-?mail|text message|text|sms|push notification|push)$", re.I
)
#: Between messages of which the next is for whoever may not get the one before.
_INSTEAD = re.compile(
    r"[,;]?\s*\b(?:or else|or if not|otherwise|if not|else|"
    r"if (?:they|that) (?:can[’']?t|cannot|may not|can not)[^,;]*[,;]|"
    r"(?:or|, then)(?= (?:send|e-?mail|text|sms|push)\b))\b[,:]?\s*",
    re.I,
)
#: What is said of the others: it is what they are for.
_CANNOT = re.compile(
    r",?\s*\b(?:(?:if|where|when) (?:they|that|it) (?:can[’']?t|cannot|may not|can not)\b"
    r"|instead of an? ).*$",
    re.I,
)
#: All up to the word of a channel, which is followed by the name of a message.
_CHANNEL = re.compile(
    r"^.*?\b(?:e-?mail|text message|text|sms|push notification|push)\b(?: them\b)?", re.I
)
#: The letters of the name of a message that is still to be written.
_LEAST = 3
#: The most times that one typed line reminds.
_MOST_REMINDERS = 5
_TIMES = re.compile(
    r"\b(?:(?:up to|at most) )?(?:(?P<word>once|twice)|(?P<number>\w+) times)\b", re.I
)


def read(text: str, names: Names) -> list[Reading]:
    """“email Welcome, or else push Hello”."""
    first, *others = _INSTEAD.split(_CANNOT.sub("", text))
    found = _one(first, names)
    for other in others:
        best = _one(other, names) or _one(f"send {other}", names)
        if not found or not best:
            return []
        found = [_with_instead(one, best[0]) for one in found]
    return found


def _with_instead(first: Reading, other: Reading) -> Reading:
    assert isinstance(first.step, MessageStep) and isinstance(other.step, MessageStep)
    instead = (*first.step.instead, other.step.message)
    step = dataclasses.replace(first.step, instead=instead)
    return Reading(step, (*first.unused, *other.unused))


_HOURS = re.compile(
    r",? (?:only )?(?:between|from) (?P<begins>[\d:.]+ ?(?:am|pm)?) (?:and|to|till|until) "
    r"(?P<ends>[\d:.]+ ?(?:am|pm)?)(?: (?:their|on their own) (?:time|clock))?$",
    re.I,
)


_BEST = re.compile(
    r",? at (?:each person[’']?s|their|the|everyone[’']?s) best (?:hour|time)"
    r"(?: of (?:the )?day)?$",
    re.I,
)


def _one(text: str, names: Names) -> list[Reading]:
    """A message, also with hours of its own, or at the best hour of each person."""
    best = _BEST.search(text)
    if best is None:
        return _within_hours(text, names)
    found = []
    for one in _within_hours(text[: best.start()], names):
        assert isinstance(one.step, MessageStep)
        found.append(dataclasses.replace(one, step=dataclasses.replace(one.step, best=True)))
    return found


def _within_hours(text: str, names: Names) -> list[Reading]:
    said = _HOURS.search(text)
    if said is None:
        return _by_name(text, names)
    begins, ends = (clock_in(f"at {said[part]}") for part in ("begins", "ends"))
    if begins is None or ends is None or begins[0] == ends[0]:
        return _by_name(text, names)
    found = []
    for one in _by_name(text[: said.start()], names):
        assert isinstance(one.step, MessageStep)
        step = dataclasses.replace(one.step, begins=begins[0], ends=ends[0])
        found.append(dataclasses.replace(one, step=step))
    return found


def _by_name(text: str, names: Names) -> list[Reading]:
    met = _VERBS.match(text)
    if met is None:
        return []
    rest = text[met.end() :].strip(" :“”\"'")
    found = _named(met[0], rest, names)
    if not found:
        return _to_be_written(channel_of(met[0]), _CHANNEL.sub("", text, count=1))
    return [Reading(MessageStep("", number), unused) for number, unused in found]


def _to_be_written(begins: str, name: str) -> list[Reading]:
    """A message of a name that no message has: it is still to be written. The channel must be
    said."""
    channel = next((key for key, kind in KINDS.items() if kind.name.startswith(begins)), "")
    name = name.strip(" :“”\"'")
    if not begins or not channel or not _LEAST <= len(name) <= MOST_NOTE:
        return []
    return [Reading(MessageStep("", 0, note=name, channel=channel))]


def _named(verb: str, rest: str, names: Names) -> list[tuple[int, tuple[str, ...]]]:
    """The messages that the words behind a verb may name: the whole of them, or without the channel
    that stands last."""
    found = messages_in(rest, names, channel_of(verb))
    by = _BY.search(rest)
    if by and (not found or found[0][1]):
        bare = rest[: by.start()].strip(" :“”\"'")
        found = messages_in(bare, names, channel_of(by["channel"])) or found
    return found


def messages_in(text: str, names: Names, channel: str = "") -> list[tuple[int, tuple[str, ...]]]:
    """The messages that a text may name, the likeliest first, each with the words that are left; of
    those whose channel's word begins in one way only where that is given."""
    found = []
    for number, (name, of) in names.messages.items():
        said = named(text, name)
        if said is not None and of.lower().startswith(channel):
            found.append((len(said), number, rest_of(text, said)))
    best = sorted(found, key=lambda one: (len(one[2]), -one[0]))
    return [(number, unused) for _, number, unused in best[:5]]


def channel_of(verb: str) -> str:
    """How the word of a channel begins that a verb means; empty: any."""
    for words, begin in (("mail", "email"), ("text", "text"), ("sms", "text"), ("push", "push")):
        if words in verb.lower():
            return begin
    return ""


_REMIND = re.compile(
    r"(?:then )?(?:remind|nudge|chase|send (?:them )?(?:a )?reminders?)\b(?: them)?", re.I
)
_UNTIL = re.compile(r"\b(?:until|unless|till|if)\b", re.I)


def read_reminder(text: str, names: Names) -> list[Reading]:
    """“remind up to 2 times with Welcome every 3 days until they visited”: waits for it so often,
    and sends the message in between to whoever did not."""
    met, until = _REMIND.match(text), _UNTIL.search(text)
    if met is None:
        return []
    # Where it is not said until when: until they open what they were sent.
    before, behind = text[met.end() :], "opened it"
    if until:
        before, behind = text[met.end() : until.start()], text[until.end() :]
    often = _TIMES.search(before) or _TIMES.search(behind)
    if often:
        before, behind = (part.replace(often[0], " ", 1) for part in (before, behind))
    return _reminders(before, behind.strip(" ,"), _count(often), names)


_AGAIN = re.compile(
    r"(?:then )?(?P<verb>(?:re-?send|send|e-?mail|text|push)\b.+?)(?: again)?,? (?P<when>after|in) "
    r"(?P<span>.+?),? (?:if|unless|until)(?P<what> .+)",
    re.I,
)


#: What stands before and behind the name of a message.
_BESIDE = re.compile(
    r"^(?:(?:every|each|after|with|by|the|email)\b[\s,]*)+"
    r"|(?:[\s,]*\b(?:every|each|after|apart|again))+[\s,]*$",
    re.I,
)
#: “every day”: once in each.
_EVERY = re.compile(r"\b(?:every|each) (?P<unit>hour|day|week)\b", re.I)
_SEND = re.compile(r"(?:(?:re-?send|send|e-?mail|text|push)\b\s*)+(?:them\b)?(?:\s*the\b)?", re.I)


def read_again(text: str, names: Names) -> list[Reading]:
    """“send Come back again after 2 days if they have not opened it”."""
    met = _AGAIN.match(text)
    if met is None or span_in(met["span"]) is None:
        return []
    said = _SEND.sub("", met["verb"], count=1)
    return _reminders(f"{said} {met['span']}", met["what"], 1, names)


def _count(often: "re.Match[str] | None") -> int:
    """How often somebody is reminded; 0 where that is not understood."""
    if often is None:
        return 1
    word = (often["word"] or often["number"]).lower()
    return int(word) if word.isdecimal() else NUMBERS.get(word, 0)


#: The hours of the day of one reminder after the other.
_HOUR = r"\d{1,2}(?:[:.]\d{2})?(?: ?(?:am|pm))?"
_AT_HOURS = re.compile(
    rf",? ?\bat (?P<all>{_HOUR}(?:(?:,| and|, and|,? then) (?:at )?{_HOUR})*)", re.I
)
_NEXT_HOUR = re.compile(r",? (?:and|then) (?:at )?|, (?:at )?", re.I)
#: Minutes within which a reminder goes that is to go at an hour.
_WITHIN = 60


def _hours_in(text: str) -> tuple[str, list[int]]:
    """A text without the hours of the day that it says, and these, in minutes after midnight."""
    said = _AT_HOURS.search(text)
    if said is None:
        return text, []
    found = [clock_in(f"at {one}") for one in _NEXT_HOUR.split(said["all"])]
    clocks = [one[0] for one in found if one is not None]
    return (text.replace(said[0], " ", 1), clocks) if len(clocks) == len(found) else (text, [])


def _at_hour(step: MessageStep, hours: Sequence[int], place: int) -> MessageStep:
    """A reminder within the hour that is said for it; where fewer are said than reminders, they
    begin anew."""
    if not hours:
        return step
    begins = hours[place % len(hours)]
    return dataclasses.replace(step, begins=begins, ends=min(begins + _WITHIN, 24 * 60 - 1))


#: Between the messages of one reminder after the other.
_THEN = re.compile(r"\s*,?\s*\b(?:and )?then\b(?:\s+(?:with|by)\b)?\s*", re.I)


def _in_turn(said: str, names: Names) -> list[tuple[list[int], tuple[str, ...]]]:
    """The messages that are said one after the other, with the words that are left; several
    readings where it is one message that may be another."""
    parts = [part.strip(" ,:“”") for part in _THEN.split(said)]
    if len(parts) > 1:
        found = [messages_in(part, names) for part in parts]
        if all(found):
            left = tuple(word for one in found for word in one[0][1])
            return [([one[0][0] for one in found], left)]
    return [([number], tuple(left)) for number, left in messages_in(said.strip(" ,:“”"), names)]


def _reminders(before: str, awaited: str, count: int, names: Names) -> list[Reading]:
    """Waits for something so often, and sends a message in between: another each time where several
    are said, the last of them from then on."""
    found = waits_for.read(f"wait for {awaited}", names)
    if not found or not 1 <= count <= _MOST_REMINDERS:
        return []
    waits = found[0].step
    assert isinstance(waits, WaitForStep)
    before, hours = _hours_in(before)
    every = _EVERY.search(before)
    span = (Span(1, every["unit"].lower()), every[0]) if every else span_in(before)
    rest = before.replace(span[1], " ", 1) if span else before
    said = _BESIDE.sub("", " ".join(rest.split()))
    readings = []
    for numbers, left in _in_turn(said, names):
        inside: tuple[Step, ...] = ()
        times = max(count, len(numbers))
        for place in reversed(range(times)):
            number = numbers[min(place, len(numbers) - 1)]
            step = _at_hour(MessageStep("", number), hours, place)
            ways = (*waits.paths[:-1], Path("", (step, *inside)))
            inside = (WaitForStep("", span[0] if span else Span(3, "day"), ways),)
        readings.append(Reading(inside[0], (*left, *found[0].unused)))
    return readings
