"""How far a send may reach: a ceiling on the number of people, and people kept back to compare
with."""

import dataclasses
from collections.abc import Mapping
from typing import Any

from meadowrun.core import wording

#: What happens when more people would get it than the ceiling says: so many are picked by chance,
#: or nobody gets it.
CEILING_RULES = ("some", "stop")
#: The largest share, of 100, that may be kept back by chance.
MOST_HELD = 50.0


@dataclasses.dataclass(frozen=True, slots=True)
class Held:
    """Who is kept back: a share of the campaign's people by chance, or whoever is in a segment or
    list; nobody without any."""

    percent: float = 0.0
    segment: int = 0
    list: int = 0

    @classmethod
    def of(cls, kept: Mapping[str, Any]) -> "Held":
        """From how it is kept: {}, {"percent": 10.0}, {"segment": 3} or {"list": 2}."""
        return cls(
            float(kept.get("percent", 0.0)), int(kept.get("segment", 0)), int(kept.get("list", 0))
        )

    def __bool__(self) -> bool:
        return bool(self.percent or self.segment or self.list)


def held_words(held: Held, name: str = "") -> str:
    """Who is kept back, in words; `name` is that of the segment or list."""
    if held.percent:
        return f"{held.percent:g} in 100"
    return f"whoever is in {name}" if held else "nobody"


def ceiling_words(most: int | None, rule: str) -> str:
    """Whom a send goes to by its ceiling, in words."""
    if most is None:
        return "everybody who may get it"
    people = f"at most {wording.people(most)}"
    return (
        f"{people}, picked by chance"
        if rule == "some"
        else f"{people}; if more may get it, nobody does"
    )


def under(going: int, most: int | None, rule: str) -> tuple[int, int]:
    """(how many of `going` people get it, how many are over the ceiling). A ceiling that stops
    takes nobody out: it is asked before anything goes."""
    if most is None or rule == "stop" or going <= most:
        return going, 0
    return most, going - most


def stopped_by(going: int, most: int | None, rule: str) -> str:
    """Why nothing goes, when a ceiling says so; else nothing."""
    if most is None or rule != "stop" or going <= most:
        return ""
    return (
        f"{wording.people(going)} would get it, and the ceiling is {wording.number(most)}. Raise "
        "it, choose fewer people, or let so many be "
        "picked by chance."
    )
