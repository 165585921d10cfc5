"""Who of a send's audience would have no room for it when it goes: as things are by then, with what
is planned before it."""

import datetime as dt
from typing import Any

import sqlalchemy as sa

from meadowrun.base.errors import Invalid
from meadowrun.core.guardrails.guards import AS_IT_LEAVES, verdict_sql
from meadowrun.gateways.channels import CHANNELS
from meadowrun.outgoing.caps import Asks, Planned, full_sql
from meadowrun.people.moment import Moment
from meadowrun.segments.fetching import compiler_for
from meadowrun.sends import queries
from meadowrun.sends.models import Send
from meadowrun.sends.timing import starts

#: So many planned sends are looked at, the nearest first.
MOST_PLANNED = 30


def goes_at(moment: Moment, send: Send) -> dt.datetime:
    """When a send would start, if it were started now."""
    return max(moment.now, starts(moment.session, send, moment.now))


def planned_before(moment: Moment, send: Send, at: dt.datetime) -> list[Send]:
    """The planned sends that go before a moment and count for limits."""
    asked = (
        sa.select(Send)
        .where(Send.state == "planned", Send.id != send.id, Send.counts, Send.begins_at < at)
        .order_by(Send.begins_at.desc())
        .limit(MOST_PLANNED)
    )
    return list(moment.session.scalars(asked))


def full(
    moment: Moment, send: Send, channel: str, at: dt.datetime, values: dict[str, Any]
) -> tuple[str, dict[str, Any]]:
    """Who would have no room for a send that goes at a moment, as SQL; its values are added to some
    others, whose names they keep clear of."""
    if CHANNELS[channel].waits_there:
        return "", values
    compiler = compiler_for(moment)
    compiler.values = values
    before = []
    for one in planned_before(moment, send, at):
        kind = queries.channel_of(moment.session, one)
        if one.begins_at is None or CHANNELS[kind].waits_there:
            continue
        try:
            predicate = queries.audience_sql(moment, one.audience, compiler)
        except Invalid:
            # Its own page says what is wrong with it; nobody gets it as it is.
            continue
        tags = frozenset(queries.tags_of(moment.session, one))
        before.append(Planned(predicate, one.begins_at, kind, tags))
    asks = Asks(
        at,
        channel,
        frozenset(queries.tags_of(moment.session, send)),
        send.obeys_caps,
        send.consent_rule != "service",
        before,
    )
    found, more = full_sql(moment.session, asks, moment.zone)
    return found, compiler.values | more


_WITHOUT = "SELECT count(*) FROM ({facts}) x WHERE {verdict} = 'go' AND id IN ({full})"


def without_room(moment: Moment, send: Send, at: dt.datetime) -> int:
    """How many of those who may get a send would have no room for it if it went at a moment. Raises
    Invalid."""
    channel = queries.channel_of(moment.session, send)
    who = queries.audience_of(moment, send)
    facts, values = queries.facts_of_audience(send, who, channel, moment.now)
    found, values = full(moment, send, channel, at, dict(values))
    if not found:
        return 0
    verdict = verdict_sql(send.consent_rule, AS_IT_LEAVES)
    asked = sa.text(_WITHOUT.format(facts=facts, verdict=verdict, full=found))
    counted: int = moment.session.execute(asked, values).scalar_one()
    return counted
