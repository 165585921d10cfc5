"""How far a send may reach: an audience limit on the number of people, and a control group to
compare with."""

import dataclasses
import datetime as dt
from collections.abc import Mapping
from typing import Any

from meadowrun.core import wording
from meadowrun.core.language import Wording

#: What happens when more people would get it than the audience limit says: so many are picked by
#: chance,
#: or nobody gets it.
LIMIT_RULES = ("some", "stop")
#: The largest share, of 100, that a control group may be.
MOST_CONTROL = 50.0


@dataclasses.dataclass(frozen=True, slots=True)
class ControlGroup:
    """Who is in the control group: a share of the campaign's people by chance, or whoever is in a
    segment or list; nobody without any."""

    percent: float = 0.0
    segment: int = 0
    list: int = 0

    @classmethod
    def of(cls, kept: Mapping[str, Any]) -> "ControlGroup":
        """From how it is stored: {}, {"percent": 10.0}, {"segment": 3} or {"list": 2}."""
        return cls(
            float(kept.get("percent", 0.0)), int(kept.get("segment", 0)), int(kept.get("list", 0))
        )

    def __bool__(self) -> bool:
        return bool(self.percent or self.segment or self.list)


def control_words(control: ControlGroup, name: str = "") -> str:
    """Who is in the control group, in words; `name` is that of the segment or list."""
    if control.percent:
        return Wording(
            "a control group of %(percent)s%%, picked at random", percent=f"{control.percent:g}"
        )
    return (
        Wording("everyone in %(name)s as the control group", name=name)
        if control
        else Wording("no control group")
    )


def limit_words(most: int | None, rule: str) -> str:
    """Whom a send goes to by its audience limit, in words."""
    if most is None:
        return Wording("everyone who may get it")
    people = Wording("at most %(most)s", most=wording.people(most))
    return (
        Wording("%(people)s, picked at random", people=people)
        if rule == "some"
        else Wording("%(people)s; if more may get it, nothing is sent", people=people)
    )


#: What becomes of people for whom a message limit leaves no room: they wait for it, or get nothing.
NO_ROOM = ("wait", "skip")


def caps_words(obeys: bool, counts: bool, no_room: str = "wait") -> Wording:
    """Whether a send obeys the message limits, what becomes of people without room, and whether its
    messages count, in words."""
    if obeys and no_room == "skip":
        return (
            Wording("leaves out people without room within the message limits")
            if counts
            else Wording(
                "leaves out people without room within the message limits, but does not count"
            )
        )
    if obeys:
        return (
            Wording("obeys the message limits")
            if counts
            else Wording("obeys the message limits, but does not count")
        )
    return (
        Wording("goes beyond the message limits, but counts")
        if counts
        else Wording("is outside the message limits")
    )


#: Whom a send leaves out because they had it before: nobody; whoever ever had this message; whoever
#: had anything of this campaign within some days.
AGAIN_RULES = ("each", "message", "campaign")
MOST_AGAIN_DAYS = 730


def again_words(rule: str, days: int) -> Wording:
    """Whom a send leaves out because they had it before, in words."""
    if rule == "message":
        return Wording("reaches nobody who had this message before")
    if rule == "campaign":
        return Wording(
            "reaches nobody who had something of this campaign in the last %(days)s",
            days=wording.count_of(days, "day"),
        )
    return Wording("also reaches people who had it before")


def still_in_words(still_in: bool) -> Wording:
    """Whether a send is only for those who still are in its audience, in words."""
    return (
        Wording("people who are still in the audience at that moment")
        if still_in
        else Wording("everyone in the audience at its start")
    )


#: The standing control group is drawn anew each of these: months that it lasts.
HELD_OUT_PERIODS = {
    "month": (1, Wording("month")),
    "quarter": (3, Wording("quarter")),
    "half": (6, Wording("half-year")),
    "year": (12, Wording("year")),
}


def held_out_salt(period: str, day: dt.date) -> str:
    """What the standing control group of the period around a day is drawn by: the same throughout
    it, and another in the next."""
    months, _ = HELD_OUT_PERIODS[period]
    return f"held out:{day.year}:{months}:{(day.month - 1) // months}"


def held_out_since(period: str, day: dt.date) -> dt.date:
    """The first day of the period around a day."""
    months, _ = HELD_OUT_PERIODS[period]
    return day.replace(month=(day.month - 1) // months * months + 1, day=1)


#: Hours after its start within which a send can have to be handed over.
WITHIN = (1, 6, 24, 72, 168, 720)


#: What becomes of people who still wait at the last moment: nothing is sent to them, or it goes to
#: them all the same, outside hours, portions and limits.
AT_LAST = {
    "drop": Wording("get nothing"),
    "send": Wording("get it all the same"),
}


def within_words(hours: int) -> str:
    """How long a send may take, in words."""
    if hours % 24:
        return wording.count_of(hours, "hour")
    return wording.count_of(hours // 24, "day")


def under(going: int, most: int | None, rule: str) -> tuple[int, int]:
    """(how many of `going` people get it, how many are over the audience limit). An audience limit
    that stops takes nobody out: it is asked before anything goes."""
    if most is None or rule == "stop" or going <= most:
        return going, 0
    return most, going - most


def stopped_by(going: int, most: int | None, rule: str) -> str:
    """Why nothing goes, when an audience limit says so; else nothing."""
    if most is None or rule != "stop" or going <= most:
        return ""
    return Wording(
        "%(going)s would get it, and the audience limit is %(most)s. Raise it, choose "
        "fewer people, or let so many be picked at random.",
        going=wording.people(going),
        most=wording.number(most),
    )
