"""The page on which a send begins with a message, or with the people it goes to."""

import datetime as dt

import flask

from meadowrun.base.db import existing
from meadowrun.base.errors import MeadowrunError
from meadowrun.campaigns import actions as campaigns
from meadowrun.campaigns.models import Campaign
from meadowrun.messages.models import Message
from meadowrun.sends import beginning, queries
from meadowrun.sends.beginning import Part
from meadowrun.shell.request import Answer, actor, db, done, integer, needs, now, settings, zone

pages = flask.Blueprint("beginning", __name__)
#: So many sends that are planned, or went lately, are shown beside.
_BESIDE = 6


@pages.get("/sends/new")
@needs("author")
def new() -> Answer:
    """Asks which campaign a send belongs to, with the likely one chosen."""
    return _page(None)


@pages.post("/sends/new")
@needs("author")
def create() -> Answer:
    """Begins it, in a new campaign where one is named, and leads to its sheet."""
    form = flask.request.form
    message, part = _given()
    try:
        if form.get("campaign") == "new":
            campaign = campaigns.save(
                db(), actor(), now(), {"name": form.get("new", ""), "kind": "Other"}
            )
        else:
            number = integer(form.get("campaign"), "campaign")
            campaign = existing(db(), Campaign, number, "campaign")
        made = beginning.begin(
            db(),
            actor(),
            now(),
            campaign,
            form.get("name", "").strip() or beginning.name_for(db(), campaign, now(), zone()),
            settings().timezone,
            message,
            [part] if part else [],
            _day(),
        )
    except MeadowrunError as problem:
        db().rollback()
        return _page(problem), problem.status
    return done("sends.show", ident=made.id)


def _given() -> tuple[Message | None, Part | None]:
    """The message and the people that it begins with."""
    values = flask.request.values
    number = values.get("message")
    message = existing(db(), Message, integer(number, "message"), "message") if number else None
    return message, beginning.part_of(db(), values.get("people", ""))


def _day() -> dt.date | None:
    """The day that it is to go on; none where the address names none ahead."""
    try:
        day = dt.date.fromisoformat(flask.request.values.get("on", ""))
    except ValueError:
        return None
    return day if day >= now().astimezone(zone()).date() else None


def _page(problem: MeadowrunError | None) -> str:
    message, part = _given()
    likely = beginning.likely_campaign(db(), message, part)
    return flask.render_template(
        "sends/begin.html",
        message=message,
        people=flask.request.values.get("people", ""),
        called=queries.name_of(db(), part) if part else "",
        campaigns=campaigns.campaigns(db()),
        chosen=flask.request.form.get("campaign", str(likely.id) if likely else "new"),
        name=flask.request.form.get("name", ""),
        day=_day(),
        before=beginning.sent_before(db(), message) if message else [],
        beside=queries.recent(db(), most=_BESIDE),
        problem=problem,
    )
