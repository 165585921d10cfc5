"""The API's endpoints about sends and the calendar."""

import datetime as dt
import zoneinfo
from typing import Any

import flask

from meadowrun.api.door import PAGED, TEXT, Json, endpoint, paged, thing, whole
from meadowrun.base.audit import Actor
from meadowrun.base.db import existing
from meadowrun.base.errors import Invalid, NotFound
from meadowrun.calendar import queries as calendar
from meadowrun.campaigns.models import Campaign
from meadowrun.core.guardrails.limits import AGAIN_RULES, AT_LAST, LIMIT_RULES, NO_ROOM, WITHIN
from meadowrun.core.guardrails.verdict import RULES
from meadowrun.core.timing.hours import Hours, HoursError
from meadowrun.core.timing.moments import GAPS, PASSED
from meadowrun.core.timing.rhythm import Rhythm, RhythmError
from meadowrun.core.timing.zones import moment_of
from meadowrun.messages.models import Message
from meadowrun.messages.senders import Sender
from meadowrun.outgoing.models import Holidays
from meadowrun.outgoing.queries import tally
from meadowrun.people.asked import moment
from meadowrun.people.models import Contact, Topic
from meadowrun.sends import actions, estimates, queries, repeats, timing
from meadowrun.sends.models import Send
from meadowrun.sends.why import why
from meadowrun.shell.request import Answer, body, db, now, settings, zone

_WHOLE: Json = {"type": "integer", "minimum": 0}
_MOMENT: Json = {"type": "string", "description": "2026-12-01T09:00:00+00:00", "maxLength": 40}
_PART: Json = {
    "type": "array",
    "items": {
        "type": "object",
        "maxProperties": 1,
        "minProperties": 1,
        "additionalProperties": False,
        "properties": {
            "segment": _WHOLE,
            "list": _WHOLE,
            "everyone": {"type": "boolean", "enum": [True]},
        },
    },
}
_HOURS: Json = {
    "type": "object",
    "additionalProperties": False,
    "properties": {
        "from": TEXT,
        "to": TEXT,
        "days": {"type": "array", "items": {"type": "integer", "minimum": 0, "maximum": 6}},
        "calendar": _WHOLE,
    },
    "description": "on each person’s own clock; {} at any hour",
}
#: What can be said of a send.
SHEET: Json = {
    "name": TEXT,
    "audience": thing(["in"], **{"in": _PART, "out": _PART}),
    "message": _WHOLE,
    "sender": _WHOLE,
    "topic": {"type": ["integer", "null"], "minimum": 1},
    "consent_rule": {"enum": list(RULES)},
    "audience_limit": {"type": ["integer", "null"], "minimum": 1},
    "limit_rule": {"enum": list(LIMIT_RULES)},
    "leaves_at": {
        "type": ["string", "null"],
        "maxLength": 40,
        "description": "a moment with its offset, or, with own_clock, a time without one",
    },
    "own_clock": {"type": "boolean", "description": "on each person’s own clock"},
    "passed": {"enum": list(PASSED)},
    "rhythm": {"type": "string", "maxLength": 200, "description": "RRULE, RFC 5545; empty: once"},
    "ends_empty": {"type": "boolean"},
    "hours": _HOURS,
    "portion_size": {"type": ["integer", "null"], "minimum": 1},
    "best_hour": {
        "type": "boolean",
        "description": "at the hour at which each person reacts most; not with portions",
    },
    "portion_gap": {"enum": list(GAPS), "description": "minutes"},
    "stop_percent": {
        "type": ["number", "null"],
        "exclusiveMinimum": 0,
        "maximum": 100,
        "description": "portions stop when more than this share bounces or complains",
    },
    "again_rule": {"enum": list(AGAIN_RULES)},
    "again_days": {"type": "integer", "minimum": 1, "maximum": 730},
    "obeys_caps": {"type": "boolean"},
    "counts": {"type": "boolean"},
    "no_room": {"enum": list(NO_ROOM), "description": "people for whom a limit leaves no room"},
    "still_in": {
        "type": "boolean",
        "description": "only people who are still in the audience when it reaches them",
    },
    "within_hours": {"enum": list(WITHIN)},
    "ends_at": {
        "type": ["string", "null"],
        "format": "date-time",
        "description": "people wait until then, instead of for “within_hours”",
    },
    "at_last": {"enum": list(AT_LAST), "description": "what happens to people who still wait then"},
}
#: What is taken as it is given.
_PLAIN = (
    "name",
    "consent_rule",
    "audience_limit",
    "limit_rule",
    "passed",
    "ends_empty",
    "best_hour",
    "portion_size",
    "portion_gap",
    "stop_percent",
    "again_rule",
    "again_days",
    "obeys_caps",
    "counts",
    "no_room",
    "still_in",
    "within_hours",
    "at_last",
)


def _iso(at: dt.datetime | None) -> str | None:
    return at.isoformat() if at is not None else None


def _send(send: Send) -> Json:
    return {
        "id": send.id,
        "version": send.version,
        "name": send.name,
        "campaign": send.campaign_id,
        "state": send.state,
        "channel": queries.channel_of(db(), send),
        "message": send.message_id,
        "sender": send.sender_id,
        "topic": send.topic_id,
        "audience": send.audience,
        "leaves_at": _iso(send.local_at or send.leaves_at),
        "own_clock": send.local_at is not None,
        "rhythm": send.rhythm,
        "repeats": send.repeats_id,
        "hours": send.hours,
        "ends_at": _iso(send.ends_at),
        "begins_at": _iso(send.begins_at),
        "started_at": _iso(send.taken_at),
        "finished_at": _iso(send.finished_at),
        "people": send.audience_size,
        **{name: getattr(send, name) for name in _PLAIN if name != "name"},
    }


@endpoint("get", "/v1/sends", "Sends by number, page by page", query=PAGED)
def all_sends(actor: Actor) -> Answer:
    limit = whole("limit", 100, 1000)
    rows = queries.after(db(), whole("after", 0), limit + 1)
    return paged(rows, limit, _send, lambda send: send.id)


@endpoint("get", "/v1/sends/<int:ident>", "One send, with what became of its people, and its dates")
def one_send(actor: Actor, ident: int) -> Answer:
    send = queries.send(db(), ident)
    return flask.jsonify(
        **_send(send),
        tally=tally(db(), send.dispatch_id),
        problem=send.trouble,
        dates=[_iso(date.starts) for date in repeats.ahead(db(), send)],
        occurrences=[
            {"id": one.id, "started_at": _iso(one.taken_at), "state": one.state, **numbers}
            for one, numbers in repeats.of(db(), send)
        ],
    )


def _values(send: Send, data: Json) -> dict[str, Any]:
    """What given values change of a send. Raises Invalid, or NotFound for what is not there."""
    found: dict[str, Any] = {name: data[name] for name in _PLAIN if name in data}
    if "name" in found and not found["name"].strip():
        raise Invalid("Give the send a name you will recognise in reports.", "name")
    if "audience" in data:
        found["audience"] = {"in": data["audience"]["in"], "out": data["audience"].get("out", [])}
    if data.get("message"):
        found["message_id"] = existing(db(), Message, data["message"], "message").id
    if data.get("sender"):
        found["sender_id"] = existing(db(), Sender, data["sender"], "sender").id
    if "topic" in data:
        topic = data["topic"]
        found["topic_id"] = existing(db(), Topic, topic, "topic").id if topic else None
    if found.get("best_hour", send.best_hour) and found.get("portion_size", send.portion_size):
        raise Invalid("A send goes in portions or at each person’s best hour.", "best_hour")
    if "hours" in data:
        found["hours"] = _hours(data["hours"])
    if "rhythm" in data:
        found["rhythm"] = _rhythm(data["rhythm"])
    if "leaves_at" in data:
        found |= _leaves(data["leaves_at"], bool(data.get("own_clock")))
    if "ends_at" in data:
        found["ends_at"] = _ends(send, data["ends_at"], found.get("rhythm", send.rhythm))
    return found


def _ends(send: Send, given: str | None, rhythm: str) -> dt.datetime | None:
    """The moment at which a send ends. Raises Invalid."""
    if given is None:
        return None
    try:
        at = dt.datetime.fromisoformat(given)
    except ValueError:
        at = None
    if at is None or at.tzinfo is None:
        raise Invalid("A moment needs its offset (2026-12-01T09:00:00+00:00).", "ends_at")
    return timing.end_of(at.astimezone(dt.UTC), bool(rhythm), now())


def _hours(given: Json) -> Json:
    try:
        Hours.of(given)
    except HoursError as problem:
        raise Invalid(problem.args[0], "hours") from None
    if given.get("calendar"):
        existing(db(), Holidays, given["calendar"], "holidays")
    return given


def _rhythm(given: str) -> str:
    try:
        return Rhythm.of(given).rule() if given else ""
    except RhythmError as problem:
        raise Invalid(problem.args[0], "rhythm") from None


def _leaves(given: str | None, own_clock: bool) -> dict[str, Any]:
    """The moment of a send. Raises Invalid."""
    if given is None:
        return {"leaves_at": None, "local_at": None}
    try:
        at = dt.datetime.fromisoformat(given)
    except ValueError:
        at = None
    if at is None or own_clock is (at.tzinfo is not None):
        raise Invalid(
            "A moment needs its offset (2026-12-01T09:00:00+00:00); with “own_clock” it has none.",
            "leaves_at",
        )
    if own_clock:
        return {
            "leaves_at": moment_of(at, zone()),
            "local_at": at,
            "zone": settings().timezone,
        }
    return {"leaves_at": at.astimezone(dt.UTC), "local_at": None, "zone": settings().timezone}


@endpoint(
    "post",
    "/v1/sends",
    "Make a send of a campaign, not started yet",
    takes=thing(["campaign", "name"], campaign=_WHOLE, **SHEET),
    codes=(201,),
)
def make_send(actor: Actor) -> Answer:
    data = body()
    campaign = existing(db(), Campaign, data["campaign"], "campaign")
    made = actions.create(db(), actor, now(), campaign, data["name"], settings().timezone)
    actions.change(db(), actor, now(), made, made.version, _values(made, data))
    return flask.jsonify(_send(made)), 201


@endpoint(
    "put",
    "/v1/sends/<int:ident>",
    "Change the given settings of a send that has not started",
    takes=thing(["version"], version=_WHOLE, **SHEET),
)
def change_send(actor: Actor, ident: int) -> Answer:
    send, data = queries.send(db(), ident), body()
    actions.change(db(), actor, now(), send, data["version"], _values(send, data))
    return flask.jsonify(_send(send))


@endpoint(
    "get",
    "/v1/sends/<int:ident>/estimate",
    "What would happen to everyone now, when people would get it, and what blocks it",
)
def estimate(actor: Actor, ident: int) -> Answer:
    send = queries.send(db(), ident)
    found = estimates.estimate(moment(), send)
    channel = queries.channel_of(db(), send)
    arrivals = timing.arrivals(db(), send, channel, found.zones, now(), zone())
    checks = actions.findings(db(), send, settings().public_url, found.going)
    return flask.jsonify(
        people=found.total,
        outcomes=found.outcomes,
        would_wait=found.without_room,
        arrivals=[{"at": _iso(at), "people": people} for at, people in arrivals.moments],
        too_late=arrivals.too_late,
        checks=[{"level": check.level, "text": check.text} for check in checks],
    )


@endpoint(
    "post",
    "/v1/sends/<int:ident>/start",
    "Start a send, or plan it for its moment",
    takes=thing(["version"], version=_WHOLE),
)
def start_send(actor: Actor, ident: int) -> Answer:
    send = queries.send(db(), ident)
    found = estimates.estimate(moment(), send)
    public_url, version = settings().public_url, body()["version"]
    actions.start(db(), actor, now(), send, public_url, found.going, version)
    send.foreseen = found.outcomes
    return flask.jsonify(_send(send))


@endpoint(
    "post",
    "/v1/sends/<int:ident>/<verb>",
    "Pause, resume or stop a send, or unschedule a planned one",
)
def steer(actor: Actor, ident: int, verb: str) -> Answer:
    if verb not in ("pause", "resume", "stop", "unplan"):
        raise NotFound("A send can be paused, resumed, stopped, or unplanned.")
    send = queries.send(db(), ident)
    getattr(actions, verb)(db(), actor, now(), send)
    return flask.jsonify(_send(send))


@endpoint(
    "get",
    "/v1/sends/<int:ident>/why/<int:contact>",
    "Why a contact got a send or did not; of one that has not started, why they would",
)
def why_of(actor: Actor, ident: int, contact: int) -> Answer:
    found = why(moment(), queries.send(db(), ident), existing(db(), Contact, contact, "contact"))
    return flask.jsonify(
        outcome=found.outcome,
        what=found.what,
        because=found.because,
        facts=list(found.facts),
        at=_iso(found.at),
        until=_iso(found.until),
        note=found.note,
    )


_DAY: Json = {"type": "string", "format": "date"}


@endpoint(
    "get",
    "/v1/calendar",
    "What left and what is planned, and which sends reach the same people within a day",
    query={"from": _DAY, "until": _DAY},
)
def days(actor: Actor) -> Answer:
    arguments, here = flask.request.args, zone()
    try:
        first = dt.date.fromisoformat(arguments.get("from") or f"{now().astimezone(here):%Y-%m-%d}")
        last = arguments.get("until")
        until = dt.date.fromisoformat(last) if last else first + dt.timedelta(days=42)
    except ValueError:
        raise Invalid("“from” and “until” are days like 2026-12-01.", "from") from None
    if not dt.timedelta(0) < until - first <= dt.timedelta(days=400):
        raise Invalid("“until” is a later day than “from”, within 400 days.", "until")
    look = moment()
    found = calendar.entries(look, _midnight(first, here), _midnight(until, here), calendar.Shown())
    return flask.jsonify(
        items=[
            {
                "send": entry.send.id,
                "name": entry.send.name,
                "at": _iso(entry.at),
                "state": entry.send.state,
                "channel": entry.channel,
                "people": entry.people,
            }
            for entry in found
        ],
        clashes=[
            {"sends": [clash.one.id, clash.other.id], "people": clash.people}
            for clash in calendar.clashes(look, found)
        ],
    )


def _midnight(day: dt.date, here: zoneinfo.ZoneInfo) -> dt.datetime:
    return dt.datetime.combine(day, dt.time(), here)
