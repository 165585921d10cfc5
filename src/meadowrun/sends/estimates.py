"""What would become of everybody of a send's audience, counted before it goes."""

import dataclasses
import datetime as dt
import json
from collections.abc import Mapping
from typing import Any

import sqlalchemy as sa

from meadowrun.base.errors import Invalid
from meadowrun.base.kept import Kept
from meadowrun.core.guardrails.guards import AS_IT_LEAVES, verdict_sql
from meadowrun.core.guardrails.limits import under
from meadowrun.core.timing.hours import HoursError
from meadowrun.outgoing import caps, held_out
from meadowrun.outgoing.best_hours import CHOSEN, choosing
from meadowrun.people.moment import Moment
from meadowrun.segments.fetching import compiler_for
from meadowrun.segments.models import Segment
from meadowrun.sends import room
from meadowrun.sends.models import Send
from meadowrun.sends.queries import (
    audience,
    audience_of,
    channel_of,
    condition_of,
    facts_of_audience,
    name_of,
    tags_of,
)
from meadowrun.sends.timing import open_hours_of, quiet_of

#: How many people a sheet shows the mail of.
SOME = 3


@dataclasses.dataclass(frozen=True)
class Estimate:
    """What would become of everyone now: outcome → people, "go" among them; and what each exclusion
    takes away."""

    total: int
    outcomes: dict[str, int]
    left_out: list[tuple[str, int]]
    included: list[tuple[str, int]]
    #: how many of those who may get it have had as many messages as a limit allows
    without_room: int
    #: of which zone those are who may get it, which hour of the day is chosen for them, and how
    #: many they are; empty where nobody asks
    zones: tuple[tuple[str | None, int | None, int], ...]
    #: a few of those who would get it, spread over the audience by a fixed shuffle
    some: tuple[int, ...]

    @property
    def going(self) -> int:
        return self.outcomes.get("go", 0)


_estimates: Kept[Estimate] = Kept()

#: What the verdict says of an audience: how many, a few of them by a fixed shuffle, and how many
#: have no room for one more message.
_SAID = """
SELECT {verdict} AS said, count(*) AS people, (array_agg(id ORDER BY pick))[1:{some}] AS few,
    count(*) FILTER (WHERE {full}) AS full
FROM ({facts}) x GROUP BY 1
"""
#: Of which zones those are who would get it, and which hours are chosen for them.
_ZONES_OF = """
SELECT zone, {hour} AS hour, count(*) AS people FROM ({facts}) x {hours_of}
WHERE {verdict} = 'go' GROUP BY 1, 2 ORDER BY 1, 2
"""


def estimate(moment: Moment, send: Send) -> Estimate:
    """Asks the verdict about everyone of a send's audience, in SQL. Raises Invalid."""
    who, channel = audience_of(moment, send), channel_of(moment.session, send)
    facts, asked_of = facts_of_audience(send, who, channel, moment.now)
    at = room.goes_at(moment, send)
    full, values = room.full(moment, send, channel, at, dict(asked_of))
    verdict = verdict_sql(send.consent_rule, AS_IT_LEAVES)
    asked = _SAID.format(
        verdict=verdict, some=SOME, full=f"id IN ({full})" if full else "FALSE", facts=facts
    )
    rows = moment.session.execute(sa.text(asked), asked_of | values).all()
    zones: tuple[tuple[str | None, int | None, int], ...] = ()
    if _takes_time(send) or quiet_of(moment.session, send, channel):
        zones = _zones(moment, send, channel, facts, verdict, asked_of)
    outcomes = {row.said: row.people for row in rows}
    total = sum(outcomes.values())
    going, over = under(outcomes.get("go", 0), send.audience_limit, send.limit_rule)
    if over:
        outcomes |= {"go": going, "over_limit": over}
    some = tuple(next((row.few for row in rows if row.said == "go"), ())[: min(SOME, going)])
    left_out, included = [], []
    for item in send.audience.get("out", []):
        alone = audience(moment, {"in": send.audience.get("in", [])})
        compiler = compiler_for(moment)
        compiler.values = alone.values
        taken = condition_of(moment.session, item, compiler, moment.words)
        number = moment.session.execute(
            sa.text(
                f"SELECT count(*) FROM contacts c WHERE ({alone.predicate}) AND "
                f"coalesce({taken}, FALSE)"
            ),
            compiler.values,
        ).scalar_one()
        left_out.append((name_of(moment.session, item), number))
    for item in send.audience.get("in", []):
        if len(send.audience["in"]) == 1 and not left_out:
            # Nothing to ask: it is the whole audience.
            included.append((name_of(moment.session, item), total))
            continue
        alone = audience(moment, {"in": [item]})
        included.append(
            (
                name_of(moment.session, item),
                moment.session.execute(
                    sa.text(f"SELECT count(*) FROM contacts c WHERE {alone.predicate}"),
                    alone.values,
                ).scalar_one(),
            )
        )
    without_room = sum(row.full for row in rows if row.said == "go")
    return Estimate(total, outcomes, left_out, included, without_room, zones, some)


def _takes_time(send: Send) -> bool:
    """Whether a send reaches people at moments of their own, or one after another."""
    return bool(send.local_at or send.hours or send.portion_size or send.best_hour)


def _zones(
    moment: Moment,
    send: Send,
    channel: str,
    facts: str,
    verdict: str,
    values: Mapping[str, Any],
) -> tuple[tuple[str | None, int | None, int], ...]:
    """The zones of those who would get a send, with the hours chosen for them."""
    hour, hours_of, given = "NULL::int", "", dict(values)
    if send.best_hour:
        try:
            within = open_hours_of(moment.session, send, channel, moment.now)
        except HoursError as problem:
            raise Invalid(problem.args[0], "hours") from None
        given |= choosing(moment.session, within)
        hour, hours_of = CHOSEN, "LEFT JOIN best_hours b ON b.contact_id = x.id"
    counted = _ZONES_OF.format(verdict=verdict, facts=facts, hour=hour, hours_of=hours_of)
    rows = moment.session.execute(sa.text(counted), given)
    return tuple((row.zone, row.hour, row.people) for row in rows)


def kept_estimate(
    moment: Moment,
    send: Send,
    fresh: bool,
) -> tuple[Estimate, dt.datetime]:
    """`estimate` for a sheet that is being written, and the moment it is of."""
    at = room.goes_at(moment, send)
    named = [*send.audience.get("in", []), *send.audience.get("out", []), send.control]
    segments = [moment.session.get(Segment, item["segment"]) for item in named if "segment" in item]
    key = (
        send.id,
        json.dumps([send.audience, send.control]),
        send.topic_id,
        send.consent_rule,
        send.audience_limit,
        send.limit_rule,
        send.message_id,
        send.again_rule,
        send.again_days,
        bool(_takes_time(send)),
        json.dumps([send.best_hour, send.hours if send.best_hour else {}, str(send.leaves_at)]),
        str(held_out.share_of(moment)),
        str([(one.id, one.version) for one in room.planned_before(moment, send, at)]),
        str(caps.all_caps(moment.session) if send.obeys_caps else []),
        str(tags_of(moment.session, send)),
        str([s and s.definition for s in segments]),
    )
    return _estimates.get(moment.session, key, moment.now, lambda: estimate(moment, send), fresh)
