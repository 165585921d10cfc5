"""The standing control group: a share of everybody who gets no marketing at all for a while, so
that what all of it together brings can be seen."""

import dataclasses
import datetime as dt
from collections.abc import Iterable

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.audit import Actor
from meadowrun.base.errors import Invalid
from meadowrun.core.audience.nodes import ShareLine
from meadowrun.core.audience.persons import share_number
from meadowrun.core.guardrails.limits import (
    HELD_OUT_PERIODS,
    MOST_CONTROL,
    held_out_salt,
    held_out_since,
)
from meadowrun.core.language import Wording
from meadowrun.core.results.worth import Group, Worth, worth
from meadowrun.outgoing.rules import change, rules
from meadowrun.people.moment import Moment
from meadowrun.segments.fetching import compiler_for


def among(session: orm.Session, day: dt.date, contacts: Iterable[int]) -> set[int]:
    """Who of some contacts is in the standing control group of the period around a day."""
    found = rules(session)
    if not found.held_out_percent:
        return set()
    salt, below = held_out_salt(found.held_out_period, day), round(found.held_out_percent * 100)
    return {contact for contact in contacts if share_number(contact, salt) < below}


def save(
    session: orm.Session, actor: Actor, now: dt.datetime, percent: float | None, period: str
) -> None:
    """Keeps a share of everybody, in %, out of all marketing, drawn anew each period; None: nobody.
    Raises Invalid."""
    if percent is not None and not 0.1 <= percent <= MOST_CONTROL:
        raise Invalid(
            Wording(
                "A control group is between 0.1 and %(most_control)s of 100 people.",
                most_control=f"{MOST_CONTROL:g}",
            ),
            "percent",
        )
    if period not in HELD_OUT_PERIODS:
        raise Invalid("Choose one of the periods offered.", "period")
    did = "changed the standing control group"
    change(session, actor, now, did, held_out_percent=percent, held_out_period=period)


def share_of(moment: Moment) -> ShareLine | None:
    """The group as a share of everybody, by chance; None where there is none."""
    found = rules(moment.session)
    if not found.held_out_percent:
        return None
    day = moment.now.astimezone(moment.zone).date()
    return ShareLine("", found.held_out_percent, held_out_salt(found.held_out_period, day))


#: Event kind → how many people of the group and of the others did it since a moment, of those who
#: were on file then.
_DID = """
SELECT k.did, count(DISTINCT e.contact_id) FILTER (WHERE x.held_out) AS held_out,
    count(DISTINCT e.contact_id) FILTER (WHERE NOT x.held_out) AS others
FROM events e JOIN event_kinds k ON k.id = e.kind_id
JOIN (SELECT c.id, {share} AS held_out FROM contacts c WHERE c.created_at < :since) x
    ON x.id = e.contact_id
WHERE e.at >= :since AND e.at < :now AND NOT k.retired GROUP BY 1 ORDER BY 1
"""
_SIZES = """
SELECT count(*) FILTER (WHERE {share}) AS held_out, count(*) FILTER (WHERE NOT {share}) AS others
FROM contacts c WHERE c.created_at < :since
"""


@dataclasses.dataclass(frozen=True, slots=True)
class Brought:
    """What people did since the group was drawn: what it was, and the two groups compared."""

    did: str
    worth: Worth


def brought(moment: Moment) -> list[Brought]:
    """What all marketing brought since the group was drawn, by kind of event; nothing where there
    is no group, or nobody in it."""
    line = share_of(moment)
    if line is None:
        return []
    period = rules(moment.session).held_out_period
    first = held_out_since(period, moment.now.astimezone(moment.zone).date())
    since = dt.datetime.combine(first, dt.time(), moment.zone)
    compiler = compiler_for(moment)
    share = compiler.node(line)
    values = {**compiler.values, "since": since, "now": moment.now}
    sizes = moment.session.execute(sa.text(_SIZES.format(share=share)), values).one()
    if not sizes.held_out:
        return []
    return [
        Brought(
            row.did,
            worth(Group(sizes.others, row.others), Group(sizes.held_out, row.held_out)),
        )
        for row in moment.session.execute(sa.text(_DID.format(share=share)), values)
    ]
