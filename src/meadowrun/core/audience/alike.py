"""How much alike what somebody typed is to a name: by the stems of its words."""

import re
from collections.abc import Iterable

from meadowrun.core.wording import fold

#: Words that say nothing by themselves.
FILLER = {
    "a",
    "an",
    "the",
    "any",
    "of",
    "to",
    "for",
    "their",
    "his",
    "her",
    "has",
    "have",
    "had",
    "are",
    "is",
    "was",
    "were",
    "be",
    "in",
    "on",
    "at",
    "by",
    "and",
    "that",
    "who",
    "whose",
    "people",
    "them",
    "it",
    "or",
    "more",
    "some",
    "us",
    "our",
    "from",
    "with",
    "came",
    "went",
    "attended",
    "like",
    "likes",
    "works",
    "work",
    "s",
}


def stem(word: str) -> str:
    """A word without its ending: “tickets” and “ticket”, “renewed” and “renew”."""
    for end, least in (
        ("ings", 4),
        ("ing", 3),
        ("als", 4),
        ("al", 4),
        ("ed", 3),
        ("es", 4),
        ("ies", 4),
        ("s", 3),
        ("ly", 4),
    ):
        if word.endswith(end) and len(word) - len(end) >= least:
            return word[: -len(end)]
    return word


def tokens(text: str) -> list[str]:
    """The stems of the words that say something."""
    return [stem(w) for w in re.findall(r"[a-z0-9%’'-]+", fold(text)) if w not in FILLER]


def alike(a: str, b: str) -> bool:
    """Whether two stems are of one word, or the longer begins with the shorter."""
    return a == b or (min(len(a), len(b)) >= 5 and (a.startswith(b) or b.startswith(a)))


def related(a: str, b: str) -> bool:
    """Whether two stems are of one word in the wider sense: “donation” and “donate”."""
    return alike(a, b) or len(a) >= 5 and a[:5] == b[:5]


def likeness(said: Iterable[str], name: str) -> float:
    """How much of what was said is in the name, and the other way round; 0 to 1."""
    mine, theirs = list(said), tokens(name)
    if not mine or not theirs:
        return 0.0
    hit = sum(1 for m in mine if any(alike(m, t) for t in theirs))
    back = sum(1 for t in theirs if any(alike(m, t) for m in mine))
    return (hit / len(mine) + back / len(theirs)) / 2 if hit else 0.0
