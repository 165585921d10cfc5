"""The words of a send's sheet that can be changed, and what is missing there, made on the spot."""

import datetime as dt
import itertools
import zoneinfo
from collections.abc import Callable
from typing import Any

import flask
from werkzeug.datastructures import MultiDict

from meadowrun.base.db import existing as found_row
from meadowrun.base.errors import Conflict, Invalid, MeadowrunError
from meadowrun.campaigns.models import Campaign
from meadowrun.core.audience import typed
from meadowrun.core.audience.edit import fresh
from meadowrun.core.channels import CHANNEL_WORDS, CHANNELS
from meadowrun.core.guardrails.limits import (
    AGAIN_RULES,
    AT_LAST,
    LIMIT_RULES,
    MOST_AGAIN_DAYS,
    MOST_CONTROL,
    WITHIN,
    within_words,
)
from meadowrun.core.guardrails.outcomes import rule_words
from meadowrun.core.guardrails.verdict import RULES
from meadowrun.core.language import Wording, in_language
from meadowrun.core.timing.hours import DAY_NAMES, Hours, HoursError
from meadowrun.core.timing.moments import GAPS, PASSED, gap_words
from meadowrun.core.timing.rhythm import Rhythm, RhythmError, at_words, offered, read
from meadowrun.core.timing.zones import moment_of, zone_names
from meadowrun.core.values import is_whole
from meadowrun.core.wording import free_name, weekday_date
from meadowrun.core.wording import time as time_words
from meadowrun.gateways.channels import CHANNELS as GATEWAYS
from meadowrun.messages import actions as writing
from meadowrun.messages import copying
from meadowrun.messages.models import Message
from meadowrun.messages.queries import State, state_to_send
from meadowrun.messages.senders import Sender, senders
from meadowrun.outgoing import calendars, caps
from meadowrun.outgoing.best_hours import learnt
from meadowrun.outgoing.models import Holidays
from meadowrun.people.asked import words
from meadowrun.people.kinds import event_kinds
from meadowrun.people.models import PeopleList, Topic
from meadowrun.people.queries import common_zones, lists, topics
from meadowrun.segments import actions as segment_actions
from meadowrun.segments.models import Segment
from meadowrun.segments.queries import segments
from meadowrun.sends import actions, queries, timing
from meadowrun.sends.models import Send
from meadowrun.sends.names import suggested_name
from meadowrun.sends.sheet_page import sheet
from meadowrun.shell.accounts import require
from meadowrun.shell.request import (
    Answer,
    actor,
    db,
    done,
    integer,
    needs,
    now,
    settings,
    today,
    zone,
)

pages = flask.Blueprint("instructions", __name__)
#: So many dates of a rule are shown while it is typed.
DATES_SHOWN = 10
#: What was typed into the small form behind a word.
Form = MultiDict[str, str]


@pages.get("/sends/<int:ident>/word/<slot>")
@needs("author")
def word(ident: int, slot: str) -> Answer:
    """The small form behind a changeable word of the sheet."""
    send = queries.send(db(), ident)
    here = timing.begins_proposed(send, now(), zone())
    channel = queries.channel_of(db(), send)
    return flask.render_template(
        "sends/word.html",
        send=send,
        slot=slot,
        all_of=CHANNEL_WORDS[channel],
        segments=segments(db()),
        lists=[item for item, _ in lists(db())],
        messages=queries.messages_lately(db()),
        channels=CHANNELS,
        lately=queries.used_lately(db(), send.id),
        state=_state(send),
        senders=senders(db()),
        topics=topics(db()),
        kinds=event_kinds(db()),
        here=here,
        limits=[cap.words() for cap in caps.all_caps(db())],
        at_last_choices=AT_LAST,
        ends=timing.ends_proposed(send, now()),
        spans=[(hours, within_words(hours)) for hours in WITHIN],
        rules=[(rule, rule_words(rule, channel, bool(send.topic_id))) for rule in RULES],
        waits_there=GATEWAYS[channel].waits_there,
        rhythm=Rhythm.of(send.rhythm) if send.rhythm else None,
        offered=[one.words(here) for one in offered(here.date())],
        passed_choices=PASSED,
        day_names=DAY_NAMES,
        calendars=calendars.all_of(db()),
        habits=learnt(db()),
        suggested=suggested_name(
            db(), db().get_one(Campaign, send.campaign_id), send, now(), zone()
        ),
        gaps=[(minutes, gap_words(minutes)) for minutes in GAPS],
        zones=_zones(send.zone),
    )


def _zones(chosen: str) -> list[str]:
    """The zones a moment can be named in: those that people live in first, then every other."""
    near = sorted({chosen, settings().timezone, "UTC", *common_zones(db())})
    return near + [one for one in zone_names() if one not in near]


@pages.post("/sends/<int:ident>/word/<slot>")
@needs("author")
def answer(ident: int, slot: str) -> Answer:
    """Takes the answer to one word and shows the sheet anew."""
    send = queries.send(db(), ident)
    try:
        actions.change(
            db(),
            actor(),
            now(),
            send,
            integer(flask.request.form.get("version"), "version"),
            _values(send, slot),
        )
    except MeadowrunError as problem:
        db().rollback()
        # Of two who changed it, the later may still have it their way.
        mine = [
            pair
            for pair in flask.request.form.items(multi=True)
            if pair[0] not in ("csrf_token", "version")
        ]
        newest = isinstance(problem, Conflict) and problem.newest
        return sheet(queries.send(db(), ident), problem, mine if newest else None), problem.status
    return done("sends.show", ident=ident)


def _state(send: Send) -> State | None:
    """Which state of its message a send takes."""
    message = db().get(Message, send.message_id) if send.message_id else None
    return state_to_send(db(), message, send.takes) if message else None


def _values(send: Send, slot: str) -> dict[str, Any]:
    """What the answer to one word changes. Raises Invalid."""
    if slot not in _ANSWERS:
        raise Invalid("There is no such word on the sheet.")
    return _ANSWERS[slot](send, slot, flask.request.form)


def _who(send: Send, slot: str, form: Form) -> dict[str, Any]:
    chosen: list[dict[str, Any]] = (
        [{"everyone": True}] if slot == "in" and "everyone" in form.getlist("who") else []
    )
    chosen += [
        {kind: int(number)}
        for kind, _, number in (c.partition(":") for c in form.getlist("who"))
        if kind in ("segment", "list") and is_whole(number)
    ]
    if form.get("sentence", "").strip():
        chosen.append({"segment": _said(form["sentence"]).id})
    return {"audience": {**send.audience, slot: chosen}}


def _message(send: Send, slot: str, form: Form) -> dict[str, Any]:
    if form.get("new_message", "").strip():
        return {"message_id": _begun(form["new_message"], form.get("channel", "email")).id}
    number = integer(form.get("message"), "message")
    return {"message_id": found_row(db(), Message, number, "message").id}


def _takes(send: Send, slot: str, form: Form) -> dict[str, Any]:
    return {"takes": "newest" if form.get("takes") == "newest" else "approved"}


def _sender(send: Send, slot: str, form: Form) -> dict[str, Any]:
    if form.get("sender_name", "").strip():
        require(actor(), "admin")
        made = actions.save_sender(
            db(), actor(), now(), form["sender_name"], form.get("address", ""), ""
        )
        return {"sender_id": made.id}
    return {"sender_id": found_row(db(), Sender, integer(form.get("sender"), "from"), "sender").id}


def _topic(send: Send, slot: str, form: Form) -> dict[str, Any]:
    if not form.get("topic"):
        return {"topic_id": None}
    return {"topic_id": found_row(db(), Topic, integer(form["topic"], "topic"), "topic").id}


def _consent(send: Send, slot: str, form: Form) -> dict[str, Any]:
    return {"consent_rule": form["rule"] if form.get("rule") in RULES else "agreed"}


def _limit(send: Send, slot: str, form: Form) -> dict[str, Any]:
    if form.get("how") not in LIMIT_RULES:
        return {"audience_limit": None}
    most = integer(form.get("most"), "limit")
    if not 1 <= most <= 100_000_000:
        raise Invalid("An audience limit is a number of people, 1 at least.", "limit")
    return {"audience_limit": most, "limit_rule": form["how"]}


def _control_group(send: Send, slot: str, form: Form) -> dict[str, Any]:
    return {
        "control": _control(form.get("how", ""), form.get("percent", ""), form.get("group", ""))
    }


def _name(send: Send, slot: str, form: Form) -> dict[str, Any]:
    # A suggestion that was pressed stands after what is in the field.
    name = " ".join((form.getlist("name") or [""])[-1].split())
    if not name:
        raise Invalid("Give the send a name you will recognise in reports.", "name")
    return {"name": name}


def _leaves(send: Send, slot: str, form: Form) -> dict[str, Any]:
    once: dict[str, Any] = {
        "leaves_at": None,
        "local_at": None,
        "rhythm": "",
        "ends_empty": False,
    }
    if form.get("when") not in ("at", "rhythm"):
        return once
    day, time = form.get("day", ""), form.get("time", "")
    found = (
        _own_moment(day, time)
        if form.get("clock") == "own"
        else _moment(day, time, form.get("zone", ""))
    )
    if form["when"] == "at":
        return once | found
    empty = form.get("ends") == "empty"
    # Each of its dates ends so long after it began.
    rhythm = {"rhythm": _rhythm(form, day).rule(), "ends_empty": empty, "ends_at": None}
    return once | found | rhythm


def _rhythm(form: Form, day: str) -> Rhythm:
    """The rule that was typed, with its end. Raises Invalid."""
    try:
        found = read(form.get("rhythm", ""), dt.date.fromisoformat(day))
        if form.get("ends") == "times":
            return Rhythm.of(f"{found.rule()};COUNT={integer(form.get('times'), 'leaves')}")
        if form.get("ends") == "until":
            last = dt.date.fromisoformat(form.get("until", ""))
            return Rhythm.of(f"{found.rule()};UNTIL={last:%Y%m%d}")
    except RhythmError as problem:
        raise Invalid(problem.args[0], "leaves") from None
    except ValueError:
        raise Invalid("Give the days as dates.", "leaves") from None
    return found


@pages.get("/sends/rhythm")
@needs("author")
def rhythm() -> Answer:
    """What a typed rule is taken for, with its next dates: {said, dates, problem}."""
    arguments = flask.request.args
    try:
        first = dt.datetime.fromisoformat(f"{arguments.get('day')}T{arguments.get('time')}")
        found = read(arguments.get("text", ""), first.date())
    except RhythmError as problem:
        return {"problem": in_language(problem.args[0])}
    except ValueError:
        return {"problem": in_language(Wording("Give the day and the time it should go out."))}
    dates = [
        in_language(weekday_date(date.date()))
        for date in itertools.islice(found.dates(first), DATES_SHOWN)
    ]
    return {"said": in_language(at_words(found, first)), "dates": dates}


def _passed(send: Send, slot: str, form: Form) -> dict[str, Any]:
    if form.get("passed") not in PASSED:
        raise Invalid("Choose one of the answers offered.", "passed")
    return {"passed": form["passed"]}


def _hours(send: Send, slot: str, form: Form) -> dict[str, Any]:
    if form.get("how") == "any":
        return {"hours": {}}
    kept: dict[str, Any] = {
        "from": form.get("from", ""),
        "to": form.get("to", ""),
        "days": [int(day) for day in form.getlist("day") if is_whole(day)],
    }
    try:
        hours = Hours.of(kept)
    except HoursError as problem:
        raise Invalid(problem.args[0], "hours") from None
    if form.get("calendar"):
        number = integer(form["calendar"], "hours")
        kept["calendar"] = found_row(db(), Holidays, number, "holidays").id
    return {"hours": {} if hours.always and "calendar" not in kept else kept}


def _portions(send: Send, slot: str, form: Form) -> dict[str, Any]:
    if form.get("how") != "portions":
        best = form.get("how") == "best"
        return {"portion_size": None, "stop_percent": None, "best_hour": best}
    size, gap = integer(form.get("size"), "portions"), integer(form.get("gap"), "portions")
    if not 1 <= size <= 10_000_000:
        raise Invalid("A portion is a number of people, 1 at least.", "portions")
    if gap not in GAPS:
        raise Invalid("Choose one of the times offered.", "portions")
    return {
        "portion_size": size,
        "portion_gap": gap,
        "stop_percent": _stop_percent(form),
        "best_hour": False,
    }


def _stop_percent(form: Form) -> float | None:
    """The share above which portions stop, as it was typed. Raises Invalid."""
    text = form.get("stop", "").strip().replace(",", ".").removesuffix("%")
    if not text:
        return None
    try:
        share = float(text)
    except ValueError:
        share = 0.0
    if not 0 < share <= 100:
        raise Invalid("The share above which it stops is between 0 and 100%.", "portions")
    return share


def _again(send: Send, slot: str, form: Form) -> dict[str, Any]:
    rule = form.get("how", "")
    if rule not in AGAIN_RULES:
        raise Invalid("Choose one of the answers offered.", "again")
    if rule != "campaign":
        return {"again_rule": rule}
    days = integer(form.get("days"), "again")
    if not 1 <= days <= MOST_AGAIN_DAYS:
        raise Invalid("Choose between 1 and 730 days.", "again")
    return {"again_rule": rule, "again_days": days}


def _within(send: Send, slot: str, form: Form) -> dict[str, Any]:
    if form.get("hours") == "":
        return {"ends_at": _ends(send, form.get("day", ""), form.get("time", ""))}
    hours = integer(form.get("hours"), "within")
    if hours not in WITHIN:
        raise Invalid("Choose one of the times offered.", "within")
    return {"within_hours": hours, "ends_at": None}


def _local(day: str, time: str) -> dt.datetime | None:
    """A day and a time as they were typed, on no clock yet; None where they are none."""
    try:
        local = dt.datetime.fromisoformat(f"{day}T{time}")
    except ValueError:
        return None
    return None if local.tzinfo is not None else local


def _ends(send: Send, day: str, time: str) -> dt.datetime:
    """The moment after which nothing leaves, on the clock of the send. Raises Invalid."""
    local = _local(day, time)
    if local is None:
        raise Invalid("Give the day and the time until which people wait.", "within")
    moment = moment_of(local, zoneinfo.ZoneInfo(send.zone))
    return timing.end_of(moment, bool(send.rhythm), now())


def _at_last(send: Send, slot: str, form: Form) -> dict[str, Any]:
    if form.get("at_last") not in AT_LAST:
        raise Invalid("Choose one of the answers offered.", "at_last")
    return {"at_last": form["at_last"]}


def _caps(send: Send, slot: str, form: Form) -> dict[str, Any]:
    return {
        "obeys_caps": form.get("obeys") != "no",
        "no_room": "skip" if form.get("obeys") == "skip" else "wait",
        "counts": form.get("counts") != "no",
    }


def _still(send: Send, slot: str, form: Form) -> dict[str, Any]:
    return {"still_in": form.get("still") == "yes"}


def _success(send: Send, slot: str, form: Form) -> dict[str, Any]:
    days = integer(form.get("days") or "7", "success")
    if not 1 <= days <= 90:
        raise Invalid("Success can be counted for 1 to 90 days.", "success")
    return {"success_event": form.get("event") or None, "success_days": days}


#: A word of the sheet → what reads its answer: the columns of the send that it changes.
_ANSWERS: dict[str, Callable[[Send, str, Form], dict[str, Any]]] = {
    "in": _who,
    "out": _who,
    "message": _message,
    "state": _takes,
    "from": _sender,
    "topic": _topic,
    "consent": _consent,
    "limit": _limit,
    "control": _control_group,
    "name": _name,
    "leaves": _leaves,
    "passed": _passed,
    "hours": _hours,
    "portions": _portions,
    "again": _again,
    "within": _within,
    "at_last": _at_last,
    "caps": _caps,
    "still": _still,
    "success": _success,
}


def _control(how: str, percent: str, group: str) -> dict[str, Any]:
    """The control group, as it is stored. Raises Invalid."""
    if how == "share":
        try:
            share = round(float(percent.replace(",", ".")), 1)
        except ValueError:
            share = 0.0
        if not 0 < share <= MOST_CONTROL:
            raise Invalid(
                Wording(
                    "A control group is between 0.1 and %(most_control)s of 100 people.",
                    most_control=f"{MOST_CONTROL:g}",
                ),
                "control",
            )
        return {"percent": share}
    kind, _, number = group.partition(":")
    if how != "group":
        return {}
    if kind not in ("segment", "list") or not is_whole(number):
        raise Invalid("Choose the segment or list that is the control group.", "control")
    found_row(db(), Segment if kind == "segment" else PeopleList, int(number), kind)
    return {kind: int(number)}


def _moment(day: str, time: str, name: str) -> dict[str, Any]:
    """A moment named on a zone's clock. A time that does not exist there moves forward; one that
    exists twice is the first (PEP 495, fold 0)."""
    try:
        place = zoneinfo.ZoneInfo(name)
        local = dt.datetime.fromisoformat(f"{day}T{time}").replace(tzinfo=place)
    except (ValueError, zoneinfo.ZoneInfoNotFoundError):
        raise Invalid(
            "Give the day, the time and the time zone it should go out.", "leaves"
        ) from None
    moment = local.astimezone(dt.UTC)
    if moment < now() - dt.timedelta(minutes=5):
        raise Invalid(
            Wording(
                "%(local)s on that day has passed. Choose a moment ahead, or send it as soon "
                "as started.",
                local=time_words(local),
            ),
            "leaves",
        )
    return {"leaves_at": moment, "zone": name}


def _own_moment(day: str, time: str) -> dict[str, Any]:
    """A time on each person's own clock; its moment is that of the organisation. Raises Invalid."""
    local = _local(day, time)
    if local is None:
        raise Invalid("Give the day and the time it should go out.", "leaves")
    moment = moment_of(local, zone())
    # Behind everybody it is a day and more later than on the organisation's own clock.
    if moment < now() - dt.timedelta(hours=26):
        raise Invalid("That time has passed everywhere. Choose one ahead.", "leaves")
    return {"leaves_at": moment, "local_at": local, "zone": settings().timezone}


def _said(sentence: str) -> Segment:
    """A segment of the one line that a sentence means most likely, called by the sentence. Raises
    Invalid."""
    sentence = " ".join(sentence.split())[:300]
    readings = typed.read(sentence, words(), today())
    if not readings:
        raise Invalid(
            Wording(
                "“%(sentence)s” was not understood. Write it like “language is English” or “bought "
                "a ticket since March”, or make a segment.",
                sentence=sentence,
            ),
            "to",
        )
    if readings[0].unused:
        left = "”, “".join(readings[0].unused)
        raise Invalid(
            Wording(
                "“%(sentence)s” would become “%(said)s”; it ignores “%(left)s”. Use other "
                "words, or make a segment.",
                sentence=sentence,
                said=readings[0].said,
                left=left,
            ),
            "to",
        )
    wanted = sentence[0].upper() + sentence[1:]
    taken = {segment.name for segment in segments(db())}
    return segment_actions.save(
        db(),
        actor(),
        now(),
        words(),
        free_name(wanted, taken),
        {"format": 1, "lines": [fresh(readings[0].line)]},
    )


def _begun(name: str, channel: str) -> Message:
    """An empty message of a channel, to be written after. Raises Invalid or Conflict."""
    if channel not in CHANNELS:
        raise Invalid("There is no such channel.", "message")
    return writing.create(
        db(), actor(), now(), name, copying.begun(db(), channel, settings()), channel
    )
