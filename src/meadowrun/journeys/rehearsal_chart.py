"""The chart of a rehearsal: what each day brings."""

import dataclasses

from meadowrun.core.channels import KINDS
from meadowrun.core.journeys.clocks import DAY
from meadowrun.core.journeys.steps import Itinerary
from meadowrun.core.journeys.words import Names, line
from meadowrun.core.language import Wording, in_language
from meadowrun.core.wording import count_of, number, weekday_day
from meadowrun.journeys.imagining import Rehearsed
from meadowrun.journeys.map import RIVER
from meadowrun.shell.request import zone


@dataclasses.dataclass(frozen=True)
class Chart:
    """Messages on each day, drawn, and told for the day of the pin."""

    #: each channel: key, what its messages are called, its colour
    channels: list[tuple[str, str, str]]
    #: each day: x, and for each channel the y and the height of its bar
    bars: list[tuple[float, list[tuple[float, float, str]]]]
    #: each day as text
    said: list[str]
    #: days below which a number stands: x and number
    labels: list[tuple[float, int]]
    highest: int
    width: float


#: The size of the chart, in its own units.
_WIDE, _HIGH = 900.0, 110.0


def chart_of(
    rehearsed: Rehearsed, called: dict[str, str], itinerary: Itinerary, names: Names
) -> Chart:
    found = rehearsed.found
    days = range(rehearsed.first_day, rehearsed.first_day + rehearsed.days + 1)
    channels = list(found.a_day)
    # By their place, so that a channel of one's own has a colour, too.
    colours = {one: RIVER[place % len(RIVER)] for place, one in enumerate(channels)}
    totals = [
        sum(float(found.a_day[one][day]) for one in channels if day < len(found.a_day[one]))
        for day in days
    ]
    highest = max([1.0, *totals])
    width = _WIDE / len(days)
    bars, said = [], []
    for place, day in enumerate(days):
        y, parts = _HIGH, []
        words: list[str] = []
        for channel in channels:
            count = float(found.a_day[channel][day]) if day < len(found.a_day[channel]) else 0.0
            high = count / highest * (_HIGH - 4)
            y -= high
            parts.append((y, high, colours[channel]))
            if round(count):
                kind = KINDS[channel]
                words.append(
                    Wording(
                        "%(number)s %(messages)s",
                        number=number(round(count)),
                        messages=kind.several if count >= 1.5 else kind.one,
                    )
                )
        tasks = round(float(found.tasks[day])) if day < len(found.tasks) else 0
        if tasks:
            words.append(count_of(tasks, "task"))
        bars.append((place * width, parts))
        said.append(in_language(_day_words(rehearsed, day, words, called, itinerary, names)))
    return Chart(
        [(one, KINDS[one].several, colours[one]) for one in channels],
        bars,
        said,
        [
            (place * width + width / 2, place)
            for place in range(0, len(days), max(1, len(days) // 7))
        ],
        round(highest),
        width,
    )


def _day_words(
    rehearsed: Rehearsed,
    day: int,
    words: list[str],
    called: dict[str, str],
    itinerary: Itinerary,
    names: Names,
) -> str:
    """What a day brings, and where people are at its end."""
    moment = rehearsed.clocks.moment(day * DAY + DAY / 2).astimezone(zone())
    sent = ", ".join(words) or Wording("no message")
    here = [
        (round(float(rehearsed.found.here[step.id][day])), step)
        for step, _, _ in itinerary.walk()
        if step.id in rehearsed.found.here and day < len(rehearsed.found.here[step.id])
    ]
    inside = sum(people for people, _ in here)
    most = max(here, key=lambda one: one[0], default=None)
    said = Wording(
        "%(day)s: %(sent)s · %(n)s inside at its end",
        day=weekday_day(moment.date()),
        sent=sent,
        n=number(inside),
    )
    if most and most[0]:
        where = line(most[1], names)
        said += Wording(
            ", most of them (%(n)s) on %(number)s · %(kind)s",
            n=number(most[0]),
            number=called[most[1].id],
            kind=where.kind,
        )
    return said
