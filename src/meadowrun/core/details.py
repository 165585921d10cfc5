"""The details of an event held to the types that its kind gives them."""

import math
import re
from typing import Any

from meadowrun.core.values import ValueProblem, typed

_NUMBER = re.compile(r"[+-]?[0-9]{1,200}(?:[.][0-9]{1,200})?")
_WANTED = {
    "number": "is not a number",
    "date": "is not a date like 2026-11-23",
    "datetime": "is not a moment",
    "yes_no": "is neither yes nor no",
    "choice": "is not a text",
    "choices": "is not a list of texts",
    "text": "is not a text",
}


def inferred(value: Any) -> str:
    """The type that a detail gets from the first value it has."""
    return "number" if isinstance(value, int | float) and not isinstance(value, bool) else "text"


def held(kind: str, value: Any) -> Any:
    """A value in the form of a type. What says the same in another form is taken in that of the
    type: "24.00" is a number. Raises ValueProblem in words that follow the value."""
    if value is None:
        return None
    if kind == "number":
        if isinstance(value, bool) or isinstance(value, float) and not math.isfinite(value):
            raise ValueProblem(_WANTED[kind])
        if isinstance(value, int | float):
            return value
        if isinstance(value, str) and _NUMBER.fullmatch(value):
            return float(value) if "." in value else int(value)
        raise ValueProblem(_WANTED[kind])
    if kind in ("text", "choice"):
        if isinstance(value, str):
            return value
        if isinstance(value, bool):
            return "yes" if value else "no"
        if isinstance(value, int | float):
            return str(value)
        raise ValueProblem(_WANTED[kind])
    if kind == "choices":
        if isinstance(value, list) and all(isinstance(one, str) for one in value):
            return value
        raise ValueProblem(_WANTED[kind])
    if kind == "yes_no" and isinstance(value, bool):
        return value
    if not isinstance(value, str):
        raise ValueProblem(_WANTED[kind])
    try:
        return typed(kind, value)
    except ValueProblem:
        raise ValueProblem(_WANTED[kind]) from None
