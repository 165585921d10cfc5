"""What the event that started a journey says, and what another server answered, asked by its
branches."""

import re
from collections.abc import Mapping
from typing import Any

import orjson

from meadowrun.core import values
from meadowrun.core.journeys.steps import Path
from meadowrun.core.wording import fold

#: What comes before the name of something that another server answered.
ANSWER = "answer_"
#: So many things of an answer are kept, and so many letters of each.
_MOST_SAID, _LONGEST = 20, 200


def answered(text: str) -> dict[str, str | int | float | bool]:
    """What an answer says that branches can ask: the plain values of a JSON object, by their names
    with ANSWER before them. Nothing where it is something else."""
    try:
        said = orjson.loads(text)
    except orjson.JSONDecodeError:
        return {}
    found: dict[str, str | int | float | bool] = {}
    for key, value in said.items() if isinstance(said, dict) else ():
        name = re.sub(r"[^a-z0-9]+", "_", key.lower()).strip("_")[:40]
        if isinstance(value, str):
            # The database keeps no such sign.
            value = value.replace("\x00", "")[:_LONGEST]
        if name and isinstance(value, str | int | float | bool) and len(found) < _MOST_SAID:
            found[ANSWER + name] = value
    return found


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
