"""Typed steps that do something: changes, tasks, webhooks, going over to another journey, exits."""

import re
from collections.abc import Callable, Mapping

from meadowrun.core.journeys.reading import MOST_SUBJECT
from meadowrun.core.journeys.steps import (
    ChangeStep,
    ExitStep,
    GoalStep,
    JumpStep,
    Span,
    TaskStep,
    TellStep,
    WebhookStep,
)
from meadowrun.core.journeys.typed.parts import Reading, rest_of, span_in, things_in
from meadowrun.core.journeys.words import Names
from meadowrun.core.tasks import KINDS

#: How a change begins → what it changes, whether it takes it, and what it may name. A change that
#: ends in a word has that behind the name.
_CHANGES: tuple[tuple[str, str, bool, Callable[[Names], Mapping[int, str]]], ...] = (
    (
        r"(?:un-?(?:tag|label)|(?:remove|delete|take)(?: away| off)?(?: the)? (?:tag|label))\b"
        r"(?: them)?",
        "tag",
        True,
        lambda n: n.tags,
    ),
    (
        r"(?:tag|label|mark|(?:add|give)(?: them)?(?: the)? (?:tag|label))\b"
        r"(?: them)?(?: as| with)?",
        "tag",
        False,
        lambda n: n.tags,
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
    (
        r"(?:unsubscribe|sign(?: them)? off|opt(?: them)? out)(?: them)?(?: from| of)?"
        r"(?: the topic)?\b",
        "topic",
        True,
        lambda n: n.topics,
    ),
    (r"(?:stop|end)(?: sending)?(?: them)?(?: the topic)?(?=.)", "topic", True, lambda n: n.topics),
    (
        r"(?:subscribe|sign(?: them)? up|opt(?: them)? in)(?: them)?(?: to| for)?(?: the topic)?\b",
        "topic",
        False,
        lambda n: n.topics,
    ),
    (
        r"(?:take|remove)(?: away)?(?: the)?(?=.+\b(?:tag|label)\b)",
        "tag",
        True,
        lambda n: n.tags,
    ),
    (
        r"(?:add|give)(?: them)?(?: the)?(?=.+\b(?:tag|label)\b)",
        "tag",
        False,
        lambda n: n.tags,
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


def read_change(text: str, names: Names) -> list[Reading]:
    """“tag vip”, “take them off Open night guests”, “subscribe them to Sky diary”."""
    for pattern, what, remove, things in _CHANGES:
        met = re.match(rf"(?:then )?{pattern}", text, re.I)
        if met is None:
            continue
        rest = text[met.end() :].strip(" :“”\"'")
        found = [
            Reading(
                ChangeStep("", what, number, remove),
                rest_of(rest, said, "list", "tag", "label", "off"),
            )
            for number, said in things_in(rest, things(names))
        ]
        if found:
            return found
    return []


_POINTS = re.compile(
    r"(?:then )?(?P<verb>give|add|take|remove|subtract|score)\b(?: them)?(?: away)? "
    r"\+?(?P<points>\d{1,5}(?:\.\d+)?)(?: points?)?(?: (?:of|to|from|for|in|on|off))?(?: the)?"
    r"(?: score)?\b (?P<rest>.+)",
    re.I,
)


def read_score(text: str, names: Names) -> list[Reading]:
    """“give 5 points of Interest”, “take 10 points from Interest”."""
    met = _POINTS.match(text)
    if met is None:
        return []
    rest, remove = met["rest"].strip(" :“”\"'"), met["verb"].lower() in _TAKES
    return [
        Reading(
            ChangeStep("", "score", number, remove, value=met["points"]),
            rest_of(rest, said, "score", "points"),
        )
        for number, said in things_in(rest, names.scores)
    ]


_TAKES = ("take", "remove", "subtract")


def read_field(text: str, names: Names) -> list[Reading]:
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


_ADDRESS = re.compile(
    r"(?:then )?(?:webhook|call|tell|post(?: to)?|ask)\b:? (?P<address>https?://\S+)(?P<rest>.*)",
    re.I,
)


def read_webhook(text: str, names: Names) -> list[Reading]:
    """“webhook https://shop.example/hook”."""
    met = _ADDRESS.match(text)
    return [Reading(WebhookStep("", met["address"]), rest_of(met["rest"]))] if met else []


#: What may stand before what a colleague is asked for.
_ASKS = (
    r"(?:(?:give|make|create|add|ask|book|arrange|set up|open)\b.*?\b(?:an?|to) |"
    r"have \w+ (?=call|phone|ring))?"
)
_TASK = re.compile(
    rf"(?:then )?{_ASKS}(?P<what>task|phone call|call|phone|ring|appointment|lead)\b"
    r"(?: (?:for|to|them|with)\b)*(?P<rest>.*)",
    re.I,
)
_ONE_WORD = {"phone": "call", "ring": "call", "phone call": "call"}
_TOMORROW = re.compile(r"\b(?:by )?tomorrow\b", re.I)
_DUE = r",?\s*(?:due\s+)?(?:in|within|after)?\s*"


def read_task(text: str, names: Names) -> list[Reading]:
    """“call: ask how the first night was”, “task for Hetty Brook: send the brochure, 2 days”."""
    met = _TASK.match(text)
    if met is None or _ADDRESS.match(text):
        return []
    what = _ONE_WORD.get(met["what"].lower(), met["what"].lower())
    before, colon, after = met["rest"].partition(":")
    whom, subject = (before, after) if colon else ("", met["rest"])
    said = re.sub(r"[^\w\s]", " ", f"{text[: met.start('what')]} {whom or subject}".lower())
    called = {number: name.split()[0].lower() for number, name in names.colleagues.items()}
    to = tuple(number for number, name in called.items() if name in said.split())
    tomorrow = _TOMORROW.search(subject)
    span = (Span(1, "day"), tomorrow[0]) if tomorrow else span_in(subject)
    if span:
        subject = re.sub(rf"{_DUE}{re.escape(span[1])}", "", subject)
    if not colon and to:
        # “A lead for Hetty or Otto” says for whom, and nothing more.
        people = "|".join(re.escape(called[number]) for number in to)
        whole = rf"\s*(?:(?:{people}|or|and|for|with|them)\b[\s,]*)+"
        subject = "" if re.fullmatch(whole, subject, re.I) else subject
    subject = subject.strip(" .,:“”\"'") or str(KINDS[what])
    due = span[0] if span else Span(2, "day")
    return [Reading(TaskStep("", what, subject[:MOST_SUBJECT], due, "usual", to))]


_TELL = re.compile(
    r"(?:then )?(?:tell|notify|alert|inform|let)\b(?P<whom>[^:]*?)"
    r"(?:\bby e-?mail\b|\bknow\b)?\s*:\s*(?P<text>.+)",
    re.I,
)


def read_tell(text: str, names: Names) -> list[Reading]:
    """“tell Hetty: a school asks for a visit”, “notify Otto and Hetty by email: look at this”."""
    met = _TELL.match(text)
    if met is None or _ADDRESS.match(text):
        return []
    said = re.sub(r"[^\w\s]", " ", met["whom"].lower())
    called = {number: name.split()[0].lower() for number, name in names.colleagues.items()}
    to = tuple(number for number, name in called.items() if name in said.split())
    used = [name for name in said.split() if name in called.values()]
    surnames = [name.lower() for one in to for name in names.colleagues[one].split()[1:]]
    unused = rest_of(said, *used, *(one for one in surnames if one in said), "a colleague", "by")
    return [Reading(TellStep("", met["text"].strip()[:MOST_SUBJECT], to), unused)]


_OVER = re.compile(
    r"(?:then )?(?:(?:go|jump|move|continue|carry|start|hand|switch)(?: them)?(?: on| over)?|"
    r"send(?: them)? (?:on|over))"
    r"(?: to| with| into| in| on)?\b(?: the)?(?: journey)?",
    re.I,
)


def read_jump(text: str, names: Names) -> list[Reading]:
    """“go over to Win back”, “go to lane Sponsors”."""
    met = _OVER.match(text)
    if met is None:
        return []
    rest = text[met.end() :].strip(" :“”\"'")
    lanes = [
        Reading(JumpStep("", 0, lane))
        for lane, name in names.lanes.items()
        if re.fullmatch(rf"(?:the )?(?:lane )?{re.escape(name)}(?: lane)?", rest, re.I)
    ]
    return lanes + [
        Reading(JumpStep("", number), rest_of(rest, said, "journey"))
        for number, said in things_in(rest, names.journeys)
    ]


_GOAL = re.compile(
    r"(?:then )?(?:the )?goal\b(?: (?:reached|here|step))?"
    r"|(?:whoever|who) reache[sd] the goal(?: goes on| comes| continues)?(?: from)?(?: here)?",
    re.I,
)


def read_goal(text: str, names: Names) -> list[Reading]:
    """“goal”, “whoever reaches the goal goes on from here”."""
    met = _GOAL.match(text)
    return [Reading(GoalStep(""), rest_of(text[met.end() :]))] if met else []


_EXIT = re.compile(
    r"(?:then )?(?:they )?(?:(?:exit|leave|stop|end|finish)(?:s|es)?|take them out)\b"
    r"(?: the journey| of it| here)?",
    re.I,
)


def read_exit(text: str, names: Names) -> list[Reading]:
    """“exit”, “stop here”."""
    met = _EXIT.match(text)
    return [Reading(ExitStep(""), rest_of(text[met.end() :]))] if met else []
