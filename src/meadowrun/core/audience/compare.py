"""One value compared with what a line wants of it."""

import datetime as dt
import re
from collections.abc import Callable
from typing import Any

from meadowrun.core.audience.dates import between_month_days, month_days, rolling
from meadowrun.core.audience.letters import FORMS

_NUMBER = re.compile(r"[+-]?[0-9]{1,200}(?:[.][0-9]{1,200})?")


def holds(
    kind: str, op: str, wanted: Any, value: Any, today: dt.date, compare: str = "letters"
) -> bool:
    """One comparison. A blank value matches nothing but "is blank"."""
    blank = value is None or value == "" or value == []
    if op in ("blank", "not_blank"):
        return blank == (op == "blank")
    if blank:
        return False
    if kind == "yes_no":
        return bool(value is (op == "yes"))
    if kind == "choice":
        return (value in wanted) == (op == "is")
    if kind == "choices":
        return any(v in wanted for v in value) == (op == "has")
    if kind == "text":
        return _text_holds(op, wanted, str(value), FORMS[compare])
    if kind == "number":
        found = as_number(value)
        if found is None:
            return False
        return (
            bool(wanted[0] <= found <= wanted[1])
            if op == "between"
            else compared(op, found, wanted)
        )
    if op == "hours":
        # From the first time up to, but not at, the second; over midnight when that comes earlier.
        after, before = value[11:16] >= wanted[0], value[11:16] < wanted[1]
        return bool(after and before if wanted[0] < wanted[1] else after or before)
    try:
        day = dt.date.fromisoformat(str(value)[:10])
    except ValueError:
        return False
    return _day_holds(op, wanted, day, today)


def as_number(value: Any) -> float | None:
    """A value as a number: one, or a text that is one in plain digits; of anything else nothing.
    The same as the database's function of that name."""
    if isinstance(value, bool):
        return None
    if isinstance(value, int | float):
        return value if value == value and abs(value) != float("inf") else None
    return float(value) if isinstance(value, str) and _NUMBER.fullmatch(value) else None


def compared(op: str, value: float, wanted: float) -> bool:
    """A number beside the one a line names."""
    return {
        "is": value == wanted,
        "is_not": value != wanted,
        "more_than": value > wanted,
        "at_least": value >= wanted,
        "less_than": value < wanted,
        "at_most": value <= wanted,
    }[op]


def _text_holds(op: str, wanted: Any, value: str, form: Callable[[str], str]) -> bool:
    text = form(value)
    if op in ("is", "is_not"):
        return (text in [form(w) for w in wanted]) == (op == "is")
    if op in ("begins", "ends"):
        return text.startswith(form(wanted)) if op == "begins" else text.endswith(form(wanted))
    return (form(wanted) in text) == (op == "contains")


def _day_holds(op: str, wanted: Any, day: dt.date, today: dt.date) -> bool:
    if op in ("in_next", "in_last"):
        first, last = rolling(op, wanted, today)
        return first <= day <= last
    if op == "ago":
        return day < rolling("in_last", wanted, today)[0]
    if op == "ahead":
        return day > rolling("in_next", wanted, today)[1]
    if op in ("yearly_next", "yearly_last"):
        return f"{day:%m-%d}" in month_days(today, wanted if op == "yearly_next" else -wanted)
    if op == "day_month":
        return f"{day:%m-%d}" in between_month_days(*wanted)
    if op == "between":
        return bool(wanted[0] <= day <= wanted[1])
    return bool({"on": day == wanted, "before": day < wanted, "after": day > wanted}[op])
