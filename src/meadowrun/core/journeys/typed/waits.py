"""Typed waits: a time, until an hour or a day, until so long before or after a date."""

import re

from meadowrun.core.journeys.steps import Span, WaitStep
from meadowrun.core.journeys.typed.parts import (
    Reading,
    begins_with_span,
    clock_in,
    rest_of,
    span_in,
    weekday_in,
)
from meadowrun.core.journeys.words import Names

_BEGINS = re.compile(
    r"(?:then )?(?:wait|pause|hold|sleep|delay(?: by)?|after|do nothing|(?=(?:until|till)\b))", re.I
)
_NEXT_DAY = re.compile(r"\b(?:(?:until )?(?:tomorrow|the next (?:day|morning))|overnight)\b", re.I)


def read(text: str, names: Names) -> list[Reading]:
    """“wait 3 days”, “wait until Monday at 9:00”, “until 2 weeks before renewal”."""
    met = _BEGINS.match(text)
    if met is None and not begins_with_span(text):
        return []
    if re.match(r"wait for\b", text, re.I) and not begins_with_span(text[9:]):
        return []
    rest = text[met.end() :] if met else text
    dated = for_date(rest, names)
    if dated:
        return dated
    span, day = span_in(rest), _NEXT_DAY.search(rest)
    used = [span[1]] if span else []
    morning = day is not None and re.search(r"morning|overnight", day[0], re.I) is not None
    if span is None and day is not None:
        span = Span(1, "day"), day[0]
        used.append(day[0])
    clock = clock_in(rest.replace(span[1], " ", 1) if span else rest)
    if clock is None and morning:
        clock = 9 * 60, ""
    weekday = weekday_in(rest)
    if span is None and clock is None and weekday is None:
        return []
    used += [part[1] for part in (weekday, clock) if part]
    length = span[0] if span else Span(0, "minute")
    step = WaitStep("", length, clock[0] if clock else None, weekday[0] if weekday else None)
    return [Reading(step, rest_of(rest, *used))]


_BESIDE = re.compile(r"\b(?:(?P<day>the day )?(?P<side>before|after)|(?:the )?day of)\b", re.I)
_OF_COMPANY = re.compile(r"\b(?:of )?(?:their|the) (?:company|firm)(?:[’']s|s[’'])?", re.I)
_EACH_YEAR = re.compile(r"\b(?:next|each year|every year|whatever the year)\b", re.I)


def for_date(text: str, names: Names) -> list[Reading]:
    """“until 3 days before their renewal date”, “until the day after their birthday”, “7 days
    before their company’s renewal date”."""
    found = [
        (ref, said)
        for ref, label in names.dates.items()
        if (said := _date_named(text, label)) is not None
    ]
    if not found:
        return []
    of_company = _OF_COMPANY.search(text)
    ref, said = max(
        found,
        key=lambda one: (len(one[1]), one[0].startswith("company.") == (of_company is not None)),
    )
    rest = text.replace(said, " ", 1)
    if of_company and ref.startswith("company."):
        rest = rest.replace(of_company[0], " ", 1)
    span, beside = span_in(rest), _BESIDE.search(rest)
    side = (beside["side"] or "").lower() if beside else ""
    if span and not side:
        # “Wait 3 days, their birthday” says not on which side of it.
        return []
    clock = clock_in(rest.replace(span[1], " ", 1) if span else rest)
    yearly = _EACH_YEAR.search(rest)
    used = [part for part in (span and span[1], beside and beside[0], clock and clock[1]) if part]
    one_day = beside is not None and beside["day"] is not None and span is None
    step = WaitStep(
        "",
        span[0] if span else Span(1 if one_day else 0, "day"),
        clock[0] if clock else 9 * 60,
        None,
        ref,
        side == "before",
        yearly is not None or "birthday" in said.lower(),
    )
    return [Reading(step, rest_of(rest, *used, yearly[0] if yearly else ""))]


def _date_named(text: str, label: str) -> str | None:
    """The words of a text that name a date: “renewal” names the “renewal date”."""
    bare = re.sub(r" (?:date|day)$", "", label.lower())
    for name in (label.lower(), bare):
        met = re.search(rf"\b{re.escape(name)}\b", text, re.I)
        if met:
            return met[0]
    return None
