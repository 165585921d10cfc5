"""Past sends of the demo world: who got what, and what they did then, by the hidden truth."""

import dataclasses
import datetime as dt
import json
from collections.abc import Callable
from typing import Any

import numpy as np
import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.core.audience.persons import share_number
from meadowrun.core.guardrails.verdict import Facts, verdict
from meadowrun.demo import bulk, names, stories, world
from meadowrun.outgoing.models import Dispatch
from meadowrun.sends.models import Send
from meadowrun.sends.queries import tags_of
from meadowrun.village.store import pull

#: Draws so many numbers of deliveries: the first of them.
_DRAWN = "SELECT setval('delivery_numbers', nextval('delivery_numbers') + :n) - :n"


#: The campaign, message and edition of a send by their names.
_OF = """
SELECT c.id AS campaign, m.id AS message, e.id AS edition, e.compiled, c.facts, m.channel
FROM campaigns c, messages m JOIN editions e ON e.message_id = m.id
WHERE c.name = :campaign AND m.name = :message
"""
#: What everyone said to email as a whole, and to a topic.
_AGREED = """
SELECT c.contact_id, bool_and(c.agreed) FILTER (WHERE c.topic_id = 0),
    bool_or(c.agreed) FILTER (WHERE c.topic_id = :topic)
FROM consents c GROUP BY 1
"""
_SUPPRESSED = "SELECT c.id FROM contacts c JOIN suppressions s ON s.address_key = c.email_key"
_BOUNCED = "SELECT id FROM contacts WHERE bounced_at IS NOT NULL"
_DELIVERIES = (
    "deliveries (contact_id, dispatch_id, taken_at, number, due, outcome, address, at, "
    "note, filled, control)"
)
_REACTIONS = "reactions (contact_id, at, dispatch_id, delivery, kind, link, machine, note)"
#: What somebody paid for a ticket, by chance.
_AMOUNTS = (8, 12, 16, 24, 36, 48)


@dataclasses.dataclass(frozen=True, slots=True)
class _Past:
    """What one send of the past is: its story, how many days ago it went and at which moment, and
    the percent of its control group."""

    name: str
    campaign: str
    message: str
    topic: int | None
    share: float
    ago: int
    taken: dt.datetime
    control: float

    @classmethod
    def of(cls, moment: dt.datetime, number: int, total: int) -> "_Past":
        name, campaign, message, topic, share = stories.PAST[number % len(stories.PAST)]
        ago = 400 - int(number * 397 / max(1, total - 1))
        taken = (moment - dt.timedelta(days=ago)).replace(
            hour=(17, 9, 18)[number % 3], minute=30, second=0
        )
        control = stories.CONTROL if topic == stories.MEMBERS else 0.0
        return cls(name, campaign, message, topic, share, ago, taken, control)


class _Circumstances:
    """What may keep a send from people: what they said to email and to its topic, suppressed
    addresses, and those that bounced."""

    def __init__(self, session: orm.Session, topic: int | None):
        said = session.execute(sa.text(_AGREED), {"topic": topic or -1})
        self.agreed = {row[0]: (row[1], row[2]) for row in said}
        self.suppressed = set(session.scalars(sa.text(_SUPPRESSED)))
        self.bounced = set(session.scalars(sa.text(_BOUNCED)))

    def outcome(self, made: world.World, i: int, kept: bool) -> str:
        """What becomes of the message to the person at a place of the world; `kept` is whether the
        control group has them."""
        contact, address = i + 1, made.email[i]
        channel, chosen = self.agreed.get(contact, (None, None))
        said = verdict(
            Facts(
                address is not None,
                bool(address and "@" in address),
                contact in self.suppressed,
                contact in self.bounced,
                chosen,
                channel,
                control=kept,
            )
        )
        if not said.goes:
            return said.outcome
        return "bounced" if made.fate[i] == "gone" else "delivered"


def add(session: orm.Session, made: world.World, number: int, total: int) -> None:
    """One send of the past, with outcomes by everyone's circumstances and reactions by the hidden
    truth."""
    past = _Past.of(made.moment, number, total)
    of = session.execute(sa.text(_OF), {"campaign": past.campaign, "message": past.message}).one()
    send, dispatch = _begun(session, past, of, 1 + number % 2)
    people = _audience(made, past)
    _deliver(session, made, past, of, dispatch, people)
    dispatch.size, dispatch.sealed = len(people), True
    session.flush()
    dispatch.state, dispatch.unsettled = "done", False
    send.dispatch_id = dispatch.id
    session.flush()


def _begun(
    session: orm.Session, past: _Past, of: sa.Row[Any], sender: int
) -> tuple[Send, Dispatch]:
    """The send and what leaves by it, set running: it is done only when its audience is there."""
    taken, finished = past.taken, past.taken + dt.timedelta(minutes=9)
    send = Send(
        campaign_id=of.campaign,
        name=f"{past.name}, {taken:%B %Y}",
        state="done",
        message_id=of.message,
        edition_id=of.edition,
        control={"percent": past.control} if past.control else {},
        audience={"in": [], "out": []},
        sender_id=sender,
        zone="Europe/London",
        topic_id=past.topic,
        facts=of.facts,
        success_event=stories.SUCCESS[past.message],
        success_days=7,
        taken_at=taken,
        created_at=taken - dt.timedelta(days=3),
        changed_at=taken,
        started_by="Ida Vance",
        finished_at=finished,
    )
    session.add(send)
    session.flush()
    dispatch = Dispatch(
        owner_kind="send",
        owner_id=send.id,
        name=send.name,
        channel=of.channel,
        message_id=of.message,
        edition_id=of.edition,
        sender_id=sender,
        topic_id=past.topic,
        campaign_id=of.campaign,
        tags=tags_of(session, send),
        consent_rule="agreed",
        facts=of.facts,
        taken_at=taken,
        state="running",
        finished_at=finished,
    )
    session.add(dispatch)
    session.flush()
    return send, dispatch


def _audience(made: world.World, past: _Past) -> list[int]:
    """The places of the people in its audience: all members, or a share of everyone by chance, as
    far as they were on file."""
    on_file = made.created_days > past.ago
    if past.topic == stories.MEMBERS:
        return np.flatnonzero(on_file & (made.tier >= 0)).tolist()
    return np.flatnonzero(on_file & (made.dice.random(made.scale) < past.share)).tolist()


def _deliver(
    session: orm.Session,
    made: world.World,
    past: _Past,
    of: sa.Row[Any],
    dispatch: Dispatch,
    people: list[int],
) -> None:
    """What became of each message, and what people did then."""
    circumstances = _Circumstances(session, past.topic)
    rows, reacted = bulk.Rows(session, _DELIVERIES), bulk.Rows(session, _REACTIONS)
    bought, buy = _buying(session, made, past)
    first = session.execute(sa.text(_DRAWN), {"n": len(people)}).scalar_one()
    links, hard, stamp = len(of.compiled["links"]), [], past.taken.isoformat()
    rolls = made.dice.random((len(people), 6))
    for place, i in enumerate(people):
        contact, number, roll = i + 1, first + place, rolls[place]
        kept = share_number(contact, f"campaign:{of.campaign}") < past.control * 100
        outcome = circumstances.outcome(made, i, kept)
        at = past.taken + dt.timedelta(seconds=place * 500 / len(people))
        filled = _filled(made, i) if outcome in ("delivered", "bounced") else None
        rows.add(
            contact,
            dispatch.id,
            stamp,
            number,
            stamp,
            outcome,
            made.email[i] if filled else None,
            at.isoformat() if filled or outcome == "control" else None,
            "550 no such mailbox" if outcome == "bounced" else None,
            filled,
            kept,
        )
        if outcome == "bounced":
            hard.append(contact)
        if outcome == "delivered":
            react(made, i, contact, (dispatch.id, number), at, roll, links, reacted, buy)
        elif outcome == "control":
            _by_itself(at, contact, roll, buy)
    for done in (rows, reacted, bought):
        done.send()
    session.execute(
        sa.text("UPDATE contacts SET bounced_at = :at WHERE id = ANY(:ids)"),
        {"at": past.taken, "ids": hard},
    )


def _buying(
    session: orm.Session, made: world.World, past: _Past
) -> tuple[bulk.Rows, Callable[[int, dt.datetime, float, Any], None]]:
    """The rows of what counts as success, and what adds one: for somebody, so many seconds after a
    moment, unless that is still to come."""
    bought = bulk.Rows(session, "events (contact_id, at, kind_id, details)")
    kind = session.execute(
        sa.text("SELECT id FROM event_kinds WHERE key = :k"), {"k": stories.SUCCESS[past.message]}
    ).scalar()

    def buy(contact: int, at: dt.datetime, after: float, roll: Any) -> None:
        when = at + dt.timedelta(seconds=after)
        if kind and when < made.moment:
            details = f'{{"amount": {_AMOUNTS[int(roll[5] * 5.99)]}}}'
            bought.add(contact, when.isoformat(), kind, details)

    return bought, buy


def _filled(made: world.World, i: int) -> str:
    """What somebody's message was filled in with."""
    return json.dumps(
        {
            "contact.first_name": made.first[i],
            "contact.town": names.TOWNS[made.town[i]],
            "contact.membership": world.TIERS[made.tier[i]] if made.tier[i] >= 0 else None,
            "contact.renewal_date": None,
        },
        ensure_ascii=False,
    )


def _by_itself(
    at: dt.datetime, contact: int, roll: Any, buy: Callable[[int, dt.datetime, float, Any], None]
) -> None:
    """A few do it anyway, without having read anything."""
    if roll[3] < 0.012:
        buy(contact, at, 90_000 + roll[4] * 300_000, roll)


def react(
    made: world.World,
    i: int,
    contact: int,
    of: tuple[int, int],
    at: dt.datetime,
    roll: Any,
    links: int,
    reacted: bulk.Rows,
    buy: Callable[[int, dt.datetime, float, Any], None],
) -> None:
    def write(
        after: float, kind: str, link: int | None = None, machine: bool = False, note: str = ""
    ) -> None:
        when = at + dt.timedelta(seconds=after)
        if when < made.moment:
            reacted.add(contact, when.isoformat(), *of, kind, link, machine, note)

    if made.prefetches[i]:
        write(5 + roll[5] * 50, "opened", machine=True, note="the mail app calls itself “proxy”")
    if roll[0] >= made.opens[i] * pull(made.hour[i] - at.hour - at.minute / 60):
        _by_itself(at, contact, roll, buy)
        return
    wait = (
        90
        + ((made.hour[i] - at.hour) % 24) * 3600 * (roll[1] < 0.6)
        + roll[4] * 20_000 * (roll[1] >= 0.6)
        + roll[5] * 1500
    )
    write(wait, "opened")
    if roll[1] > 0.99:
        write(wait + 40, "unsubscribed", note="with one click in the mail app")
    elif roll[2] < made.clicks[i] and links:
        write(wait + 60, "clicked", int(0 if roll[5] < 0.62 else roll[5] * 997 % links))
        if roll[3] < made.buys[i] * 1.6:
            buy(contact, at, wait + 900 + roll[4] * 90_000, roll)
    elif roll[3] < 0.02:
        buy(contact, at, wait + 50_000 + roll[4] * 300_000, roll)
