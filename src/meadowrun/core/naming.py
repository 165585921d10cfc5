"""Names that stay consistent: suggested by a pattern, checked against it, and told apart from names
that are nearly the same."""

import datetime as dt
import difflib
import re
import unicodedata
from collections.abc import Iterable, Mapping

from meadowrun.core.language import Problem, Wording

#: What a pattern can be made of, in braces.
PARTS = {
    "campaign": Wording("the name of the campaign"),
    "kind": Wording("what sort of campaign it is"),
    "subject": Wording("what it is about, in your words"),
    "channel": Wording("the channel of its message"),
    "date": Wording("the day it goes, as 2026-11-30"),
    "month": Wording("the month it goes, as 2026-11"),
}
#: What each part looks like in a name; the others are any words.
_SHAPES = {"date": r"\d{4}-\d{2}-\d{2}", "month": r"\d{4}-\d{2}"}
_PART = re.compile(r"\{([^{}]*)\}")
#: How alike two names are, from 0 to 1, from which on they are easily taken for each other.
NEAR = 0.88


class PatternError(Problem):
    """A pattern that cannot be: says what is wrong with it."""


def check(pattern: str) -> str:
    """A pattern without blanks at its ends. Raises PatternError."""
    pattern = " ".join(pattern.split())
    for part in _PART.findall(pattern):
        if part not in PARTS:
            raise PatternError(
                Wording(
                    "“{%(part)s}” cannot be part of a name. There are %(parts)s.",
                    part=part,
                    parts=", ".join(f"{{{name}}}" for name in PARTS),
                )
            )
    if pattern and not _PART.search(pattern):
        raise PatternError("A pattern needs one part in braces at least, like {subject}.")
    if re.search(r"[{}]", _PART.sub("", pattern)):
        raise PatternError("A brace is open or too many.")
    return pattern


def suggested(pattern: str, parts: Mapping[str, str]) -> str:
    """A name by a pattern. What is not known is left out, with the signs around it."""
    pieces = re.split(r"(\{[^{}]*\})", pattern)
    found = ""
    for piece in pieces:
        match = _PART.fullmatch(piece)
        if match is None:
            found += piece
        elif said := parts.get(match[1], "").strip():
            found += said
        else:
            found = found.rstrip(" ·|/-–_,:")
    return " ".join(found.split()).strip(" ·|/-–_,:")


def dated(day: dt.date) -> dict[str, str]:
    """The parts of a name that a day gives."""
    return {"date": f"{day:%Y-%m-%d}", "month": f"{day:%Y-%m}"}


def follows(pattern: str, name: str) -> bool:
    """Whether a name has the shape of a pattern; every name has that of none."""
    if not pattern:
        return True
    shape = ""
    for piece in re.split(r"(\{[^{}]*\})", pattern):
        match = _PART.fullmatch(piece)
        shape += _SHAPES.get(match[1], ".+?") if match else re.escape(piece)
    return re.fullmatch(shape, name, re.IGNORECASE) is not None


def nearest(name: str, others: Iterable[str]) -> str | None:
    """The other name that is most easily taken for it; None where none is. Names that differ in
    their numbers alone are told apart by them."""
    plain = _plain(name)
    found: tuple[float, str] | None = None
    for other in others:
        theirs = _plain(other)
        if re.findall(r"\d+", plain) != re.findall(r"\d+", theirs):
            continue
        alike = difflib.SequenceMatcher(None, plain, theirs, autojunk=False).ratio()
        if alike >= NEAR and (found is None or alike > found[0]):
            found = alike, other
    return found[1] if found else None


def _plain(name: str) -> str:
    """A name without capitals, accents and signs."""
    letters = unicodedata.normalize("NFKD", name.casefold())
    return " ".join(re.findall(r"\w+", "".join(c for c in letters if not unicodedata.combining(c))))
