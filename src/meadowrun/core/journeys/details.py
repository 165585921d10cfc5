"""What the event that started a journey says, asked by its branches."""

from collections.abc import Mapping
from typing import Any

from meadowrun.core import values
from meadowrun.core.journeys.steps import Path
from meadowrun.core.wording import fold


def holds(path: Path, details: Mapping[str, Any] | None) -> bool:
    """Whether the details of the event are as a path asks; of a detail that the event does not have
    only “is not” is true. Numbers are compared as numbers, words without regard to case."""
    value = (details or {}).get(path.detail)
    if value is None or isinstance(value, dict | list):
        return path.compare == "is_not"
    said, wanted = number_of(value), number_of(path.value)
    if path.compare in ("more", "less"):
        if said is None or wanted is None:
            return False
        return said > wanted if path.compare == "more" else said < wanted
    same = fold(str(value)) == fold(path.value)
    if said is not None and wanted is not None:
        same = said == wanted
    return same if path.compare == "is" else not same


def number_of(value: Any) -> float | None:
    """A value as a number, where it is one."""
    if isinstance(value, int | float) and not isinstance(value, bool):
        return value
    try:
        return values.number(str(value))
    except values.ValueProblem:
        return None
