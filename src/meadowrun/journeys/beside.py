"""Two versions of an itinerary rehearsed with the same people: what becomes of them in each."""

import dataclasses
from collections.abc import Mapping

from meadowrun.core.channels import KINDS
from meadowrun.core.journeys.imagined import Range
from meadowrun.core.journeys.steps import Itinerary, MessageStep, numbered
from meadowrun.core.journeys.words import Names, line
from meadowrun.core.language import Wording
from meadowrun.journeys.imagining import Rehearsed

_NOBODY = Range(0, 0, 0)


@dataclasses.dataclass(frozen=True, slots=True)
class Version:
    """One version: its itinerary, and what a rehearsal of it found."""

    itinerary: Itinerary
    rehearsed: Rehearsed


@dataclasses.dataclass(frozen=True, slots=True)
class Pair:
    """One number of both versions; None where a version does not have that step."""

    what: str
    mine: Range | None
    other: Range | None

    @property
    def apart(self) -> bool:
        """Whether they differ by more than chance explains: their ranges do not meet."""
        if self.mine is None or self.other is None:
            return True
        return self.mine.low > self.other.high or self.other.low > self.mine.high


def beside(mine: Version, other: Version, names: Names) -> list[Pair]:
    """The numbers of two versions, those of everybody first, then step by step in the order of the
    first version, and what only the other one has."""
    one, two = mine.rehearsed.found, other.rehearsed.found
    pairs = [
        Pair(Wording("Come in"), one.entered, two.entered),
        Pair(Wording("Finished"), one.finished, two.finished),
        Pair(Wording("Still inside"), one.inside, two.inside),
        Pair(Wording("Left before the end"), _all(one.left), _all(two.left)),
        Pair(Wording("Wait for room under a limit"), one.delayed, two.delayed),
    ]
    if mine.itinerary.goal or other.itinerary.goal:
        pairs.append(Pair(Wording("Reach the goal"), one.goal, two.goal))
    here, there = _sent(mine), _sent(other)
    for channel in dict.fromkeys((*here, *there)):
        said = Wording("Messages: %(channel)s", channel=KINDS[channel].name)
        pairs.append(Pair(said, here.get(channel, _NOBODY), there.get(channel, _NOBODY)))
    return [*pairs, *_steps(mine, other, names)]


def _all(some: Mapping[str, Range]) -> Range:
    """Several ranges added up; as wide as all of them together."""
    found = list(some.values())
    return Range(
        sum(one.low for one in found),
        sum(one.middle for one in found),
        sum(one.high for one in found),
    )


def _sent(version: Version) -> dict[str, Range]:
    """The messages of a version by channel."""
    by_channel: dict[str, dict[str, Range]] = {}
    for step, channel in version.rehearsed.channels.items():
        sent = version.rehearsed.found.sent.get(step, _NOBODY)
        by_channel.setdefault(channel, {})[step] = sent
    return {channel: _all(some) for channel, some in by_channel.items()}


def _steps(mine: Version, other: Version, names: Names) -> list[Pair]:
    """Who comes to each step, of messages to whom it is sent, by the number it has in the version
    that has it."""
    pairs = []
    there = {step.id for step, _, _ in other.itinerary.on().walk()}
    here = {step.id for step, _, _ in mine.itinerary.on().walk()}
    for version, only in ((mine, False), (other, True)):
        called = numbered(version.itinerary)
        for step, _, _ in version.itinerary.on().walk():
            if only and step.id in here:
                continue
            said = line(step, names.of(version.itinerary))
            what = f"{called[step.id]} · {said.kind} {said.what}".strip()
            message = isinstance(step, MessageStep)
            pairs.append(
                Pair(
                    what,
                    _at(mine, step.id, message) if step.id in here else None,
                    _at(other, step.id, message) if step.id in there else None,
                )
            )
    return pairs


def _at(version: Version, step: str, message: bool) -> Range:
    found = version.rehearsed.found
    return (found.sent if message else found.came).get(step, _NOBODY)
