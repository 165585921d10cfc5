"""The background jobs of sends: planned ones whose moment has come, and the settling of an
audience.

What leaves is a dispatch (`outgoing`); a send makes one of its sheet and puts its audience in.
"""

import datetime as dt
import zoneinfo

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import clock, jobs
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.base.jobs import context
from meadowrun.base.logs import log
from meadowrun.core.guardrails.limits import stopped_by
from meadowrun.core.language import Problem
from meadowrun.gateways.channels import CHANNELS
from meadowrun.outgoing.actions import open_dispatch, put, seal
from meadowrun.outgoing.models import Dispatch
from meadowrun.outgoing.settling import finish_if_done
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.sends.approval import tell_passed
from meadowrun.sends.models import Send
from meadowrun.sends.queries import audience_of, channel_of, picked_sql, tags_of
from meadowrun.sends.repeats import begin_date, plan_next
from meadowrun.sends.timing import last_moment, next_date


@jobs.task("sends.take", "waited")
def take(send_id: int) -> None:
    """Settles who is in the audience, once, in one transaction, and seals it."""
    with context().database.session() as session:
        send = session.get(Send, send_id, with_for_update=True)
        if send is None or send.state != "taking":
            return
        now = clock.now(session)
        zone = zoneinfo.ZoneInfo(context().settings.timezone)
        try:
            who = audience_of(Moment(session, dictionary(session), now, zone), send)
        except Invalid as problem:
            send.state, send.problem = "draft", str(problem)
            return
        people, values = picked_sql(send, who, channel_of(session, send), now)
        if send.audience_limit is not None:
            going = session.execute(
                sa.text(f"SELECT count(place) FROM ({people}) p"), values
            ).scalar_one()
            if reason := stopped_by(going, send.audience_limit, send.limit_rule):
                send.state, send.problem = "draft", f"Nothing went. {reason}"
                return
        dispatch = open_dispatch(session, now, _dispatch(session, now, send))
        size = put(
            session,
            dispatch,
            "SELECT id, CASE WHEN place > :most THEN 'over_limit' ELSE 'waiting' END AS outcome, "
            f"repeated_address AS repeated, control FROM ({people}) x",
            {**values, "most": send.audience_limit},
            zone,
            send.portion_size,
        )
        seal(session, dispatch, size)
        send.dispatch_id, send.taken_at, send.state, send.problem = (
            dispatch.id,
            dispatch.taken_at,
            "running",
            "",
        )
        session.flush()
        if not size:
            finish_if_done(session, dispatch.id, dispatch.taken_at, now)


def _dispatch(session: orm.Session, now: dt.datetime, send: Send) -> Dispatch:
    """What leaves by a send, as its sheet says."""
    channel = channel_of(session, send)
    # What waits for whoever comes interrupts nobody.
    waits_there = CHANNELS[channel].waits_there
    return Dispatch(
        owner_kind="send",
        owner_id=send.id,
        name=send.name,
        channel=channel,
        message_id=send.message_id,
        edition_id=send.edition_id,
        sender_id=send.sender_id,
        topic_id=send.topic_id,
        campaign_id=send.campaign_id,
        tags=tags_of(session, send),
        consent_rule=send.consent_rule,
        obeys_caps=send.obeys_caps and not waits_there,
        counts=send.counts and not waits_there,
        no_room=send.no_room,
        still_in=send.still_in,
        local_at=send.local_at,
        passed=send.passed,
        hours={} if waits_there else send.hours,
        best_hour=send.best_hour and not waits_there,
        portion_gap=send.portion_gap if send.portion_size else 0,
        stop_percent=send.stop_percent if send.portion_size else None,
        again_rule=send.again_rule,
        again_days=send.again_days,
        last_moment=last_moment(session, send, now),
        at_last=send.at_last,
        facts=send.facts,
    )


@jobs.task("sends.sweep", "sweeps", every="* * * * * */5")
def sweep() -> None:
    """Sends whose moment has come, and those that began and whose audience nobody settles."""
    with context().database.session() as session:
        now = clock.now(session)
        for send in session.scalars(
            sa.select(Send)
            .where(Send.state == "planned", Send.begins_at <= now)
            # Whatever was to go first comes first, where several have waited for a worker.
            .order_by(Send.begins_at, Send.id)
            .with_for_update(skip_locked=True)
        ):
            if send.rhythm:
                _begin_date(session, send, now)
            else:
                send.state = "taking"
                jobs.enqueue(session, "sends.take", send_id=send.id)
        tell_passed(session, now)
        taking = sa.select(Send).where(Send.state == "taking").order_by(Send.begins_at, Send.id)
        for send in session.scalars(taking):
            if not _queued(session, send.id):
                jobs.enqueue(session, "sends.take", send_id=send.id)


def _begin_date(session: orm.Session, send: Send, now: dt.datetime) -> None:
    """Starts the date that is due of a send that repeats. What keeps it from starting is said on
    its page; the next date is tried all the same."""
    actor = Actor(None, send.started_by, "author")
    try:
        with session.begin_nested():
            made = begin_date(session, actor, now, send, context().settings.public_url)
    except (MeadowrunError, Problem) as problem:
        log.warning("a date could not start", send=send.id, problem=str(problem))
        send.problem = f"A date could not start: {problem}"
        send.missed += 1
        plan_next(session, now, send, next_date(session, send, send.next_local, now))
        return
    send.problem = ""
    if made is not None:
        jobs.enqueue(session, "sends.take", send_id=made.id)


def _queued(session: orm.Session, send_id: int) -> bool:
    return (
        session.execute(
            sa.text(
                "SELECT 1 FROM procrastinate_jobs WHERE status = 'todo' AND task_name = "
                "'sends.take' AND (args->>'send_id')::bigint = :id LIMIT 1"
            ),
            {"id": send_id},
        ).scalar()
        is not None
    )
