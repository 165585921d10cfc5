"""A small itinerary, and what everything that it names is called."""

import datetime as dt
import zoneinfo

from meadowrun.core.content.findings import MUST
from meadowrun.core.journeys import edit
from meadowrun.core.journeys.check import check
from meadowrun.core.journeys.steps import (
    ExitStep,
    Goal,
    Itinerary,
    MessageStep,
    Path,
    Span,
    Start,
    WaitForStep,
    WaitStep,
)
from meadowrun.core.journeys.words import Names

LONDON = zoneinfo.ZoneInfo("Europe/London")
TOKYO = zoneinfo.ZoneInfo("Asia/Tokyo")
NAMES = Names(
    messages={
        1: ("Welcome", "Email"),
        2: ("Get the sky app", "Text message"),
        3: ("Tonight", "Push notification"),
    },
    segments={1: "Members", 2: "Dome regulars"},
    events={
        "membership_started": "started a membership",
        "visited": "visited",
        "ticket_bought": "bought a ticket",
        "app_opened": "opened the app",
    },
    tags={1: "season/leonids", 2: "vip"},
    lists={1: "Open night guests"},
)


def at(text):
    return dt.datetime.fromisoformat(text).astimezone(dt.UTC)


def built(*steps, **more):
    found = Itinerary(**more)
    for step in steps:
        found = edit.add(found, step)
    return found


def two_weeks():
    """The worked example: welcome, a day, a text, up to three days for the app, then two ways."""
    return built(
        MessageStep("", 1),
        WaitStep("", Span(1, "day"), 600),
        MessageStep("", 2),
        WaitForStep(
            "",
            Span(3, "day"),
            (
                Path("", (MessageStep("", 3),), event="app_opened"),
                Path("", (ExitStep(""),), reaction="bounced"),
                Path(""),
            ),
        ),
        WaitStep("", Span(2, "day")),
        starts=(Start("event", "membership_started", id="start"),),
        goal=Goal("visited", 14),
    )


def said(itinerary, unsendable=()):
    return [(one.text, one.level == MUST) for one in check(itinerary, NAMES, unsendable)]
