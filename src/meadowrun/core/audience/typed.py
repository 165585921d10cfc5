"""A typed sentence as lines: a small grammar over the known fields, events and names; no service.
What is left unclear yields several readings, the likeliest first."""

import dataclasses
import datetime as dt
import re

from meadowrun.core.audience.alike import FILLER
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.audience.one_field import Json
from meadowrun.core.audience.one_line import Reading, in_english, in_known_words, readings
from meadowrun.core.audience.when import N, days_of
from meadowrun.core.wording import fold

MOST = 6
#: Parts that a sentence is taken apart into at most, and words it may have for that.
_PARTS, _WORDS = 5, 32
#: Words that another reading may leave out.
_FEW = 2
_BUT_NOT = re.compile(
    r",? (?:but|and|or) (?:(?:has|have|had|is|are|was|were) )?(?:not|never|no|without|did ?n.?t|"
    r"has ?n.?t|is ?n.?t|did not|has not|is not)\b",
    re.IGNORECASE,
)
#: What joins a part to the one before it.
_JOIN = re.compile(
    r"^(?:,\s*)?(and|but|or|who|whose|that|then)\b[\s,]*(?:(?:and|but|who|whose|that|then|also|again|even)\b\s*)*|^,\s*",
    re.IGNORECASE,
)
#: Words that begin a piece.
_BEGINS = {
    "who",
    "whose",
    "that",
    "with",
    "without",
    "in",
    "from",
    "and",
    "but",
    "or",
    "then",
    "at",
}
#: No piece ends with a word that belongs to what comes after it.
_HANGING = re.compile(
    r"\b(?:not|never|no|without|who|whose|and|or|but|the|an?|of|in|on|by|via|about|last|latest|next|this|from|at|to|with|"
    r"for|than|least|most|more|less|between|since|before|after|did|does|do|has|have|is|are|was|were|\w+n[’']t)$",
    re.IGNORECASE,
)
#: A sum of money is a number like any other; and it is spent on what was bought.
_MONEY = re.compile(r"\b(\d[\d.,]*) ?(?:pounds?|quid|euros?|dollars?)\b", re.IGNORECASE)
_SPENT_ON = re.compile(
    r"\b(?:spent|spend|spends|paid|pay|pays)\b([^,]*?[£$€]?\d[\d.,]*(?: or (?:more|less))?(?: in "
    r"total| altogether)?) "
    r"(?:on|for) (.+)",
    re.IGNORECASE,
)
#: Who is left out of those before: “patrons except those from Farrow”, “members other than students
#: in Farrow”.
_EXCEPT = re.compile(
    r"(?<=\w),? (?:except|apart from|excluding|other than)(?: for)? (?:those|the "
    r"ones|people|anyone|anybody) "
    r"(?=(?:from|in|with)\b)",
    re.IGNORECASE,
)
#: “called Zoë” is a first name.
_CALLED = re.compile(r"\b(?:called|named) ([^\W\d_][\w’'-]*)$", re.IGNORECASE)
#: “… but not to email” and “… not by text” want the words before.
_BELONGS = re.compile(r"(?:not|never) (?:to|for|by|via)\b", re.IGNORECASE)
_EITHER = re.compile(r"\beither\b", re.IGNORECASE)
#: What stands after these is no field that is filled or not: “opened on a phone”.
_ABOUT = re.compile(r"(?:on|in|by|via|from|at)\b", re.IGNORECASE)
_NOT_AGAIN = re.compile(
    r"\b(?:not|never|no|without|\w+n[’']t|who|whose|is|are|has|have|did)\b", re.IGNORECASE
)
_NEITHER = re.compile(r"^(.*?)\bneither (.+?) nor (.+)$", re.IGNORECASE)
_WITHIN = rf"within {N} (days?|weeks?|fortnights?|months?)"
_OF = re.compile(rf"^(.+?),? {_WITHIN} (?:of|after) (.+)$", re.IGNORECASE)
_THEN = re.compile(rf"^(.+?),? (?:and|but|then)(?: then)? (.+?) {_WITHIN}$", re.IGNORECASE)


def read(text: str, words: Dictionary, today: dt.date) -> list[Reading]:
    """What a typed sentence may mean, the likeliest first; nothing when nothing in it is known.
    What uses every word comes before what leaves some out; where no single line uses them all,
    several are tried that are joined by “and”, “or” or “but”."""
    text = _MONEY.sub(r"£\1", " ".join(_EITHER.sub("", text).split()))
    text = _CALLED.sub(r"first name is \1", _EXCEPT.sub(" but not ", text))
    text = in_known_words(
        _NEITHER.sub(r"not \1\2 and not \1\3", _SPENT_ON.sub(r"bought\1 \2", text)), words
    )
    if (followed := _followed(text, words, today)) is not None:
        return [followed]
    whole = readings(text, words, today)
    found = _BUT_NOT.search(text)
    if any(not reading.unused for reading in whole) and not _denies_later(text):
        return _likely(whole)
    joined = _Parts(words, today).joined(text)
    if joined is None and found:
        # What is said after it must not turn round what was said before.
        left = tuple(
            w for w in re.findall(r"[^\W_]+", fold(text[found.start() :])) if w not in FILLER
        )
        whole = [
            dataclasses.replace(r, unused=(*r.unused, *left))
            for r in readings(text[: found.start()], words, today)
        ]
    return _likely(([joined] if joined else []) + whole)


def _denies_later(text: str) -> bool:
    """Whether a sentence denies its second half only: a single line denies all of itself and cannot
    say that."""
    found = _BUT_NOT.search(text)
    return found is not None and found.start() > 0


def _likely(found: list[Reading]) -> list[Reading]:
    """The readings that use most words first. Beside one that uses all, what leaves many out is no
    help."""
    most = _FEW if any(not reading.unused for reading in found) else _WORDS
    return [
        reading
        for reading in sorted(found, key=lambda reading: len(reading.unused))
        if len(reading.unused) <= most
    ][:MOST]


def _followed(text: str, words: Dictionary, today: dt.date) -> Reading | None:
    """One thing done within days of another: “bought a ticket within 7 days of looking at
    tickets”."""
    if m := _OF.match(text):
        then, number, unit, first = m.groups()
    elif m := _THEN.match(text):
        first, then, number, unit = m.groups()
    else:
        return None
    one, two = (
        next(
            (r for r in readings(half, words, today) if r.line["kind"] == "event" and not r.unused),
            None,
        )
        for half in (first, then)
    )
    if one is None or two is None or not one.line["did"] or two.line["span"] or two.line["where"]:
        return None
    line = {
        **one.line,
        "then": {"event": two.line["event"], "did": two.line["did"], "days": days_of(number, unit)},
    }
    joined = f"within {days_of(number, unit)} days"
    follows = two.said.removeprefix("who ")
    for unsaid in (" at least once at any time", " at any time"):
        follows = follows.replace(unsaid, "")
    return Reading(line, f"{one.said}, then {follows} {joined}", ())


@dataclasses.dataclass(frozen=True)
class _Part:
    """A piece of a sentence that is one line, and how it is joined to the one before: and, or, or
    nothing."""

    join: str
    text: str
    reading: Reading


class _Parts:
    """Takes one sentence apart into as few pieces as it needs for every word of it to be
    understood."""

    def __init__(self, words: Dictionary, today: dt.date):
        self.words, self.today = words, today
        self.known: dict[str, Reading | None] = {}
        self.verbs = {
            verb.split()[0] for event in words.events.values() for verb in (event.did, event.do)
        }

    def joined(self, text: str) -> Reading | None:
        """The lines of a sentence as one group; None where some word is left."""
        spoken = text.strip(" .!?").split()
        if not 2 <= len(spoken) <= _WORDS:
            return None
        for most in range(2, _PARTS + 1):
            parts = self._apart(spoken, most, None)
            if parts is not None and len(parts) > 1:
                return _group(parts)
        return None

    def _apart(self, spoken: list[str], most: int, before: _Part | None) -> list[_Part] | None:
        """The pieces of what is left, the first as long as can be; None where it does not come out
        in so many."""
        if not spoken:
            return []
        if most == 0:
            return None
        # The longest first; but rather up to a word that begins something new.
        sizes = sorted(
            range(len(spoken), 0, -1),
            key=lambda size: size < len(spoken) and spoken[size].lower() not in _BEGINS,
        )
        for size in sizes:
            part = self._part(" ".join(spoken[:size]).rstrip(","), before)
            rest = self._apart(spoken[size:], most - 1, part) if part is not None else None
            if part is not None and rest is not None:
                return [part, *rest]
        return None

    def _part(self, text: str, before: _Part | None) -> _Part | None:
        if _HANGING.search(text):
            return None
        joins = _JOIN.match(text)
        join, bare = (
            (joins[1] or "and").lower() if joins else "",
            text[joins.end() :] if joins else text,
        )
        if not bare or before is None and joins and join != "who":
            return None
        reading = (
            self._borrowed(before, bare)
            if before is not None and _BELONGS.match(bare)
            else self._read(bare)
        )
        if (
            before is not None
            and reading is not None
            and reading.line.get("op") == "not_blank"
            and _ABOUT.match(bare)
        ):
            return None
        if before is not None and reading is None and joins:
            reading = self._borrowed(before, bare)
        if (
            reading is not None
            and join == "or"
            and before is not None
            and _denied(before.reading.line)
            and not _NOT_AGAIN.search(bare)
        ):
            # “not from Farrow or Ossenmere”: the “not” is of both.
            reading, join = self._read(f"not {bare}"), "and"
        if (
            reading is None
            or before is not None
            and not joins
            and _denied(before.reading.line)
            and not bare.lower().startswith("without ")
        ):
            # What follows a “not” without a joining word may belong to it.
            return None
        if before is not None:
            reading = self._of_same_message(reading, before.reading)
        if (
            before is not None
            and bare.lower().startswith("without ")
            and reading.line.get("span") == {}
        ):
            # “looked in the last week without buying” is about the same week.
            reading = self._of_same_time(reading, before.reading)
        return _Part("or" if join == "or" else "and", bare, reading)

    def _read(self, text: str) -> Reading | None:
        if text not in self.known:
            self.known[text] = (
                None
                if _denies_later(text)
                else next((r for r in readings(text, self.words, self.today) if not r.unused), None)
            )
        return self.known[text]

    def _borrowed(self, before: _Part, rest: str) -> Reading | None:
        """“came to a lecture but not a visit”: a part borrows the words before the object of the
        one before it."""
        spoken = before.text.split()
        if rest.split()[0].lower() in self.verbs:
            return None
        bare = re.match(r"(not|no|never) (.+)", rest, re.IGNORECASE)
        # What ends with a detail, like a title, would swallow the rest; “not to email” stands for
        # what began with “to”.
        alike = [
            place
            for place, word in enumerate(spoken)
            if bare and word.lower() == bare[2].split()[0].lower()
        ]
        longest = alike[-1] if alike else len(spoken) - bool(before.reading.line.get("where"))
        for size in range(longest, 0, -1):
            begun = [
                w for w in spoken[:size] if not bare or w.lower() not in ("not", "no", "never")
            ]
            reading = self._read(" ".join(["not", *begun, bare[2]] if bare else [*begun, rest]))
            if reading is not None:
                return reading
        return self._read(f"not {bare[2]}") if bare else None

    def _of_same_message(self, reading: Reading, before: Reading) -> Reading:
        """“opened the Sky diary but did not click”: what names no message is about the one that was
        named."""
        named = before.line.get("of")
        if (
            reading.line["kind"] != "mail"
            or reading.line["of"]
            or before.line["kind"] != "mail"
            or not named
        ):
            return reading
        line = {**reading.line, "of": named}
        return Reading(line, in_english(line, self.words, self.today), ())

    def _of_same_time(self, reading: Reading, before: Reading) -> Reading:
        span = before.line.get("span")
        if not span or reading.line["kind"] != "event":
            return reading
        line: Json = {**reading.line, "span": span}
        return Reading(line, in_english(line, self.words, self.today), ())


def _denied(line: Json) -> bool:
    return (
        line.get("did") is False
        or line.get("inside") is False
        or str(line.get("op", "")).endswith("not")
    )


def _group(parts: list[_Part]) -> Reading:
    """Parts as one line: those joined by “or” hold together closer than the others."""
    runs: list[list[_Part]] = []
    for part in parts:
        if runs and part.join == "or":
            runs[-1].append(part)
        else:
            runs.append([part])
    made = [_any_of(run) for run in runs]
    if len(made) == 1:
        return made[0]
    return Reading(
        {"kind": "group", "match": "all", "lines": [r.line for r in made]},
        ", and ".join(r.said for r in made),
        (),
    )


def _any_of(run: list[_Part]) -> Reading:
    if len(run) == 1:
        return run[0].reading
    return Reading(
        {"kind": "group", "match": "any", "lines": [part.reading.line for part in run]},
        ", or ".join(part.reading.said for part in run),
        (),
    )
