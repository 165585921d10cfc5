"""A typed sentence taken apart: negation, how often, when, how much; what remains is what it is
about."""

import dataclasses
import datetime as dt
import re
from typing import Any

from meadowrun.core.audience.when import N, When, take_when, whole
from meadowrun.core.wording import NUMBERS, fold

_NOT = re.compile(
    r"(?<![\w/-])(did not|didn.?t|do not|don.?t|does not|doesn.?t|has not|hasn.?t|have "
    r"not|haven.?t|was not|wasn.?t|were not|"
    r"is not|isn.?t|are not|aren.?t|cannot|can.?t|never|not|none|nothing|no|without)(?![\w/-])"
)
_LEAD = re.compile(
    r"^(and |or |but )?(everyone |everybody |anyone |anybody |people |persons |those |contacts "
    r"|all )?"
    r"(who |whose |that |with |which )?(have |has |had |are |is |was |were |their |the )*"
)
#: Ways to say one thing that are read as another, before anything else is read.
_SAME = [
    (re.compile(pattern), instead)
    for pattern, instead in (
        (r"\b(?:no|not) more than\b", "at most"),
        (r"\b(?:no|not) (?:less|fewer) than\b", "at least"),
        (
            (
                r"^(?:anyone|anybody|everyone|everybody|all|people)(?: who (?:is|are))? "
                r"(?:but|except(?: for)?|other than|apart from) "
            ),
            "not ",
        ),
        (r"\bsince the (?:start|beginning) of the (year|month|week)\b", r"this \1"),
        (r"\bevery(?: single)? one of\b", "all of"),
        (r"\boutside(?: of)?\b", "not in"),
        (rf"\b{N} or (more|less) times\b", r"\1 times or \2"),
        (r"\b(?:in one go|at once|in a single (?:gift|order|visit))\b", ""),
    )
]


@dataclasses.dataclass
class Said:
    """A sentence taken apart: what remains is what it is about."""

    rest: str
    not_: bool = False
    #: how often something was denied: twice in two halves of a sentence is no yes
    nots: int = 0
    times: tuple[str, int] | None = None
    when: When = dataclasses.field(default_factory=When)
    #: comparison and number: more_than, at_least, less_than, at_most, is; or between and two
    #: numbers
    amount: tuple[str, Any] | None = None
    total: bool = False
    #: only their first time ever, or their latest, counts
    which: str = "any"
    #: of the last so many messages
    latest: int | None = None
    #: a number of years that somebody is old
    aged: bool = False
    #: what was taken out of the text, by what it says: a line that does not say it leaves these
    #: words unused
    taken: dict[str, str] = dataclasses.field(default_factory=dict)


def take_apart(text: str, today: dt.date) -> Said:
    """A sentence taken apart."""
    rest = fold(text).strip(" .!?")
    for pattern, instead in _SAME:
        rest = pattern.sub(instead, rest)
    said = Said(" " + _LEAD.sub("", rest.strip()) + " ")
    _take_not(said)
    _take_latest(said)
    _take_which(said)
    said.when, left = take_when(" ".join(said.rest.split()), today)
    said.rest = f" {left} "
    if said.when.words:
        said.taken["when"] = said.when.words
    _take_times(said)
    _take_amount(said)
    said.aged = bool(
        said.amount
        and re.search(r"\b(older|younger|aged|years? old)\b", f"{said.taken['amount']} {said.rest}")
    )
    said.rest = " ".join(said.rest.split())
    return said


def _take_not(said: Said) -> None:
    # “is not 10” keeps its “is”: a number alone would be no comparison.
    said.rest, count = _NOT.subn(
        lambda m: (
            " is "
            if re.match(r" [£$€]?-?\d", m.string[m.end() :]) and m[0].startswith("is")
            else " "
        ),
        said.rest,
    )
    said.not_, said.nots = count % 2 == 1, count


def _take(said: Said, pattern: str, says: str) -> re.Match[str] | None:
    found = re.search(pattern, said.rest)
    if found:
        said.rest = said.rest[: found.start()] + " " + said.rest[found.end() :]
        said.taken[says] = f"{said.taken.get(says, '')} {found[0]}"
    return found


def _take_latest(said: Said) -> None:
    """“at least 3 of the last 5 messages”, “any of their last ten emails”, “the last 3 emails”."""
    things = (
        r"(messages?|mails?|e-?mails?|newsletters?|texts?|text messages?|push "
        r"notifications?|notices?|notifications?|in-app messages?|cards?|sends?)\b"
    )
    some = rf"(at least|at most|more than|any|all)? ?(?:{N}|any|all|one)? ?(?:of|in) "
    if m := _take(said, rf"\b(?:{some})?(?:the|their|our) (?:last|latest) {N} {things}", "latest"):
        said.latest = whole(m[3])
        said.rest += f" {m[4]} "
        if m[2]:
            said.times = ("at_least", whole(m[2]) + (m[1] == "more than"))
        elif m[0].split()[0] == "all":
            said.times = ("at_least", said.latest)


def _take_which(said: Said) -> None:
    """“first bought a ticket in 2025”, “last visited before June”: a word before what was done, not
    before a length of time."""
    lengths = (
        r"(?! "
        r"(?:\d|one|two|three|four|five|six|seven|eight|nine|ten|hour|day|night|week|month|quarter|year|spring|summer|autumn|fall|winter|"
        r"christmas|easter|name|mon|tues|wednes|thurs|fri|satur|sun|jan|feb|mar|apr|may|jun|jul|aug|sep|oct|nov|dec))"
    )
    if m := _take(
        said,
        rf"^ (?:for the )?(first|last|latest|most recently)(?: time)?\b{lengths}(?= [a-z])",
        "which",
    ):
        said.which = "first" if m[1] == "first" else "latest"
    elif _take(said, r"\bfor the first time(?: ever)?\b", "which"):
        said.which = "first"


def _take_times(said: Said) -> None:
    if m := _take(
        said,
        (
            rf"\b(at least|at most|exactly|more than|less than|fewer than|over|under|only)? ?{N} "
            rf"times?( or more| or less)?\b"
        ),
        "times",
    ):
        said.times = _compared(m[1] or "", whole(m[2]), m[3] or "")
    elif m := _take(
        said, r"\b(at least|at most|exactly|only|more than)? ?(once|twice)( or more)?\b", "times"
    ):
        said.times = _compared(m[1] or "", NUMBERS[m[2]], m[3] or "")


def _compared(word: str, n: int, after: str) -> tuple[str, int]:
    if word in ("at most",) or after.strip() == "or less":
        return "at_most", n
    if word in ("less than", "fewer than", "under"):
        return "at_most", max(0, n - 1)
    if word in ("exactly", "only"):
        return "exactly", n
    return "at_least", n + 1 if word in ("more than", "over") else n


_AMOUNTS = {
    word: op
    for op, words in {
        "at_least": ("at least", ">="),
        "at_most": ("at most", "up to", "<="),
        "more_than": ("more than", "over", "above", "older than", ">"),
        "less_than": ("less than", "fewer than", "under", "below", "younger than", "<"),
        "is": ("of", "is", "="),
    }.items()
    for word in words
}


def _take_amount(said: Said) -> None:
    said.total = bool(_take(said, r"\b(in total|altogether|in all|all together)\b", "total"))
    if m := _take(
        said,
        (
            r"\b(?:between|aged|from) [£$€]?(-?\d[\d,]*(?:\.\d+)?) (?:and|to) "
            r"[£$€]?(-?\d[\d,]*(?:\.\d+)?)(?= |$)"
        ),
        "amount",
    ):
        first, second = (float(m[place].replace(",", "")) for place in (1, 2))
        said.amount = ("between", [min(first, second), max(first, second)])
    elif m := _take(
        said,
        r"(?<!\w)(at least|at most|more than|less than|fewer than|older than|younger "
        r"than|over|above|under|below|up to|of|is|"
        r"=|>=|<=|>|<)"
        r" *[£$€]?(-?\d[\d,]*(?:\.\d+)?)(?!\d|%|-| ?percent)"
        r"(?: or (more|less))?(?= |$)",
        "amount",
    ):
        said.amount = (
            {"more": "at_least", "less": "at_most"}.get(m[3]) or _AMOUNTS[m[1]],
            float(m[2].replace(",", "")),
        )
    elif said.rest.strip() and (
        m := _take(said, r"\b(\d[\d,]*(?:\.\d+)?) or (more|less)\b", "amount")
    ):
        said.amount = ("at_least" if m[2] == "more" else "at_most", float(m[1].replace(",", "")))
