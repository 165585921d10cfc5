"""The calendar: the sends of six weeks, day by day."""

import datetime as dt

import flask

from meadowrun.campaigns.models import Campaign
from meadowrun.sends import queries as sends
from meadowrun.sends import repeats
from meadowrun.sends.models import Send
from meadowrun.shell.request import Answer, db, now, zone

pages = flask.Blueprint("calendar", __name__)


@pages.get("/calendar")
def show() -> Answer:
    """The sends of six weeks, day by day."""
    first = flask.request.args.get("from", "")
    try:
        start = dt.date.fromisoformat(first)
        if not 1900 <= start.year <= 2200:
            raise ValueError
    except ValueError:
        start = now().astimezone(zone()).date() - dt.timedelta(days=14)
    start -= dt.timedelta(days=start.weekday())
    until = start + dt.timedelta(days=42)
    span = (
        dt.datetime.combine(start, dt.time(), zone()),
        dt.datetime.combine(until, dt.time(), zone()),
    )
    rows = sorted(
        [*sends.between(db(), *span), *repeats.between(db(), *span)], key=lambda row: row[2]
    )
    days: dict[dt.date, list[tuple[Send, Campaign, dt.datetime]]] = {}
    for send, campaign, at in rows:
        days.setdefault(at.astimezone(zone()).date(), []).append((send, campaign, at))
    weeks = [[start + dt.timedelta(days=w * 7 + d) for d in range(7)] for w in range(6)]
    return flask.render_template(
        "calendar.html",
        weeks=weeks,
        days=days,
        start=start,
        this_day=now().astimezone(zone()).date(),
        step=dt.timedelta(days=42),
    )
