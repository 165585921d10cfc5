"""Pictures of time: hours of a day, days of a year, week after week. Each carries its own title, or
says what follows it."""

import datetime as dt
from collections.abc import Collection, Mapping, Sequence
from typing import Protocol

from markupsafe import Markup, escape

from meadowrun.base.manifest import Dated
from meadowrun.core.wording import day_month, number, time, weekday_day, weekday_time


def arrivals(
    moments: Sequence[tuple[dt.datetime, int]], width: int = 880, height: int = 120
) -> Markup:
    """When people get something, on one clock: columns by the hour, by six hours, or by the day, as
    long as it takes; `moments` are (local moment, people), in order."""
    if not moments:
        return Markup("")
    first, last = moments[0][0], moments[-1][0]
    hours = (last - first).total_seconds() / 3600
    step = 1 if hours <= 36 else 6 if hours <= 24 * 8 else 24
    begins = first.replace(hour=first.hour // step * step, minute=0, second=0, microsecond=0)
    begins = begins.replace(tzinfo=None)
    columns: dict[int, int] = {}
    for moment, people in moments:
        place = int((moment.replace(tzinfo=None) - begins).total_seconds() // (3600 * step))
        columns[place] = columns.get(place, 0) + people
    count = max(12, max(columns) + 1)
    gap, most, ground = width / count, max(columns.values()), height - 34
    parts = [f'<line x1="0" x2="{width}" y1="{height - 18}" y2="{height - 18}" stroke="#dfd9c8"/>']
    said = -100.0
    for place in range(count):
        at = begins + dt.timedelta(hours=step * place)
        x = place * gap
        if at.hour == 0 and step < 24 and place:
            parts.append(f'<path d="M{x:.1f} 0v{height - 18}" stroke="#dfd9c8"/>')
        new_day = place == 0 or at.hour == 0
        label = weekday_day(at.date()) if new_day else time(at)
        if x - said >= (70 if new_day else 44) or place == 0:
            parts.append(
                f'<text x="{x + 1:.1f}" y="{height - 4}" font-size="11" fill="#5c6761">'
                f"{escape(label)}</text>"
            )
            said = x + (26 if new_day else 0)
        if people := columns.get(place, 0):
            tall = max(2.0, ground * people / most)
            top = height - 18 - tall
            parts.append(
                f'<rect x="{x + 1:.1f}" y="{top:.1f}" width="{gap - 2:.1f}" height="{tall:.1f}" '
                f'fill="#7fa48c"><title>{escape(weekday_time(at))}: '
                f"{escape(number(people))}</title></rect>"
            )
            if people == most:
                parts.append(
                    f'<text x="{x + 1:.1f}" y="{top - 4:.1f}" font-size="11" fill="#1f2b25">'
                    f"{escape(number(people))}</text>"
                )
    return Markup(
        f'<svg width="100%" viewBox="0 0 {width} {height}" role="img" '
        f'aria-label="When people get it; a table follows">{"".join(parts)}</svg>'
    )


class Counted(Protocol):
    """The messages of one week, by what would have become of them."""

    @property
    def monday(self) -> dt.date: ...

    @property
    def as_it_was(self) -> int: ...

    @property
    def later(self) -> int: ...

    @property
    def not_sent(self) -> int: ...


def weeks(found: Sequence[Counted], width: int = 880, height: int = 150) -> Markup:
    """A column for each week: what was sent as it was, what would have waited, and what would not
    have been sent, one on the other."""
    most = max((one.as_it_was + one.later + one.not_sent for one in found), default=0)
    if not most:
        return Markup("")
    gap, ground = width / max(8, len(found)), height - 20
    parts = [f'<line x1="0" x2="{width}" y1="{ground}" y2="{ground}" stroke="#dfd9c8"/>']
    for place, one in enumerate(found):
        x, base = place * gap, float(ground)
        for count, colour in (
            (one.as_it_was, "#7fa48c"),
            (one.later, "#c98a1b"),
            (one.not_sent, "#a63a63"),
        ):
            tall = (ground - 14) * count / most
            base -= tall
            if count:
                parts.append(
                    f'<rect x="{x + 4:.1f}" y="{base:.1f}" width="{gap - 14:.1f}" '
                    f'height="{tall:.1f}" fill="{colour}">'
                    f"<title>{escape(number(count))}</title></rect>"
                )
        total = one.as_it_was + one.later + one.not_sent
        parts.append(
            f'<text x="{x + 4:.1f}" y="{base - 4:.1f}" font-size="11" fill="#5c6761">'
            f"{escape(number(total))}</text>"
            f'<text x="{x + 4:.1f}" y="{height - 5}" font-size="11" fill="#5c6761">'
            f"{escape(day_month(one.monday))}</text>"
        )
    return Markup(
        f'<svg width="100%" viewBox="0 0 {width} {height}" role="img" '
        f'aria-label="Messages a week; the numbers follow">{"".join(parts)}</svg>'
    )


#: From few to many: the more, the darker.
STEPS = ("#b9cdbf", "#7fa48c", "#2e5e45", "#c98a1b", "#a63a63")


def step_swatch(number: int, most: int) -> Markup:
    """The small square in front of one of so many steps, in the colour of its part."""
    colour = STEPS[min(number, most, len(STEPS)) - 1]
    return Markup(
        '<svg class="swatch" width="10" height="10" aria-hidden="true"><rect width="10" '
        'height="10" fill="{c}"/></svg>'
    ).format(c=colour)


class Reached(Protocol):
    """How many people got so many messages in one week."""

    @property
    def monday(self) -> dt.date: ...

    @property
    def people(self) -> Mapping[int, int]: ...


def shares(found: Sequence[Reached], most: int, width: int = 880, height: int = 170) -> Markup:
    """A column for each week, all as tall as the people who got something: by how many they got."""
    tallest = max((sum(one.people.values()) for one in found), default=0)
    if not tallest:
        return Markup("")
    gap, ground = width / max(8, len(found)), height - 20
    parts = [f'<line x1="0" x2="{width}" y1="{ground}" y2="{ground}" stroke="#dfd9c8"/>']
    for place, one in enumerate(found):
        x, base = place * gap, float(ground)
        for messages in range(1, most + 1):
            people = one.people.get(messages, 0)
            tall = (ground - 14) * people / tallest
            base -= tall
            if people:
                parts.append(
                    f'<rect x="{x + 4:.1f}" y="{base:.1f}" width="{gap - 14:.1f}" '
                    f'height="{tall:.1f}" fill="{STEPS[min(messages, len(STEPS)) - 1]}">'
                    f"<title>{messages}: {escape(number(people))}</title></rect>"
                )
        if total := sum(one.people.values()):
            parts.append(
                f'<text x="{x + 4:.1f}" y="{base - 4:.1f}" font-size="11" fill="#5c6761">'
                f"{escape(number(total))}</text>"
            )
        parts.append(
            f'<text x="{x + 4:.1f}" y="{height - 5}" font-size="11" fill="#5c6761">'
            f"{escape(day_month(one.monday))}</text>"
        )
    return Markup(
        f'<svg width="100%" viewBox="0 0 {width} {height}" role="img" '
        f'aria-label="People by messages a week; a table follows">{"".join(parts)}</svg>'
    )


#: So many days before and after today a line of dates shows.
_AROUND = 92


def dates(
    found: Sequence[Dated],
    starts: dt.date | None,
    ends: dt.date | None,
    today: dt.date,
    zone: dt.tzinfo,
    width: int = 250,
) -> Markup:
    """The dates of something on a line of days around today: from when to when it lasts, what
    happened, and what is still to come."""

    def x(day: dt.date) -> float:
        passed = (day - today).days + _AROUND
        return width * min(max(passed, 0), 2 * _AROUND) / (2 * _AROUND)

    parts = [f'<path d="M0 12H{width}" stroke="#dfd9c8"/>']
    first, last = today - dt.timedelta(days=_AROUND), today + dt.timedelta(days=_AROUND)
    if starts is not None and starts <= last and (ends or starts) >= first:
        begins, over = x(starts), x(ends or starts)
        parts.append(
            f'<rect x="{begins:.1f}" y="8" width="{max(2.0, over - begins):.1f}" height="8" '
            'fill="#dce8de"/>'
        )
    parts.append(f'<path d="M{width / 2} 0V24" stroke="#1f2b25" stroke-dasharray="2 2"/>')
    for one in found:
        day = one.at.astimezone(zone).date()
        if abs((day - today).days) > _AROUND:
            continue
        colour = "#c98a1b" if one.ahead else "#2e5e45"
        parts.append(
            f'<rect x="{x(day) - 2:.1f}" y="5" width="4" height="14" fill="{colour}">'
            f"<title>{escape(one.name)}</title></rect>"
        )
    return Markup(f'<svg width="{width}" height="24" aria-hidden="true">{"".join(parts)}</svg>')


def year_strip(days: Collection[str], today: dt.date) -> Markup:
    """The twelve months of a year with the days a condition takes shaded ("MM-DD"), and today
    marked; nothing for none."""
    if not days:
        return Markup("")
    width, height = 366, 12
    first = dt.date(2024, 1, 1)
    every = [f"{first + dt.timedelta(days=n):%m-%d}" for n in range(width)]
    runs: list[tuple[int, int]] = []
    for place, day in enumerate(every):
        if day in days:
            if runs and runs[-1][0] + runs[-1][1] == place:
                runs[-1] = (runs[-1][0], runs[-1][1] + 1)
            else:
                runs.append((place, 1))
    months = [(first.replace(month=m) - first).days for m in range(1, 13)]
    parts = [f'<rect width="{width}" height="{height}" class="strip-ground"/>']
    parts += [
        f'<rect x="{x}" width="{max(2, w)}" height="{height}" class="strip-days"/>' for x, w in runs
    ]
    parts += [f'<path d="M{x} 0v{height}" class="strip-month"/>' for x in months[1:]]
    parts.append(
        f'<path d="M{every.index(f"{today:%m-%d}")}.5 -2v{height + 4}" class="strip-today"/>'
    )
    parts += [
        f'<text x="{x + 15}" y="{height + 10}" text-anchor="middle">{name}</text>'
        for x, name in zip(months, "JFMAMJJASOND", strict=True)
    ]
    said = f"{len(days)} {'day' if len(days) == 1 else 'days'} of the year are taken"
    return Markup(
        f'<svg class="year-strip" viewBox="0 -3 {width} {height + 15}" width="{width}" '
        f'height="{height + 15}" role="img" '
        f'aria-label="{said}">{"".join(parts)}</svg>'
    )


def week_hours(
    counts: Sequence[Sequence[int]], days: Sequence[str], width: int = 880, row: int = 26
) -> Markup:
    """A week by its hours: a dot for each hour of each day, as large in area as what happened in
    it; `counts` are seven days of 24 hours, `days` what they are called."""
    most = max((count for hours in counts for count in hours), default=0)
    if not most:
        return Markup("")
    left, height = 84, row * len(counts) + 20
    gap = (width - left) / 24
    largest = min(gap, row) / 2 - 1
    parts = []
    for place, (name, hours) in enumerate(zip(days, counts, strict=True)):
        y = place * row + row / 2
        parts.append(
            f'<text x="0" y="{y + 4:.1f}" font-size="12" fill="#5c6761">{escape(name)}</text>'
            f'<path d="M{left} {y:.1f}H{width}" stroke="#efeadd"/>'
        )
        for hour, count in enumerate(hours):
            if count:
                radius = max(0.8, largest * (count / most) ** 0.5)
                parts.append(
                    f'<circle cx="{left + (hour + 0.5) * gap:.1f}" cy="{y:.1f}" r="{radius:.1f}" '
                    f'fill="{"#2e5e45" if count * 2 > most else "#7fa48c"}">'
                    f"<title>{escape(name)} {hour:02d}:00: {escape(number(count))}</title></circle>"
                )
    parts += [_hour_label(left, gap, hour, height) for hour in range(0, 24, 3)]
    return Markup(
        f'<svg width="100%" viewBox="0 0 {width} {height}" role="img" '
        f'aria-label="Reactions by day and hour">{"".join(parts)}</svg>'
    )


def day_hours(counts: Sequence[int], width: int = 880, height: int = 96) -> Markup:
    """The 24 hours of a day: a column for each, as tall as what belongs to it."""
    most = max(counts, default=0)
    if not most:
        return Markup("")
    left, ground = 84, height - 18
    gap = (width - left) / 24
    parts = [f'<path d="M{left} {ground}H{width}" stroke="#dfd9c8"/>']
    for hour, count in enumerate(counts):
        if count:
            tall = max(1.0, (ground - 14) * count / most)
            parts.append(
                f'<rect x="{left + hour * gap + 2:.1f}" y="{ground - tall:.1f}" '
                f'width="{gap - 4:.1f}" height="{tall:.1f}" fill="#7fa48c">'
                f"<title>{hour:02d}:00: {escape(number(count))}</title></rect>"
            )
        if count == most:
            parts.append(
                f'<text x="{left + (hour + 0.5) * gap:.1f}" y="{ground - tall - 3:.1f}" '
                f'font-size="11" text-anchor="middle" fill="#1f2b25">{escape(number(count))}</text>'
            )
    parts += [_hour_label(left, gap, hour, height) for hour in range(0, 24, 3)]
    return Markup(
        f'<svg width="100%" viewBox="0 0 {width} {height}" role="img" '
        f'aria-label="People by their best hour">{"".join(parts)}</svg>'
    )


def _hour_label(left: float, gap: float, hour: int, height: int) -> str:
    """The time under the column of an hour."""
    return (
        f'<text x="{left + (hour + 0.5) * gap:.1f}" y="{height - 4}" font-size="11" '
        f'text-anchor="middle" fill="#5c6761">{hour:02d}:00</text>'
    )
