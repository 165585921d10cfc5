"""Typed branches and random splits, and what takes people out."""

import re

from meadowrun.core.journeys.details import ANSWER
from meadowrun.core.journeys.edit import equal
from meadowrun.core.journeys.steps import BranchStep, ExitRule, Path, SplitStep, Who
from meadowrun.core.journeys.typed.parts import (
    NUMBERS,
    Reading,
    done_in,
    people_in,
    rest_of,
    things_in,
    who_of,
)
from meadowrun.core.journeys.typed.waits_for import REACTED
from meadowrun.core.journeys.words import Names

_BRANCH = re.compile(
    r"(?:then )?(?:if|branch|check|for|only)\b(?: (?:by|whether|if))?"
    r"(?: they are| they’re| they're| is| are)?(?: in| of| one of)?\b",
    re.I,
)
#: How a branch begins whose condition is said in words.
_SUBJECT = re.compile(
    r"(?:then )?(?:if|branch|check|for|only)\b(?: (?:by|whether|if))?(?: they(?: are|’re|'re)?)?",
    re.I,
)
#: What is said of the message before, which is waited for.
_OF_IT = re.compile(r"\b(?:it|the (?:email|message))\b", re.I)


#: “if the event’s amount is over 50”.
_EVENT = re.compile(
    r"(?:then )?(?:if|branch|check)\b(?: the| their)? (?P<of>event|answer)(?:[’']s|s)? "
    r"(?P<detail>.+?) "
    r"(?P<how>is not|isn[’']t|is (?:more|over|above|greater|larger)(?: than)?"
    r"|is (?:less|under|below|smaller)(?: than)?|is|>|<|=) ?(?P<value>.+)",
    re.I,
)


def _compared(how: str) -> str:
    """How words compare, one of COMPARISONS."""
    how = how.lower()
    if re.search(r"more|over|above|greater|larger|>", how):
        return "more"
    if re.search(r"less|under|below|smaller|<", how):
        return "less"
    return "is_not" if re.search(r"not|n[’']t", how) else "is"


def read_event(text: str, names: Names) -> list[Reading]:
    """“if the event’s amount is over 50”: by a detail of the event that started it; “if the
    answer’s level is gold”: by what another server answered."""
    met = _EVENT.fullmatch(text)
    if met is None:
        return []
    said = met["detail"].lower()
    value = met["value"].strip(" .“”\"'")
    if met["of"].lower() == "answer":
        key = ANSWER + re.sub(r"[^a-z0-9]+", "_", said).strip("_")
        step = BranchStep("", (_by(key, _compared(met["how"]), value), Path("")))
        return [Reading(step)]
    known = {
        one.key
        for event in names.words.events.values()
        for one in event.details
        if said in (one.key.lower(), one.label.lower())
    }
    return [
        Reading(BranchStep("", (_by(key, _compared(met["how"]), value), Path(""))))
        for key in sorted(known)
    ]


def _by(key: str, compare: str, value: str) -> Path:
    return Path("", detail=key, compare=compare, value=value)


def read_branch(text: str, names: Names) -> list[Reading]:
    """“if in Members”, “if town is Farrow”."""
    met = _BRANCH.match(text)
    if met is None or (_OF_IT.search(text) and any(one.search(text) for _, one in REACTED)):
        return []
    rest = text[met.end() :].strip(" :“”\"'")
    found = [(Who(number), rest_of(rest, said)) for number, said in things_in(rest, names.segments)]
    if not any(not unused for _, unused in found):
        found += who_of(_SUBJECT.sub("", text, count=1), names)
    return [Reading(BranchStep("", (Path("", who=who), Path(""))), unused) for who, unused in found]


def read_exit_rule(text: str, names: Names) -> list[tuple[ExitRule, tuple[str, ...]]]:
    """What may take people out by words: something that they do, or what becomes true of them; with
    the words that nothing was made of."""
    said = re.sub(r"^(?:as soon as|when|once|if)\b", "", " ".join(text.split()), flags=re.I)
    found: list[tuple[ExitRule, tuple[str, ...]]] = [
        (ExitRule("", event=key), rest_of(said, at)) for key, at in done_in(said, names)
    ]
    found += [(ExitRule("", who=who), unused) for who, unused in people_in(said, names)]
    return sorted(found, key=lambda one: len(one[1]))


def says_withdrawn(text: str) -> bool:
    """Whether words mean that somebody withdraws all consent."""
    return _WITHDRAWN.search(text) is not None


_WITHDRAWN = re.compile(
    r"\b(?:with(?:draw|drew)\w* (?:\w+ )*consent|unsubscribe\w* from (?:everything|all))\b", re.I
)
_SPLIT = re.compile(
    r"(?:then )?(?:random(?:ly)? )?"
    r"(?:(?:split|divide|test|half and half|half|a/b(?: split)?)\b|(?=\d{1,2} ?[/:-] ?\d{1,2}$))"
    r"(?: them)?(?: at random| randomly)?",
    re.I,
)
_SHARES = re.compile(r"\d{1,2}(?:\s*%| percent)?")
_WAYS = re.compile(
    r"\b(?:in(?:to)? )?(?P<count>two|three|four|five|[2-5])(?: equal)?"
    r"(?: (?:ways|parts|groups|paths|thirds|halves)|$)",
    re.I,
)


def read_split(text: str, names: Names) -> list[Reading]:
    """“split 50 50”, “randomly split into 3”."""
    met = _SPLIT.match(text)
    if met is None:
        return []
    rest = re.sub(r"^\s*(?:half and half|in half)", "", text[met.end() :], flags=re.I)
    ways = _WAYS.search(rest)
    if ways:
        said = ways["count"].lower()
        count = int(said) if said.isdecimal() else NUMBERS[said]
        paths = equal(tuple(Path("") for _ in range(count)))
        return [Reading(SplitStep("", paths), rest_of(rest, ways[0]))]
    said_shares = _SHARES.findall(rest)
    shares = [int(re.sub(r"\D", "", one)) for one in said_shares]
    if len(shares) == 1 and 0 < shares[0] < 100:
        shares.append(100 - shares[0])
    if not shares:
        shares = [50, 50]
    if sum(shares) != 100 or len(shares) < 2:
        return []
    paths = tuple(Path("", percent=share) for share in shares)
    return [Reading(SplitStep("", paths), rest_of(rest, *said_shares, "random", "chance"))]
