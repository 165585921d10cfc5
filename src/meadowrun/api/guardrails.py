"""The API's endpoints about what holds for everything that is sent."""

import datetime as dt

import flask

from meadowrun.api.door import TEXT, Json, endpoint, thing
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Invalid
from meadowrun.core.channels import KINDS
from meadowrun.core.guardrails.caps import MOST_LENGTH
from meadowrun.core.guardrails.limits import HELD_OUT_PERIODS
from meadowrun.core.guardrails.speeds import WarmUp
from meadowrun.core.language import Problem, Wording
from meadowrun.messages.mail_keys import domains
from meadowrun.outgoing import allowance, caps, held_out, quiet, rules, speeds
from meadowrun.outgoing.caps import Wanted
from meadowrun.shell.request import Answer, body, db, now, today, zone
from meadowrun.tags.queries import paths

_MAYBE_NUMBER: Json = {"type": ["integer", "null"], "minimum": 0}


def _iso(moment: dt.datetime | None) -> str | None:
    return moment.isoformat() if moment else None


_LIMIT: Json = thing(
    ["most", "unit"],
    most={"type": "integer", "minimum": 1, "maximum": 1000},
    unit={"enum": list(MOST_LENGTH)},
    length={"type": "integer", "minimum": 1, "default": 1},
    channel={"enum": ["", *KINDS], "description": "empty: of all channels"},
    tag={"type": "string", "description": "the path of a tag; those inside it count, too"},
)


@endpoint("get", "/v1/message-limits", "How many messages one person may get")
def all_limits(actor: Actor) -> Answer:
    known = paths(db())
    return flask.jsonify(
        items=[
            {
                "most": one.most,
                "unit": one.unit,
                "length": one.length,
                "channel": one.channel,
                "tag": known.get(one.tag_id or 0, ""),
                "words": one.cap(known).words(),
            }
            for one in caps.limits(db())
        ]
    )


@endpoint(
    "put",
    "/v1/message-limits",
    "Replace all message limits with these",
    takes=thing(["items"], items={"type": "array", "items": _LIMIT, "maxItems": 200}),
)
def set_limits(actor: Actor) -> Answer:
    numbers = {path: number for number, path in paths(db()).items()}
    wanted = []
    for one in body()["items"]:
        tag = one.get("tag", "")
        if tag and tag not in numbers:
            raise Invalid(Wording("There is no tag “%(tag)s”.", tag=tag), "tag")
        wanted.append(
            Wanted(
                one.get("channel", ""),
                numbers.get(tag),
                one["unit"],
                one.get("length", 1),
                one["most"],
            )
        )
    return flask.jsonify(changed=caps.set_all(db(), actor, now(), wanted))


@endpoint("get", "/v1/quiet-hours", "The quiet hours of each channel")
def quiet_hours(actor: Actor) -> Answer:
    return flask.jsonify(
        items=[
            {"channel": one.channel, "words": quiet.words(one), "does": one.does}
            for one in quiet.all_of(db()).values()
        ]
    )


@endpoint(
    "put",
    "/v1/quiet-hours/<channel>",
    "Set the quiet hours of a channel, on each person’s own clock",
    takes=thing(
        ["from", "to", "does"], **{"from": TEXT, "to": TEXT}, does={"enum": list(quiet.DOES)}
    ),
)
def set_quiet_hours(actor: Actor, channel: str) -> Answer:
    data = body()
    made = quiet.save(db(), actor, now(), channel, data["from"], data["to"], data["does"])
    return flask.jsonify(channel=channel, words=quiet.words(made), does=made.does)


@endpoint("delete", "/v1/quiet-hours/<channel>", "Remove the quiet hours of a channel")
def delete_quiet_hours(actor: Actor, channel: str) -> Answer:
    quiet.delete(db(), actor, now(), channel)
    return "", 204


_RULES: Json = thing(
    [],
    second_person_above={**_MAYBE_NUMBER, "description": "null: nobody is asked"},
    allowance=thing(
        ["most", "per"],
        most={**_MAYBE_NUMBER, "description": "null: no limit"},
        per={"enum": list(allowance.PERIODS)},
    ),
    soft_bounces=thing(["most", "days"], most={"type": "integer"}, days={"type": "integer"}),
    takes_replies={"type": "boolean"},
    name_pattern={**TEXT, "description": "how sends are named; empty: no rule"},
    held_out=thing(
        ["percent", "period"],
        percent={"type": ["number", "null"], "description": "null: nobody is held out"},
        period={"enum": list(HELD_OUT_PERIODS)},
    ),
)


@endpoint("get", "/v1/sending", "The rules for everything that is sent, and whether it is paused")
def sending(actor: Actor) -> Answer:
    return flask.jsonify(_rules())


def _rules() -> Json:
    found = rules.rules(db())
    agreed = allowance.allowance(db(), now(), zone())
    return {
        "paused_since": _iso(found.paused_at),
        "by": found.paused_by,
        "service_too": found.pauses_service,
        "second_person_above": found.second_person_above,
        "allowance": {
            "most": found.allowance,
            "per": found.allowance_per,
            "left": agreed.left if agreed else None,
        },
        "soft_bounces": {"most": found.soft_most, "days": found.soft_days},
        "takes_replies": found.takes_mail,
        "name_pattern": found.name_pattern,
        "held_out": {"percent": found.held_out_percent, "period": found.held_out_period},
    }


@endpoint(
    "patch",
    "/v1/sending",
    "Change some of the rules for everything that is sent",
    takes=_RULES,
)
def change_sending(actor: Actor) -> Answer:
    data, moment = body(), now()
    if "second_person_above" in data:
        rules.ask_second_person(db(), actor, moment, data["second_person_above"])
    if given := data.get("allowance"):
        allowance.save(db(), actor, moment, given["most"], given["per"])
    if given := data.get("soft_bounces"):
        rules.set_soft_bounces(db(), actor, moment, given["most"], given["days"])
    if "takes_replies" in data:
        rules.take_mail(db(), actor, moment, data["takes_replies"])
    if "name_pattern" in data:
        try:
            rules.name_sends(db(), actor, moment, data["name_pattern"])
        except Problem as problem:
            raise Invalid(problem.args[0], "name_pattern") from None
    if given := data.get("held_out"):
        held_out.save(db(), actor, moment, given["percent"], given["period"])
    return flask.jsonify(_rules())


@endpoint("get", "/v1/mail-speeds", "How many emails an hour go to each mail domain")
def mail_speeds(actor: Actor) -> Answer:
    return flask.jsonify(items=_speeds())


def _speeds() -> list[Json]:
    return [
        {
            "domain": one.domain,
            "per_hour": one.per_hour,
            "delayed_until": _iso(one.not_before),
        }
        for one in speeds.all_speeds(db())
    ]


@endpoint(
    "put",
    "/v1/mail-speeds",
    "Set how many emails an hour go to a mail domain",
    takes=thing(
        ["domain", "per_hour"],
        domain={**TEXT, "description": "empty: each that has no number of its own"},
        per_hour={"type": ["integer", "null"], "description": "null: no limit"},
    ),
)
def set_mail_speed(actor: Actor) -> Answer:
    data = body()
    speeds.save_speed(db(), actor, now(), data["domain"], data["per_hour"])
    return flask.jsonify(items=_speeds())


def _plan(domain: str, plan: WarmUp | None) -> Json:
    if plan is None:
        return {"domain": domain, "plan": None}
    return {
        "domain": domain,
        "plan": {
            "begins": plan.begins.isoformat(),
            "first_day": plan.first_day,
            "growth": plan.growth,
            "until": plan.until,
        },
        "today": plan.most_on(today()),
        "ends": plan.ends.isoformat(),
    }


@endpoint("get", "/v1/warm-ups", "Sender domains in warm-up, which send a few more emails each day")
def warm_ups(actor: Actor) -> Answer:
    found = [(name, speeds.warm_up(db(), name)) for name in domains(db())]
    return flask.jsonify(items=[_plan(name, row.plan if row else None) for name, row in found])


@endpoint(
    "put",
    "/v1/warm-ups/<domain>",
    "Warm up a sender domain: it sends a few more emails each day",
    takes=thing(
        ["first_day", "growth", "until"],
        begins={"type": "string", "format": "date", "description": "today, unless said"},
        first_day={"type": "integer", "minimum": 1},
        growth={"enum": list(speeds.GROWTHS), "description": "percent more each day"},
        until={"type": "integer", "description": "emails a day from which on there is no limit"},
    ),
)
def set_warm_up(actor: Actor, domain: str) -> Answer:
    data = body()
    try:
        begins = dt.date.fromisoformat(data["begins"]) if data.get("begins") else today()
    except ValueError:
        raise Invalid("“begins” is a day like 2026-12-01.", "begins") from None
    plan = WarmUp(begins, data["first_day"], data["growth"], data["until"])
    speeds.save_warm_up(db(), actor, now(), domain, plan)
    return flask.jsonify(_plan(domain, plan))


@endpoint(
    "delete", "/v1/warm-ups/<domain>", "End the warm-up of a domain: it sends without a daily limit"
)
def delete_warm_up(actor: Actor, domain: str) -> Answer:
    speeds.end_warm_up(db(), actor, now(), domain)
    return "", 204


@endpoint(
    "post",
    "/v1/sending/pause",
    "Pause all marketing, or service messages too",
    takes=thing([], service_too={"type": "boolean"}),
)
def pause_all(actor: Actor) -> Answer:
    rules.pause(db(), actor, now(), bool(body().get("service_too")))
    return "", 204


@endpoint("post", "/v1/sending/resume", "Resume sending")
def resume_all(actor: Actor) -> Answer:
    rules.resume(db(), actor, now())
    return "", 204
