"""What the page of a journey is drawn from: one row for each line of its itinerary."""

import dataclasses

from meadowrun.core.content.findings import Check
from meadowrun.core.journeys.steps import (
    Itinerary,
    MessageStep,
    Parting,
    Path,
    SplitStep,
    Step,
    WaitForStep,
    numbered,
)
from meadowrun.core.journeys.words import Line, Names, line, path_line
from meadowrun.core.language import Wording
from meadowrun.core.wording import number
from meadowrun.journeys.queries import Did, Here, Numbers


@dataclasses.dataclass(frozen=True, slots=True)
class Row:
    """One line: a step, or a path of one, with what it says and what became of it."""

    id: str
    number: str
    depth: int
    words: Line
    step: Step | None
    path: Path | None
    #: the step that a path belongs to
    of: Parting | None
    #: what became of it, in words, and how many people are on it now
    told: str
    here: int
    findings: tuple[str, ...]
    #: this path can be taken away, or has something that can be chosen
    asks: bool = False


def rows(
    itinerary: Itinerary, names: Names, numbers: Numbers | None, findings: list[Check]
) -> list[Row]:
    """Every line of an itinerary, in order."""
    called = numbered(itinerary)
    wrong: dict[str, list[str]] = {}
    for one in findings:
        wrong.setdefault(one.line, []).append(one.text)
    found: list[Row] = []

    def tell(steps: tuple[Step, ...], depth: int) -> None:
        for step in steps:
            here = numbers.here.get(step.id, Here()).people if numbers else 0
            found.append(
                Row(
                    step.id,
                    called[step.id],
                    depth,
                    line(step, names),
                    step,
                    None,
                    None,
                    _told(step, numbers),
                    here,
                    tuple(wrong.get(step.id, ())),
                )
            )
            if not isinstance(step, Parting):
                continue
            for path in step.paths:
                asks = isinstance(step, SplitStep) or path is not step.paths[-1]
                found.append(
                    Row(
                        path.id,
                        called[path.id],
                        depth + 1,
                        path_line(step, path, names),
                        None,
                        path,
                        step,
                        _took(step, path, numbers),
                        0,
                        tuple(wrong.get(path.id, ())),
                        asks,
                    )
                )
                tell(path.steps, depth + 2)

    tell(itinerary.steps, 0)
    return found


def _told(step: Step, numbers: Numbers | None) -> str:
    """What became of a step so far, in words; empty before it runs."""
    if numbers is None:
        return ""
    if isinstance(step, MessageStep):
        did = numbers.did.get(step.id, Did())
        if not did.sent:
            return ""
        share = round(100 * did.opened / did.sent)
        return Wording("%(sent)s sent, %(share)s%% opened", sent=number(did.sent), share=share)
    came = numbers.passed(step.id)
    return Wording("%(n)s came", n=number(came)) if came else ""


def _took(step: Parting, path: Path, numbers: Numbers | None) -> str:
    """How many took a path, and what share of those who went on."""
    if numbers is None:
        return ""
    everybody = sum(numbers.by(step.id, one.id) for one in step.paths)
    people = numbers.by(step.id, path.id)
    if not everybody:
        return ""
    return f"{number(people)} · {round(100 * people / everybody)}%"


def holds(step: Step | None) -> bool:
    """Whether a step holds people for a time that can be changed."""
    return step is not None and (step.kind == "wait" or isinstance(step, WaitForStep))
