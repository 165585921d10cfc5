"""Scores: points that rules give and take, fading with time if asked.

A rule gives its points each time something happened, or while its conditions hold. What happened
fades: after one half-life it counts half, after two a quarter (points × 0.5^(age in days ÷
half-life), exponential decay). What holds now does not fade.
"""

import dataclasses
import datetime as dt
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from meadowrun.core import wording
from meadowrun.core.audience.definition import DefinitionError, dump, parse
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.audience.judge import Judge
from meadowrun.core.audience.kinds import KINDS
from meadowrun.core.audience.nodes import Definition
from meadowrun.core.audience.persons import Person
from meadowrun.core.language import Problem, Wording

MOST_RULES, MOST_POINTS, MOST_TIMES, MOST_DAYS = 40, 1000, 1000, 3650


class ScoreProblem(Problem):
    """A score that cannot be taken; `rule` is the place of the rule at fault, counted from 0, where
    there is one."""

    def __init__(self, message: str, rule: int | None = None):
        super().__init__(message)
        self.rule = rule


@dataclasses.dataclass(frozen=True, slots=True)
class Rule:
    """`each` time what its one line says happened, at most `most` times (the latest count); or
    while all its lines hold."""

    points: float
    definition: Definition
    each: bool = False
    most: int | None = None


@dataclasses.dataclass(frozen=True, slots=True)
class Given:
    """Points that somebody gave by hand; they fade like what happened."""

    points: float
    at: dt.datetime


def take_rules(data: Any, words: Dictionary) -> tuple[Rule, ...]:
    """Rules that come from outside: [{"points", "each", "most", "lines"}]. Raises ScoreProblem."""
    if not isinstance(data, list) or len(data) > MOST_RULES:
        raise ScoreProblem(
            Wording("A score has a list of at most %(most_rules)s rules.", most_rules=MOST_RULES)
        )
    return tuple(_rule(item, place, words) for place, item in enumerate(data))


def _rule(data: Any, place: int, words: Dictionary) -> Rule:
    if not isinstance(data, Mapping):
        raise ScoreProblem("A rule is an object with its points and lines.", place)
    points, most, each = data.get("points"), data.get("most"), data.get("each", False)
    if (
        isinstance(points, bool)
        or not isinstance(points, int | float)
        or not 0 < abs(points) <= MOST_POINTS
    ):
        raise ScoreProblem(
            Wording(
                "A rule gives or takes up to %(most_points)s points, at least 1.",
                most_points=wording.number(MOST_POINTS),
            ),
            place,
        )
    if most is not None and (
        isinstance(most, bool) or not isinstance(most, int) or not 1 <= most <= MOST_TIMES
    ):
        raise ScoreProblem(
            Wording(
                "How often a rule counts at most is a whole number from 1 to %(most_times)s, "
                "or left out.",
                most_times=wording.number(MOST_TIMES),
            ),
            place,
        )
    if not isinstance(each, bool):
        raise ScoreProblem(
            "A rule counts each time (true), or while its lines hold (false).", place
        )
    lines = data.get("lines")
    try:
        definition = parse({"lines": lines}, words)
    except DefinitionError as problem:
        raise ScoreProblem(str(problem), place) from None
    if not [node for node in definition.lines if not node.off]:
        raise ScoreProblem("Say what a rule gives its points for.", place)
    if asks_score(lines, words):
        raise ScoreProblem(
            "A score cannot be made of a score, nor of a segment that asks for one: that would be "
            "circular.",
            place,
        )
    if each and not can_count(definition):
        raise ScoreProblem(
            "Only one thing that people did, or did with a message, can be counted each time; let "
            "the rule count while its lines hold instead.",
            place,
        )
    return Rule(points, definition, each, most if each else None)


def can_count(definition: Definition) -> bool:
    """Whether a definition speaks of one thing that happens, so that a rule can give points each
    time it does."""
    live = [node for node in definition.lines if not node.off]
    if len(live) != 1:
        return False
    return KINDS[live[0].kind].countable(live[0])


def asks_score(lines: Any, words: Dictionary, seen: frozenset[str] = frozenset()) -> bool:
    """Whether lines, or the segments and groupings they name, ask for any score."""
    for line in lines if isinstance(lines, list) else ():
        if not isinstance(line, Mapping):
            continue
        kind = line.get("kind")
        if kind == "score" or asks_score(line.get("lines"), words, seen):
            return True
        name = f"{kind}:{line.get('segment') or line.get('grouping')}"
        if (
            kind == "segment"
            and name not in seen
            and asks_score(
                (words.segment(line["segment"]) or {}).get("lines"), words, seen | {name}
            )
        ):
            return True
        if (
            kind == "grouping"
            and name not in seen
            and any(
                asks_score(group["lines"], words, seen | {name})
                for group in words.grouping(line["grouping"]) or []
            )
        ):
            return True
    return False


def dump_rules(rules: Iterable[Rule]) -> list[dict[str, Any]]:
    """The JSON of rules; `take_rules(dump_rules(r)) == r`."""
    return [
        {
            "points": r.points,
            "each": r.each,
            **({"most": r.most} if r.most else {}),
            "lines": dump(r.definition)["lines"],
        }
        for r in rules
    ]


def faded(points: float, at: dt.datetime, now: dt.datetime, half_life: int | None) -> float:
    """What points of a moment still count; `half_life` in days of 24 hours, None for those that do
    not fade."""
    if half_life is None:
        return points
    return float(points * 0.5 ** (max(0.0, (now - at).total_seconds()) / 86_400 / half_life))


def parts(
    rules: Sequence[Rule],
    given: Sequence[Given],
    person: Person,
    judge: Judge,
    half_life: int | None,
) -> list[tuple[float, int]]:
    """What each rule gives a person now, and how often it counted; what was given by hand comes
    last."""
    now, found = judge.clock.now, list[tuple[float, int]]()
    for rule in rules:
        if rule.each:
            node = next(n for n in rule.definition.lines if not n.off)
            moments = sorted(judge.moments(node, person), reverse=True)[: rule.most]
            found.append(
                (sum(faded(rule.points, at, now, half_life) for at in moments), len(moments))
            )
        else:
            holds = judge.matches(rule.definition, person)
            found.append((rule.points if holds else 0.0, int(holds)))
    return [*found, (sum(faded(g.points, g.at, now, half_life) for g in given), len(given))]
