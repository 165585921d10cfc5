"""A step as somebody types it: “wait 3 days”, “email Welcome”, “if in Members”, read into a step,
with the words that nothing was made of."""

import dataclasses
import re
from collections.abc import Callable, Mapping

from meadowrun.core.audience import typed as people
from meadowrun.core.audience.edit import fresh
from meadowrun.core.journeys.edit import equal
from meadowrun.core.journeys.reading import MOST_SUBJECT
from meadowrun.core.journeys.steps import (
    BranchStep,
    ChangeStep,
    ExitRule,
    ExitStep,
    JumpStep,
    MessageStep,
    Path,
    Span,
    SplitStep,
    Step,
    TaskStep,
    WaitForStep,
    WaitStep,
    WebhookStep,
    Who,
)
from meadowrun.core.journeys.words import Names
from meadowrun.core.tasks import KINDS

_NUMBERS = {
    word: number
    for number, word in enumerate(
        [
            "no",
            "one",
            "two",
            "three",
            "four",
            "five",
            "six",
            "seven",
            "eight",
            "nine",
            "ten",
            "eleven",
            "twelve",
        ]
    )
} | {"a": 1, "an": 1, "half": 0}
_UNIT = r"(?P<unit>min(?:ute)?s?|h(?:ou)?rs?|days?|weeks?|fortnights?|nights?)"
_SPAN = re.compile(rf"\b(?P<amount>\d+|{'|'.join(_NUMBERS)})\s+{_UNIT}\b", re.I)
_CLOCK = re.compile(
    r"\b(?:until|at|by|till)?\s*(?P<hour>\d{1,2})(?:[:.](?P<minute>\d\d))?\s*(?P<half>am|pm)?\b",
    re.I,
)
_SHARES = re.compile(r"\d{1,2}")
_REACTED = (
    ("opened", re.compile(r"\bopen(?:s|ed|ing)?(?:\s+(?:it|the (?:email|message)))?\b", re.I)),
    ("clicked", re.compile(r"\bclick(?:s|ed|ing)?(?:\s+(?:in )?(?:it|a link|any link))?\b", re.I)),
    ("bounced", re.compile(r"\bbounc(?:es|ed|ing)?\b", re.I)),
)
#: Words that carry no meaning of their own here.
_FILLERS = re.compile(
    r"\b(?:then|and|please|they|the|their|own|time|a|an|for|to|up|at|most|within|of|them|someone|"
    r"people|until|or|in|from|with|step|after|it|is|are|was|who|message|segment|have|has|not)\b",
    re.I,
)


@dataclasses.dataclass(frozen=True, slots=True)
class Reading:
    """What was made of a typed step, and the words of it that nothing was made of."""

    step: Step
    unused: tuple[str, ...] = ()


def read(text: str, names: Names) -> list[Reading]:
    """The readings of a typed step, the most likely first: none where it is not understood."""
    said = " ".join(text.split())
    found = [reading for reader in _READERS for reading in reader(said, names)]
    return sorted(found, key=lambda one: len(one.unused))


def _rest(text: str, *used: str) -> tuple[str, ...]:
    """The words of a text that were not used and mean something."""
    for part in used:
        text = re.sub(re.escape(part), " ", text, count=1, flags=re.I) if part else text
    return tuple(re.findall(r"[^\W_][\w’'-]*", _FILLERS.sub(" ", text)))


def _span(text: str) -> tuple[Span, str] | None:
    """The first span of time of a text, and the words of it."""
    met = _SPAN.search(text)
    if met is None:
        return None
    said = met["amount"].lower()
    amount = int(said) if said.isdecimal() else _NUMBERS[said]
    unit = met["unit"].lower()
    if unit.startswith("fortnight"):
        return Span(amount * 14, "day"), met[0]
    if said == "half":
        return None
    key = {"m": "minute", "h": "hour", "d": "day", "n": "day", "w": "week"}[unit[0]]
    return Span(amount, key), met[0]


_WEEKDAY = re.compile(
    r"\b(?:until |on |for )?(?:the )?(?:next |coming )?"
    r"(?P<day>mon|tues|wednes|thurs|fri|satur|sun)day\b",
    re.I,
)
_DAYS = ("mon", "tues", "wednes", "thurs", "fri", "satur", "sun")


def _weekday(text: str) -> tuple[int, str] | None:
    """A day of the week (0 is Monday) of a text, and the words of it."""
    met = _WEEKDAY.search(text)
    return (_DAYS.index(met["day"].lower()), met[0]) if met else None


def _clock(text: str) -> tuple[int, str] | None:
    """An hour of the day in minutes after midnight, and the words of it."""
    for met in _CLOCK.finditer(text):
        hour, minute = int(met["hour"]), int(met["minute"] or 0)
        half = (met["half"] or "").lower()
        if not (met["minute"] or half or met[0].strip().lower().startswith(("at", "until"))):
            continue
        if half == "pm" and hour < 12:
            hour += 12
        if half == "am" and hour == 12:
            hour = 0
        if hour < 24 and minute < 60:
            return hour * 60 + minute, met[0].strip()
    return None


def _wait(text: str, names: Names) -> list[Reading]:
    met = re.match(
        r"(?:then )?(?:wait|pause|hold|sleep|delay|after|do nothing|(?=until\b))", text, re.I
    )
    if met is None and not _SPAN.match(text):
        return []
    if re.match(r"wait for\b", text, re.I) and not _SPAN.match(text[9:]):
        return []
    rest = text[met.end() :] if met else text
    dated = _wait_for_date(rest, names)
    if dated:
        return dated
    span, clock = _span(rest), None
    used = [span[1]] if span else []
    clock = _clock(rest.replace(span[1], " ", 1) if span else rest)
    day = re.search(r"\b(?:until )?(?:tomorrow|the next (?:day|morning))\b", rest, re.I)
    if span is None and day is not None:
        span = Span(1, "day"), day[0]
        used.append(day[0])
        if "morning" in day[0].lower() and clock is None:
            clock = 9 * 60, ""
    weekday = _weekday(rest)
    if span is None and clock is None and weekday is None:
        return []
    if clock:
        used.append(clock[1])
    if weekday:
        used.append(weekday[1])
    length = span[0] if span else Span(0, "minute")
    step = WaitStep("", length, clock[0] if clock else None, weekday[0] if weekday else None)
    return [Reading(step, _rest(rest, *used))]


def _wait_for_date(text: str, names: Names) -> list[Reading]:
    """“until 3 days before their renewal date”."""
    found = [
        (ref, said)
        for ref, label in names.dates.items()
        if (said := _date_named(text, label)) is not None
    ]
    if not found:
        return []
    ref, said = max(found, key=lambda one: len(one[1]))
    rest = text.replace(said, " ", 1)
    span = _span(rest)
    beside = re.search(r"\b(before|after)\b|\b(?:the )?day of\b", rest, re.I)
    if span and not (beside and beside[1]):
        # “Wait 3 days, their birthday” says not on which side of it.
        return []
    clock = _clock(rest.replace(span[1], " ", 1) if span else rest)
    yearly = re.search(r"\b(?:next|each year|every year|whatever the year)\b", rest, re.I)
    used = [part for part in (span and span[1], beside and beside[0], clock and clock[1]) if part]
    step = WaitStep(
        "",
        span[0] if span else Span(0, "day"),
        clock[0] if clock else 9 * 60,
        None,
        ref,
        bool(beside and beside[1] and beside[1].lower() == "before"),
        yearly is not None or "birthday" in said.lower(),
    )
    return [Reading(step, _rest(rest, *used, yearly[0] if yearly else ""))]


def _date_named(text: str, label: str) -> str | None:
    """The words of a text that name a date: “renewal” names the “renewal date”."""
    bare = re.sub(r" (?:date|day)$", "", label.lower())
    for name in (label.lower(), bare):
        met = re.search(rf"\b{re.escape(name)}\b", text, re.I)
        if met:
            return met[0]
    return None


_VERBS = re.compile(
    r"(?:then )?(?:send|email|e-mail|mail|text|sms|push|message|write)\b(?: (?:them|the|an?))*"
    r"(?: (?:email|e-mail|text|text message|push|push notification|message|sms))?\b",
    re.I,
)


#: Between messages of which the next is for whoever may not get the one before.
_INSTEAD = re.compile(r"[,;]?\s*\b(?:or else|or if not|otherwise|if not)\b[,:]?\s*", re.I)


def _message(text: str, names: Names) -> list[Reading]:
    """“email Welcome, or else push Hello”."""
    text, *others = _INSTEAD.split(text)
    found = _one_message(text, names)
    for other in others:
        best = _one_message(other, names) or _one_message(f"send {other}", names)
        if not found or not best:
            return []
        found = [_with_instead(one, best[0]) for one in found]
    return found


def _with_instead(first: Reading, other: Reading) -> Reading:
    assert isinstance(first.step, MessageStep) and isinstance(other.step, MessageStep)
    instead = (*first.step.instead, other.step.message)
    step = dataclasses.replace(first.step, instead=instead)
    return Reading(step, (*first.unused, *other.unused))


def _one_message(text: str, names: Names) -> list[Reading]:
    met = _VERBS.match(text)
    if met is None:
        return []
    rest = text[met.end() :].strip(" :“”\"'")
    wanted = _channel(met[0])
    return [
        Reading(MessageStep("", number), unused)
        for number, unused in _messages(rest, names, wanted)
    ]


def _messages(text: str, names: Names, channel: str = "") -> list[tuple[int, tuple[str, ...]]]:
    """The messages that a text may name, the likeliest first, each with the words that are left; of
    those whose channel's word begins in one way only where that is given."""
    found = []
    for number, (name, of) in names.messages.items():
        said = _named(text, name)
        if said is not None and of.lower().startswith(channel):
            found.append((len(said), number, _rest(text, said)))
    best = sorted(found, key=lambda one: (len(one[2]), -one[0]))
    return [(number, unused) for _, number, unused in best[:5]]


def _channel(verb: str) -> str:
    """How the word of a channel begins that a verb means; empty: any."""
    for words, begin in (("mail", "email"), ("text", "text"), ("sms", "text"), ("push", "push")):
        if words in verb.lower():
            return begin
    return ""


def _named(text: str, name: str) -> str | None:
    """The words of a text that name something; None where it does not. Either may be longer: the
    whole name in the text, or the whole text the beginning of the name or a part of it."""
    if name.lower() in text.lower():
        at = text.lower().index(name.lower())
        return text[at : at + len(name)]
    bare = text.strip(" .,“”\"'").lower()
    if len(bare) >= 3 and bare in name.lower():
        return text
    return None


def _things(text: str, things: Mapping[int, str]) -> list[tuple[int, str]]:
    """The things that a text names: number and the words, the longest first."""
    found = [
        (number, said)
        for number, name in things.items()
        if (said := _named(text, name)) is not None
    ]
    return sorted(found, key=lambda one: -len(one[1]))[:3]


def _branch(text: str, names: Names) -> list[Reading]:
    met = re.match(
        r"(?:then )?(?:if|branch|check|for)\b(?: by)?(?: they are| they’re| is| are)?"
        r"(?: in| of| one of)?\b",
        text,
        re.I,
    )
    if met is None:
        return []
    rest = text[met.end() :].strip(" :“”\"'")
    found = [(Who(number), _rest(rest, said)) for number, said in _things(rest, names.segments)]
    if not any(not unused for _, unused in found):
        found += who_of(_SUBJECT.sub("", text), names)
    return [Reading(BranchStep("", (Path("", who=who), Path(""))), unused) for who, unused in found]


#: How a branch begins whose condition is said in words.
_SUBJECT = re.compile(r"(?:then )?(?:if|branch|check|for)\b(?: by)?(?: they(?: are|’re)?)?", re.I)


def who_of(text: str, names: Names) -> list[tuple[Who, tuple[str, ...]]]:
    """The people that words may mean, each with the words that nothing was made of; the likeliest
    first."""
    return [
        (Who(lines=(fresh(one.line),)), one.unused)
        for one in people.read(text.strip(" :“”\"'"), names.words, names.today)
    ][:3]


def read_exit(text: str, names: Names) -> list[tuple[ExitRule, tuple[str, ...]]]:
    """What may take people out by words: something that they do, or what becomes true of them; with
    the words that nothing was made of."""
    said = re.sub(r"^(?:as soon as|when|once|if)\b", "", " ".join(text.split()), flags=re.I)
    found: list[tuple[ExitRule, tuple[str, ...]]] = [
        (ExitRule("", event=key), _rest(said, at)) for key, at in _done(said, names)
    ]
    found += [
        (ExitRule("", who=Who(number)), _rest(said, at))
        for number, at in _things(said, names.segments)
    ]
    found += [(ExitRule("", who=who), unused) for who, unused in who_of(said, names)]
    return sorted(found, key=lambda one: len(one[1]))


_AWAITS = re.compile(r"(?:then )?(?:wait (?:for|until|till)|if(?: they)?|until)\b", re.I)
#: How long before what for: “wait up to 2 days for …”.
_UP_TO = re.compile(r"(?:then )?wait (?=(?:(?:up to|at most) )?\w+ \w+ (?:for|until|till)\b)", re.I)


def _wait_for(text: str, names: Names) -> list[Reading]:
    met = _AWAITS.match(text) or _UP_TO.match(text)
    if met is None:
        return []
    rest = text[met.end() :]
    span = _span(rest)
    used = [span[1]] if span else []
    paths: list[tuple[int, Path]] = []
    events = _done(rest, names)
    if not events:
        # A verb alone is enough where one kind of event has it, and it is not what people do with
        # a message.
        verbs = [
            (key, at)
            for key, did in names.events.items()
            if (at := _verb(rest, did)) and not any(one.match(at) for _, one in _REACTED)
        ]
        events = verbs if len(verbs) == 1 else []
    for key, at in events:
        paths.append((rest.lower().index(at.lower()), Path("", event=key)))
        used.append(at)
    for reaction, pattern in _REACTED:
        said = pattern.search(rest)
        if said and not any(said[0].lower() in one.lower() for one in used):
            paths.append((said.start(), Path("", reaction=reaction)))
            used.append(said[0])
    if not paths:
        return []
    ways = (*(path for _, path in sorted(paths, key=lambda one: one[0])), Path(""))
    length = span[0] if span else Span(3, "day")
    return [Reading(WaitForStep("", length, ways), _rest(rest, *used))]


def _done(text: str, names: Names) -> list[tuple[str, str]]:
    """The events that a text names, by key, each with its words. Words that say one exactly say no
    other: “renewed a membership” is not “started a membership” in another tense."""
    said = [(key, did, at) for key, did in names.events.items() if (at := _did(text, did))]
    exact = [at.lower() for _, did, at in said if at.lower() == did.lower()]
    same_verb = [at.lower() for _, did, at in said if _verb(at, did)]
    found = []
    for key, did, at in said:
        words = at.lower()
        taken = any(words in one or one in words for one in exact)
        if words != did.lower() and (taken or (words in same_verb and not _verb(at, did))):
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
    return None if " " in did else _verb(text, did)


def _verb(text: str, did: str) -> str | None:
    """The word of a text that is the verb of what somebody did, in any tense of a regular verb."""
    stem = re.sub(r"(?:ed|d|s|ing)$", "", did.split(" ", 1)[0].lower())
    met = re.search(rf"\b{re.escape(stem)}(?:e|ed|s|es|ing)?\b", text, re.I)
    return met[0] if met and len(stem) >= 4 else None


def _split(text: str, names: Names) -> list[Reading]:
    met = re.match(r"(?:then )?(?:random )?(?:split|divide|half)\b", text, re.I)
    if met is None:
        return []
    rest = text[met.end() :]
    shares = [int(one) for one in _SHARES.findall(rest)]
    ways = re.search(r"\b(?:in(?:to)? )?(two|three|four|five|2|3|4|5) (?:ways|parts|groups)", rest)
    if ways:
        count = int(_NUMBERS.get(ways[1], 0) or ways[1])
        paths = equal(tuple(Path("") for _ in range(count)))
        return [Reading(SplitStep("", paths), _rest(rest, ways[0]))]
    if len(shares) == 1 and 0 < shares[0] < 100:
        shares.append(100 - shares[0])
    if not shares:
        shares = [50, 50]
    if sum(shares) != 100 or len(shares) < 2:
        return []
    paths = tuple(Path("", percent=share) for share in shares)
    words = [str(share) for share in shares if str(share) in rest]
    return [Reading(SplitStep("", paths), _rest(rest, *words, "random", "chance", "percent"))]


_CHANGES: tuple[tuple[str, str, bool, Callable[[Names], Mapping[int, str]]], ...] = (
    (r"(?:un-?tag|remove (?:the )?tag|take (?:away )?the tag)\b", "tag", True, lambda n: n.tags),
    (
        r"(?:tag|(?:add|give)(?: them)? (?:the )?tag)\b(?: as| with)?",
        "tag",
        False,
        lambda n: n.tags,
    ),
    (
        r"(?:unsubscribe|sign off|opt out)(?: them)?(?: from| of)?(?: the topic)?\b",
        "topic",
        True,
        lambda n: n.topics,
    ),
    (
        r"(?:subscribe|sign up|opt in)(?: them)?(?: to| for)?(?: the topic)?\b",
        "topic",
        False,
        lambda n: n.topics,
    ),
    (
        r"(?:take|remove)(?: them)? (?:off|from)(?: the)?(?: list)?\b",
        "list",
        True,
        lambda n: n.lists,
    ),
    (
        r"(?:add|put)(?: them)? (?:to|on|onto)(?: the)?(?: list)?\b",
        "list",
        False,
        lambda n: n.lists,
    ),
)


_SETS = re.compile(
    r"(?:then )?(?:set|change|update)\b(?: their| the)?(?: field)? (?P<field>.+?) "
    r"(?:to|as|=) (?P<value>.+)",
    re.I,
)
_EMPTIES = re.compile(
    r"(?:then )?(?:empty|clear|erase|remove|blank)\b(?: their| the)?(?: field)? (?P<field>.+)", re.I
)


def _set_field(text: str, names: Names) -> list[Reading]:
    """“set membership to student”, “clear their town”."""
    met = _SETS.match(text) or _EMPTIES.match(text)
    if met is None:
        return []
    value = (met.groupdict().get("value") or "").strip(" .“”\"'")
    said = met["field"].strip(" .“”\"'").lower()
    found = [
        Reading(ChangeStep("", "field", field=ref, value=value))
        for ref, spec in names.fields.items()
        if said in (spec.label.lower(), ref.lower())
    ]
    return found[:1]


def _change(text: str, names: Names) -> list[Reading]:
    for pattern, what, remove, things in _CHANGES:
        met = re.match(rf"(?:then )?{pattern}", text, re.I)
        if met is None:
            continue
        rest = text[met.end() :].strip(" :“”\"'")
        return [
            Reading(ChangeStep("", what, number, remove), _rest(rest, said, "list", "tag"))
            for number, said in _things(rest, things(names))
        ]
    return []


#: The most times that one typed line reminds.
_MOST_REMINDERS = 5
_TIMES = re.compile(r"\b(?:up to )?(?:(once|twice)|(\w+) times)\b", re.I)


def _remind(text: str, names: Names) -> list[Reading]:
    """“remind up to 2 times with Welcome every 3 days until they visited”: waits for it so often,
    and sends the message in between to whoever did not."""
    met = re.match(r"(?:then )?remind\b(?: them)?", text, re.I)
    until = re.search(r"\b(?:until|unless|till)\b", text, re.I)
    if met is None or until is None:
        return []
    awaited = _wait_for(f"wait for {text[until.end() :]}", names)
    before = text[met.end() : until.start()]
    often, span = _TIMES.search(before), _span(before)
    count = 1
    if often:
        word = (often[1] or often[2]).lower()
        count = {"once": 1, "twice": 2}.get(word) or int(
            word if word.isdecimal() else _NUMBERS.get(word, 0)
        )
    if not awaited or not 1 <= count <= _MOST_REMINDERS:
        return []
    waits = awaited[0].step
    assert isinstance(waits, WaitForStep)
    rest = before.replace(often[0], " ", 1) if often else before
    rest = rest.replace(span[1], " ", 1) if span else rest
    said = re.sub(r"\b(?:every|each|after|with|by|the|email)\b", " ", rest)
    found = []
    for number, left in _messages(" ".join(said.split()).strip(" ,:“”"), names):
        inside: tuple[Step, ...] = ()
        for _ in range(count):
            ways = (*waits.paths[:-1], Path("", (MessageStep("", number), *inside)))
            inside = (WaitForStep("", span[0] if span else Span(3, "day"), ways),)
        found.append(Reading(inside[0], (*left, *awaited[0].unused)))
    return found


_ADDRESS = re.compile(
    r"(?:then )?(?:webhook|call|tell|post(?: to)?|ask)\b:? (?P<address>https?://\S+)(?P<rest>.*)",
    re.I,
)


def _webhook(text: str, names: Names) -> list[Reading]:
    """“webhook https://shop.example/hook”."""
    met = _ADDRESS.match(text)
    return [Reading(WebhookStep("", met["address"]), _rest(met["rest"]))] if met else []


_TASK = re.compile(
    r"(?:then )?(?:(?:give|make|create|add|ask)\b.*?\b(?:a|an) )?"
    r"(?P<what>task|call|phone|ring|appointment|lead)\b(?: (?:for|to|them))*(?P<rest>.*)",
    re.I,
)


def _task(text: str, names: Names) -> list[Reading]:
    """“call: ask how the first night was”, “task for Hetty Brook: send the brochure, 2 days”."""
    met = _TASK.match(text)
    if met is None or _ADDRESS.match(text):
        return []
    what = {"phone": "call", "ring": "call"}.get(met["what"].lower(), met["what"].lower())
    rest = met["rest"]
    before, colon, after = rest.partition(":")
    whom, subject = (before, after) if colon else ("", rest)
    said = re.sub(r"[^\w\s]", " ", f"{text[: met.start('what')]} {whom}".lower())
    to = tuple(
        number
        for number, name in names.colleagues.items()
        if name.split()[0].lower() in said.split()
    )
    span = _span(subject)
    due = span[0] if span else Span(2, "day")
    if span:
        subject = re.sub(
            rf",?\s*(?:due\s+)?(?:in|within|after)?\s*{re.escape(span[1])}", "", subject
        )
    subject = subject.strip(" .,:“”\"'")
    if not subject:
        subject = str(KINDS[what])
    return [Reading(TaskStep("", what, subject[:MOST_SUBJECT], due, "usual", to))]


def _jump(text: str, names: Names) -> list[Reading]:
    met = re.match(
        r"(?:then )?(?:go|jump|move|continue|carry)(?: them)?(?: on| over)?(?: to| with| into)\b"
        r"(?: the)?(?: journey)?",
        text,
        re.I,
    )
    if met is None:
        return []
    rest = text[met.end() :].strip(" :“”\"'")
    return [
        Reading(JumpStep("", number), _rest(rest, said, "journey"))
        for number, said in _things(rest, names.journeys)
    ]


def _exit(text: str, names: Names) -> list[Reading]:
    met = re.match(r"(?:then )?(?:exit|leave|stop|end)\b(?: the journey| here)?", text, re.I)
    return [Reading(ExitStep(""), _rest(text[met.end() :]))] if met else []


_READERS: tuple[Callable[[str, Names], list[Reading]], ...] = (
    _wait,
    _wait_for,
    _message,
    _branch,
    _split,
    _change,
    _set_field,
    _remind,
    _webhook,
    _task,
    _jump,
    _exit,
)
