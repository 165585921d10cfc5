"""The calendar: weeks of days with what left and what is planned; a send is moved here."""

import dataclasses
import datetime as dt
from typing import Any

import flask

from meadowrun.base.db import existing as found_row
from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.calendar import feeds, queries
from meadowrun.calendar.queries import Shown
from meadowrun.campaigns.actions import campaigns
from meadowrun.campaigns.models import Campaign
from meadowrun.core import tags as tag_rules
from meadowrun.core.channels import CHANNELS
from meadowrun.core.language import Wording
from meadowrun.core.values import is_whole
from meadowrun.people.asked import moment
from meadowrun.people.moment import Moment
from meadowrun.sends import actions, room, timing
from meadowrun.sends import queries as sends
from meadowrun.sends.models import Send
from meadowrun.shell.later import comes_later
from meadowrun.shell.request import (
    Answer,
    actor,
    db,
    done,
    integer,
    needs,
    not_done,
    now,
    today,
    zone,
)
from meadowrun.tags.queries import paths

pages = flask.Blueprint("calendar", __name__)
#: How many weeks each view shows.
VIEWS = {"day": 0, "week": 1, "weeks": 3, "month": 6}


@pages.get("/calendar")
@comes_later("Working out the calendar")
def show() -> Answer:
    """Weeks of days; `from` is the first, `view` how many."""
    return flask.render_template("calendar/calendar.html", **_shown())


def _shown() -> dict[str, Any]:
    arguments = flask.request.args
    view = arguments.get("view", "weeks")
    view = view if view in VIEWS else "weeks"
    start, count = _span(arguments.get("from", ""), view)
    until = start + dt.timedelta(days=count)
    narrowed = _narrowed()
    look = moment()
    found = queries.entries(look, _midnight(start), _midnight(until), narrowed)
    clashing = queries.clashes(look, found)
    days = queries.by_day(found, zone())
    journeys = queries.of_journeys(look, _midnight(start), _midnight(until), narrowed)
    channels_of = {
        day: queries.together(queries.messages(days.get(day, ())), journeys.get(day, {}))
        for day in {**days, **journeys}
    }
    totals = {day: sum(counted.values()) for day, counted in channels_of.items()}
    every = [start + dt.timedelta(days=number) for number in range(count)]
    return {
        "view": view,
        "weeks": [every[at : at + 7] for at in range(0, count, 7)],
        "days": days,
        "channels_of": channels_of,
        "journeys": {day: sum(counted.values()) for day, counted in journeys.items()},
        "totals": totals,
        "most": max(totals.values(), default=0),
        "clashes": clashing,
        "clash_of": queries.of_each(clashing),
        "start": start,
        "last": until - dt.timedelta(days=1),
        "this_day": today(),
        "step": dt.timedelta(days=max(count, 1)),
        "narrowed": narrowed,
        "tag": flask.request.args.get("tag", ""),
        "tags": paths(db()),
        "campaigns": campaigns(db()),
        "channels": CHANNELS,
        "subscribed": feeds.of(db(), actor()),
        "views": {
            "day": Wording("Day"),
            "week": Wording("Week"),
            "weeks": Wording("Three weeks"),
            "month": Wording("Six weeks"),
        },
    }


def _span(text: str, view: str) -> tuple[dt.date, int]:
    """The first day that is shown, and how many."""
    try:
        start = dt.date.fromisoformat(text)
        if not 1900 <= start.year <= 2200:
            raise ValueError
    except ValueError:
        start = today() - dt.timedelta(days=7 if view == "month" else 0)
    if view == "day":
        return start, 1
    return start - dt.timedelta(days=start.weekday()), 7 * VIEWS[view]


def _midnight(day: dt.date) -> dt.datetime:
    return dt.datetime.combine(day, dt.time(), zone())


def _narrowed() -> Shown:
    """What the calendar is narrowed to."""
    arguments = flask.request.args
    campaign = arguments.get("campaign", "")
    tag = arguments.get("tag", "")
    channel = arguments.get("channel", "")
    return Shown(
        int(campaign) if is_whole(campaign) else 0,
        channel if channel in CHANNELS else "",
        tag_rules.under(int(tag), paths(db())) if is_whole(tag) else frozenset(),
    )


@dataclasses.dataclass(frozen=True)
class _Move:
    """A send on its way to another day."""

    send: Send
    day: dt.date
    at: dt.datetime
    now_with: list[queries.Clash]
    then_with: list[queries.Clash]
    #: how many would have no room for it as it stands, and there
    now_full: int
    then_full: int


def _move(form: Any) -> _Move:
    """What moving a send to a day does. Raises Invalid or Conflict."""
    send = sends.send(db(), integer(form.get("send"), "send"))
    try:
        day = dt.date.fromisoformat(form.get("day", ""))
    except ValueError:
        raise Invalid("Choose the day it should go out.", "day") from None
    at = actions.moment_on(send, day, now())
    look = moment()
    before = queries.near(look, send, send.leaves_at) if send.leaves_at else []
    stands = max(look.now, send.leaves_at or look.now)
    return _Move(
        send,
        day,
        at,
        before,
        queries.near(look, send, at),
        _without_room(look, send, stands),
        _without_room(look, send, at),
    )


def _without_room(look: Moment, send: Send, at: dt.datetime) -> int:
    """How many would have no room for a send at a moment; nobody where its audience cannot be
    worked out: its own page says so."""
    try:
        return room.without_room(look, send, at)
    except Invalid:
        return 0


@pages.get("/calendar/move")
@needs("author")
def ask() -> Answer:
    """What moving a send would do, for the margin."""
    try:
        move = _move(flask.request.args)
    except MeadowrunError as problem:
        return flask.render_template("calendar/move.html", move=None, problem=problem)
    return flask.render_template("calendar/move.html", move=move, problem=None)


@pages.post("/calendar/move")
@needs("author")
def move() -> Answer:
    """Moves a send to another day."""
    form = flask.request.form
    back = {"view": form.get("view", "weeks"), "from": form.get("from", "")}
    try:
        send = sends.send(db(), integer(form.get("send"), "send"))
        day = dt.date.fromisoformat(form.get("day", ""))
        version = integer(form.get("version"), "version")
        actions.move_to(db(), actor(), now(), send, day, version)
    except ValueError:
        return not_done(Invalid("Choose the day it should go out."), "calendar.show", **back)
    except MeadowrunError as problem:
        return not_done(problem, "calendar.show", **back)
    said = Wording(
        "“%(name)s” goes out %(leaves)s now.", name=send.name, leaves=timing.clock_words(send)
    )
    return done("calendar.show", said, **back)


@pages.get("/calendar/about")
def about() -> Answer:
    """A send that was clicked, for the margin."""
    send = sends.send(db(), integer(flask.request.args.get("send"), "send"))
    return flask.render_template(
        "calendar/about.html",
        send=send,
        campaign=found_row(db(), Campaign, send.campaign_id, "campaign"),
        channel=CHANNELS[sends.channel_of(db(), send)],
        leaves=timing.clock_words(send),
        near=queries.near(moment(), send, send.leaves_at)
        if send.leaves_at and send.taken_at is None
        else [],
    )
