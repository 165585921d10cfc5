"""Typed waits for the first of several things."""

import re

from meadowrun.core.journeys.steps import Path, Span, WaitForStep
from meadowrun.core.journeys.typed.parts import Reading, done_in, rest_of, span_in, verb_in
from meadowrun.core.journeys.words import Names

_BEGINS = re.compile(
    r"(?:then )?(?:wait (?:for|until|till)|(?:if|when|once|as soon as)(?: they)?|until)\b"
    # What somebody has done is known already: a branch asks that.
    r"(?! (?:they )?(?:have|has|ever|already|never) (?!not\b))",
    re.I,
)
#: How long before what for: “wait up to 2 days for …”.
_UP_TO = re.compile(
    r"(?:then )?wait (?=(?:(?:up to|at most|max(?:imum)?) )?\w+ \w+ (?:for|until|till)\b)", re.I
)
_IT = r"(?:\s+(?:to )?(?:it|the (?:email|message)|(?:in )?(?:it|a link|any link)))?\b"
REACTED = (
    ("opened", re.compile(rf"\bopen(?:s|ed|ing)?{_IT}", re.I)),
    ("clicked", re.compile(rf"\bclick(?:s|ed|ing)?{_IT}", re.I)),
    ("replied", re.compile(rf"\b(?:a )?repl(?:y|ies|ied|ying){_IT}", re.I)),
    ("bounced", re.compile(r"\bbounc(?:es|ed|ing)?\b", re.I)),
)
#: Between the things of which one is waited for.
_OR = re.compile(r"\s*,\s*(?:or\s+)?|\s+or\s+", re.I)


def read(text: str, names: Names) -> list[Reading]:
    """“wait for visited or bought a ticket, 3 days”."""
    met = _BEGINS.match(text) or _UP_TO.match(text)
    if met is None:
        return []
    rest = text[met.end() :]
    span = span_in(rest)
    bare = rest.replace(span[1], " ", 1) if span else rest
    paths: list[Path] = []
    left: list[str] = []
    for part in _OR.split(bare):
        found, unused = _one(part, names)
        paths += found
        left += unused
    if not paths:
        return []
    length = span[0] if span else Span(3, "day")
    return [Reading(WaitForStep("", length, (*paths, Path(""))), tuple(left))]


def _one(text: str, names: Names) -> tuple[list[Path], tuple[str, ...]]:
    """What one part of it waits for, and the words that are left."""
    events = done_in(text, names) or _by_verb(text, names)
    places = [(text.lower().index(at.lower()), Path("", event=key)) for key, at in events]
    used = [at for _, at in events]
    for reaction, pattern in REACTED:
        said = pattern.search(text)
        if said and not any(said[0].lower() in one.lower() for one in used):
            places.append((said.start(), Path("", reaction=reaction)))
            used.append(said[0])
    places.sort(key=lambda one: one[0])
    return [path for _, path in places], rest_of(text, *used)


def _by_verb(text: str, names: Names) -> list[tuple[str, str]]:
    """A verb alone is enough where one kind of event has it, and it is not what people do with a
    message."""
    found = [
        (key, at)
        for key, did in names.events.items()
        if (at := verb_in(text, did)) and not any(one.match(at) for _, one in REACTED)
    ]
    return found if len(found) == 1 else []
