"""The forms for values of each type, and what was answered there; with words for the author."""

import datetime as dt
from collections.abc import Mapping
from typing import Any

from meadowrun.core import values
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.audience.operands import IN_DAYS, DefinitionError
from meadowrun.core.channels import CHANNEL_WORDS, USUAL
from meadowrun.core.language import Wording
from meadowrun.segments.condition import Form, Json


def compared(given: Form) -> Json:
    """Another comparison, with how text is compared where that is asked."""
    chosen: Json = {"op": given.get("op", "")}
    return chosen | {"compare": given["compare"]} if given.get("compare") else chosen


def value_form(kind: str, op: str, value: Any, suggested: list[str]) -> Json:
    """The form for a value of a type: choices, text, number, days, date or a pair of them."""
    chosen = value if isinstance(value, list) else [] if value is None else [value]
    if kind in ("choice", "choices") or kind == "text" and op in ("is", "is_not"):
        options = suggested + [v for v in chosen if v not in suggested and v != "…"]
        return {"form": "choices", "options": options, "chosen": chosen, "free": kind == "text"}
    if kind == "text":
        return {"form": "text", "value": value or ""}
    if kind == "number":
        return {"form": "pair" if op == "between" else "number", "value": value, "input": "number"}
    if op in IN_DAYS:
        return {"form": "days", "value": value}
    if op == "day_month":
        return {"form": "day_month", "value": value or ["12-01", "12-31"]}
    if op == "hours":
        return {"form": "pair", "value": value, "input": "time"}
    return {"form": "pair" if op == "between" else "date", "value": value, "input": "date"}


def read_span(form: Form, ident: str) -> Json:
    kind = form.get("span", "last")
    if kind == "ever":
        return {}
    if kind == "last":
        return {"last": whole(form.get("days"), ident)}
    return {k: day(form[k], ident) for k in ("from", "to") if form.get(k)}


def read_value(kind: str, op: str, form: Form, ident: str) -> Any:
    """A condition's value from its form, in the definition's JSON."""
    if kind in ("choice", "choices") or kind == "text" and op in ("is", "is_not"):
        chosen = [v for v in form.getlist("value") if v]
        chosen += [v.strip() for v in form.get("typed", "").split("\n") if v.strip()]
        if not chosen:
            raise DefinitionError("Choose at least one.", ident)
        return list(dict.fromkeys(chosen))
    text = form.get("value", "")
    if kind == "text":
        if not text.strip():
            raise DefinitionError("Type some text.", ident)
        return text.strip()
    if kind == "number":
        if op == "between":
            return [a_number(text, ident), a_number(form.get("second", ""), ident)]
        return a_number(text, ident)
    if op in IN_DAYS:
        return whole(text, ident)
    if op == "day_month":
        return [
            f"{whole(form.get(f'month{n}'), ident):02d}-{whole(form.get(f'day{n}'), ident):02d}"
            for n in (1, 2)
        ]
    if op == "hours":
        return [text, form.get("second", "")]
    if op == "between":
        return [day(text, ident), day(form.get("second", ""), ident)]
    return day(text, ident)


def whole(text: str | None, ident: str) -> int:
    try:
        return int(text or "")
    except ValueError:
        raise DefinitionError(
            Wording("“%(text)s” is not a whole number.", text=text), ident
        ) from None


def day(text: str, ident: str) -> str:
    try:
        return dt.date.fromisoformat(text).isoformat()
    except ValueError:
        raise DefinitionError(Wording("“%(text)s” is not a date.", text=text), ident) from None


def a_number(text: str, ident: str) -> float | int:
    try:
        return values.number(text)
    except values.ValueProblem as problem:
        raise DefinitionError(f"{problem}.", ident) from None


def consents(words: Dictionary, every: bool = False) -> Mapping[int | str, str]:
    """What one can agree to: all email or a topic of it, by number; another channel by its name;
    with `every`, topics there, too."""
    topics = words.named.get("topic", {})
    found: dict[int | str, str] = {0: "all email"}
    found.update(topics.items())
    others = {channel: name for channel, name in CHANNEL_WORDS.items() if channel != USUAL}
    found.update(others.items())
    if every:
        found |= {
            f"{channel}:{number}": f"{topic} in {name}"
            for channel, name in others.items()
            for number, topic in topics.items()
        }
    return found
