"""The page on which a send begins with a message, or with the people it goes to."""

import datetime as dt

import flask

from meadowrun.base.db import existing
from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.campaigns import actions as campaigns
from meadowrun.campaigns.models import Campaign
from meadowrun.core.audience.definition import DefinitionError
from meadowrun.core.channels import CHANNEL_WORDS
from meadowrun.messages.models import Message
from meadowrun.people.asked import moment
from meadowrun.segments import comparing
from meadowrun.segments.looking import Looking, NoEstimate
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
        campaign = _campaign()
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


def _campaign() -> Campaign:
    """The campaign that was chosen, or a new one. Raises Invalid naming the field of this page."""
    form = flask.request.form
    if form.get("campaign") != "new":
        number = integer(form.get("campaign"), "campaign")
        return existing(db(), Campaign, number, "campaign")
    named = {"name": form.get("new", ""), "kind": "Other"}
    try:
        return campaigns.save(db(), actor(), now(), named)
    except Invalid as problem:
        raise Invalid(problem.args[0], "new") from None


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


def _counted(given: str) -> Looking | None:
    """How many people an address names, and how many of them each channel reaches; None where that
    takes too long for now, or where their segment has an error."""
    try:
        return comparing.looked(moment(), comparing.chosen(db(), [given])[0])
    except (NoEstimate, DefinitionError):
        return None


def _page(problem: MeadowrunError | None) -> str:
    message, part = _given()
    likely = beginning.likely_campaign(db(), message, part)
    given = flask.request.values.get("people", "")
    known = campaigns.campaigns(db())
    called = queries.name_of(db(), part) if part else ""
    new = message.name if message else called
    return flask.render_template(
        "sends/begin.html",
        message=message,
        people=given,
        who=_counted(given) if part else None,
        channel_words=CHANNEL_WORDS,
        drafts=beginning.drafts_with(db(), message) if message else [],
        called=called,
        campaigns=known,
        new=flask.request.form.get("new", "" if new in {one.name for one in known} else new),
        chosen=flask.request.form.get("campaign", str(likely.id) if likely else "new"),
        name=flask.request.form.get("name", ""),
        day=_day(),
        before=beginning.sent_before(db(), message) if message else [],
        beside=queries.recent(db(), most=_BESIDE),
        problem=problem,
    )
