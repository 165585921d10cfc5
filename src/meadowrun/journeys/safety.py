"""A journey pauses itself where something goes wrong: too much bounces, too many complain, or far
more people come in than its author expects. Whoever withdraws all consent leaves."""

import dataclasses
import datetime as dt

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.audit import Actor
from meadowrun.core.journeys.flat import END
from meadowrun.core.language import Wording
from meadowrun.core.wording import number
from meadowrun.journeys import actions, queries
from meadowrun.journeys.leaving import take_off
from meadowrun.journeys.models import MOVES, Journey
from meadowrun.journeys.moves import Move
from meadowrun.shell.telling import named, tell

#: Of fewer messages no share is believed.
LEAST = 50
WATCH = Actor(None, "Meadowrun", "admin")
#: What became of what a journey sent within a day: how many, bounced, complained of, and how many
#: could not be filled in, which is not among the first.
_WENT = """
SELECT count(*) FILTER (WHERE d.outcome <> 'not_rendered') AS sent,
    count(*) FILTER (WHERE d.outcome = 'not_rendered') AS unfilled,
    count(*) FILTER (WHERE d.outcome = 'bounced' OR r.bounced) AS bounced,
    count(*) FILTER (WHERE r.complained) AS complained
FROM journey_dispatches j JOIN dispatches s ON s.id = j.dispatch_id
JOIN deliveries d ON d.dispatch_id = s.id AND d.taken_at = s.taken_at
LEFT JOIN LATERAL (
    SELECT bool_or(x.kind = 'bounced') AS bounced, bool_or(x.kind = 'complained') AS complained
    FROM reactions x WHERE x.contact_id = d.contact_id AND x.delivery = d.number
    AND x.kind IN ('bounced', 'complained')) r ON TRUE
WHERE j.journey_id = :id AND NOT j.tester
AND d.outcome IN ('delivered', 'bounced', 'in_doubt', 'not_rendered')
AND d.at > :since AND d.at > :resumed
"""
#: How many came into a journey since a moment.
_CAME = """
SELECT count(*) FROM journey_entries WHERE journey_id = :id AND NOT tester AND began_at > :since
AND began_at > :resumed
"""


@dataclasses.dataclass(frozen=True, slots=True)
class Went:
    """What became of what a journey sent within a day, how many of its messages could not be
    filled in, and how many people came in within an hour."""

    sent: int
    bounced: int
    complained: int
    unfilled: int
    came: int


def went(session: orm.Session, journey: Journey, now: dt.datetime) -> Went:
    """How it went lately: since it was resumed, where that was lately."""
    values = {
        "id": journey.id,
        "since": now - dt.timedelta(days=1),
        "resumed": journey.resumed_at or dt.datetime.min.replace(tzinfo=dt.UTC),
    }
    row = session.execute(sa.text(_WENT), values).one()
    hour = values | {"since": now - dt.timedelta(hours=1)}
    came = session.execute(sa.text(_CAME), hour).scalar_one()
    return Went(row.sent, row.bounced, row.complained, row.unfilled, came)


def reason(journey: Journey, found: Went) -> Wording | None:
    """Why a journey should pause, in words; None where nothing is wrong."""
    if journey.most_an_hour is not None and found.came > journey.most_an_hour:
        return Wording(
            "It paused itself: %(n)s people came in within an hour; its limit is %(most)s.",
            n=number(found.came),
            most=number(journey.most_an_hour),
        )
    made = found.sent + found.unfilled
    for many, of, most, what in (
        (found.bounced, found.sent, journey.most_bounces, Wording("bounced")),
        (found.complained, found.sent, journey.most_complaints, Wording("led to complaints")),
        (found.unfilled, made, journey.most_unfilled, Wording("could not be filled in")),
    ):
        if most is not None and of >= LEAST and 100 * many / of > most:
            return Wording(
                "It paused itself: %(n)s of %(sent)s messages of a day %(what)s; its limit is "
                "%(most)s%%.",
                n=number(many),
                sent=number(of),
                what=what,
                most=f"{most:g}",
            )
    return None


#: Withdrawals are looked for so far back: workers may have stood still.
_BACK = dt.timedelta(days=7)
#: Who is inside and said no to each channel that they were asked about, to one of them since they
#: came in: entry and journey, locked, so that nobody moves them meanwhile.
_WITHDREW = """
SELECT e.id, e.journey_id FROM journey_entries e JOIN journeys j ON j.id = e.journey_id
WHERE e.state = 'inside' AND j.state = ANY(:moving) AND j.consent_rule <> 'service'
    AND EXISTS (SELECT 1 FROM consents k WHERE k.contact_id = e.contact_id AND NOT k.agreed
        AND k.topic_id = 0 AND k.at > :since AND k.at > e.began_at)
    AND NOT EXISTS (SELECT 1 FROM consents y WHERE y.contact_id = e.contact_id AND y.agreed
        AND NOT EXISTS (SELECT 1 FROM consents z WHERE z.contact_id = y.contact_id
            AND z.channel = y.channel AND z.topic_id = 0 AND NOT z.agreed))
ORDER BY e.id FOR UPDATE OF e
"""


def take_out_withdrawn(session: orm.Session, now: dt.datetime) -> int:
    """Takes out whoever withdrew all consent, unless a journey's author has them stay; says how
    many. Service journeys go on."""
    values = {"since": now - _BACK, "moving": list(MOVES)}
    of: dict[int, list[int]] = {}
    for row in session.execute(sa.text(_WITHDREW), values):
        of.setdefault(row.journey_id, []).append(row.id)
    taken = 0
    for journey_id, entries in of.items():
        walked = queries.walked(session, session.get_one(Journey, journey_id))
        if walked is None or walked.stays:
            continue
        take_off(session, [Move(one, END, now, "withdrew", "left") for one in entries])
        taken += len(entries)
    return taken


def watch(session: orm.Session, now: dt.datetime) -> int:
    """Pauses journeys in which something goes wrong, and tells whoever started them; says how
    many."""
    paused = 0
    asked = sa.select(Journey).where(Journey.state.in_(MOVES)).order_by(Journey.id)
    for journey in session.scalars(asked).all():
        why = reason(journey, went(session, journey, now))
        if why is None:
            continue
        actions.pause(session, WATCH, now, journey)
        journey.problem = str(why)
        owner = named(session, journey.started_by)
        about = f"journey-paused:{journey.id}:{now.isoformat()}"
        tell(session, now, owner, about, journey.name, str(why), f"/journeys/{journey.id}")
        paused += 1
    return paused
