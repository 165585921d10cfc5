"""What can be said of values, and reading what a definition says of them: operators, numbers, days,
spans."""

import datetime as dt
from collections.abc import Mapping
from typing import Any

from meadowrun.core import wording
from meadowrun.core.language import Problem, Wording

#: what can be said of a date, and of a date with its time
_DATE = (
    "in_next",
    "in_last",
    "ahead",
    "ago",
    "on",
    "before",
    "after",
    "between",
    "yearly_next",
    "yearly_last",
    "day_month",
)
#: type of field → what can be said of it; "blank" and "not_blank" go with every type.
OPERATORS: dict[str, tuple[str, ...]] = {
    "text": ("is", "is_not", "contains", "not_contains", "begins", "ends"),
    "number": ("is", "is_not", "more_than", "at_least", "less_than", "at_most", "between"),
    "date": _DATE,
    "datetime": (*_DATE, "hours"),
    "yes_no": ("yes", "no"),
    "choice": ("is", "is_not"),
    "choices": ("has", "has_not"),
}
#: how what an event's number adds up to may be compared
TOTALS = ("more_than", "at_least", "less_than", "at_most")
BLANK = ("blank", "not_blank")
#: operators of dates whose value is a number of days
IN_DAYS = ("in_next", "in_last", "ahead", "ago", "yearly_next", "yearly_last")
COMPARE = ("letters", "loose", "exact")
#: values a line may name one by one, as in a pasted list
MOST_VALUES = 100_000


class DefinitionError(Problem):
    """A definition that cannot be taken; `line` is the id of the line at fault, where it has
    one."""

    def __init__(self, message: str, line: str | None = None):
        super().__init__(message)
        self.line = line


def member(data: Mapping[str, Any], name: str, kind: type[Any], ident: str) -> Any:
    """A member that is an object (dict) or a list; where it is missing, an empty one."""
    value = data.get(name) or kind()
    if not isinstance(value, kind):
        raise DefinitionError(
            Wording(
                "“%(name)s” of a line is %(value)s.",
                name=name,
                value="a list" if kind is list else "an object",
            ),
            ident,
        )
    return value


def days(value: Any, ident: str) -> int:
    if isinstance(value, bool) or not isinstance(value, int) or not 0 <= value <= 36_500:
        raise DefinitionError("The number of days must be a whole number from 0 to 36,500.", ident)
    return value


def day(value: Any, ident: str) -> dt.date:
    try:
        return dt.date.fromisoformat(str(value))
    except ValueError:
        raise DefinitionError(Wording("“%(value)s” is not a date.", value=value), ident) from None


def month_day(value: Any, ident: str) -> str:
    try:
        return f"{dt.date.fromisoformat(f'2024-{value}'):%m-%d}"
    except ValueError:
        raise DefinitionError(
            Wording("“%(value)s” is not a day and month like 12-31.", value=value), ident
        ) from None


def hour(value: Any, ident: str) -> str:
    try:
        return f"{dt.time.fromisoformat(str(value)):%H:%M}"
    except ValueError:
        raise DefinitionError(
            Wording("“%(value)s” is not a time of day like 18:30.", value=value), ident
        ) from None


def number(value: Any, ident: str) -> float:
    if (
        isinstance(value, bool)
        or not isinstance(value, int | float)
        or value != value
        or abs(value) == float("inf")
    ):
        raise DefinitionError(Wording("“%(value)s” is not a number.", value=value), ident)
    return value


def value_of(kind: str, op: str, value: Any, label: str, ident: str) -> Any:
    """Checks the value of a condition and returns it in the form the evaluators use."""
    if op in BLANK or kind == "yes_no":
        return None
    if kind in ("choice", "choices") or (kind == "text" and op in ("is", "is_not")):
        values = value if isinstance(value, list) else [value]
        texts = tuple(v for v in values if isinstance(v, str) and v != "")
        if len(texts) != len(values) or not texts:
            raise DefinitionError(
                Wording("Choose at least one value for %(label)s.", label=label), ident
            )
        if len(texts) > MOST_VALUES:
            raise DefinitionError(
                Wording(
                    "A line takes at most %(most_values)s values; import longer lists as a "
                    "list of people.",
                    most_values=wording.number(MOST_VALUES),
                ),
                ident,
            )
        return texts
    if kind == "text":
        if not isinstance(value, str) or not value:
            raise DefinitionError(Wording("Type some text for %(label)s.", label=label), ident)
        return value
    if op in IN_DAYS:
        return days(value, ident)
    if op in ("between", "day_month", "hours"):
        one = "number" if kind == "number" else "time" if op == "hours" else "date"
        if not isinstance(value, list) or len(value) != 2:
            raise DefinitionError(
                Wording("Give two %(one)ss for %(label)s.", one=one, label=label), ident
            )
        if op == "hours":
            return (hour(value[0], ident), hour(value[1], ident))
        if op == "day_month":
            return (month_day(value[0], ident), month_day(value[1], ident))
        read = number if kind == "number" else day
        low, high = read(value[0], ident), read(value[1], ident)
        if low > high:  # type: ignore[operator]
            raise DefinitionError(
                Wording(
                    "The first %(one)s for %(label)s comes after the second.", one=one, label=label
                ),
                ident,
            )
        return (low, high)
    return number(value, ident) if kind == "number" else day(value, ident)
