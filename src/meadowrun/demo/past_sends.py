"""Past sends of the demo world: who got what, and what they did then, by the hidden truth."""

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


def add(session: orm.Session, made: world.World, number: int, total: int) -> None:
    """One send of the past, with outcomes by everyone's circumstances and reactions by the hidden
    truth."""
    dice = made.dice
    name, campaign, message, topic, share = stories.PAST[number % len(stories.PAST)]
    ago = 400 - int(number * 397 / max(1, total - 1))
    taken = (made.moment - dt.timedelta(days=ago)).replace(
        hour=(17, 9, 18)[number % 3], minute=30, second=0
    )
    ids = session.execute(
        sa.text(
            "SELECT c.id, m.id, e.id, e.compiled, c.facts, m.channel FROM campaigns c, messages "
            "m JOIN editions e ON e.message_id = m.id "
            "WHERE c.name = :c AND m.name = :m"
        ),
        {"c": campaign, "m": message},
    ).one()
    control = stories.CONTROL if topic == stories.MEMBERS else 0.0
    send = Send(
        campaign_id=ids[0],
        name=f"{name}, {taken:%B %Y}",
        state="done",
        message_id=ids[1],
        edition_id=ids[2],
        control={"percent": control} if control else {},
        audience={"in": [], "out": []},
        sender_id=1 + number % 2,
        zone="Europe/London",
        topic_id=topic,
        facts=ids[4],
        success_event=stories.SUCCESS[message],
        success_days=7,
        taken_at=taken,
        created_at=taken - dt.timedelta(days=3),
        changed_at=taken,
        started_by="Ida Vance",
        finished_at=taken + dt.timedelta(minutes=9),
    )
    session.add(send)
    session.flush()
    # Set running, so that it is done only when its audience is there.
    dispatch = Dispatch(
        owner_kind="send",
        owner_id=send.id,
        name=send.name,
        channel=ids[5],
        message_id=ids[1],
        edition_id=ids[2],
        sender_id=send.sender_id,
        topic_id=topic,
        campaign_id=ids[0],
        tags=tags_of(session, send),
        consent_rule="agreed",
        facts=ids[4],
        taken_at=taken,
        state="running",
        finished_at=send.finished_at,
    )
    session.add(dispatch)
    session.flush()
    known = (
        np.flatnonzero((made.created_days > ago) & (dice.random(made.scale) < share))
        if topic != stories.MEMBERS
        else np.flatnonzero((made.created_days > ago) & (made.tier >= 0))
    )
    agreed = {
        r[0]: (r[1], r[2])
        for r in session.execute(
            sa.text(
                "SELECT c.contact_id, bool_and(c.agreed) FILTER (WHERE c.topic_id = 0), "
                "bool_or(c.agreed) FILTER (WHERE c.topic_id = :t) "
                "FROM consents c GROUP BY 1"
            ),
            {"t": topic or -1},
        )
    }
    suppressed = {
        r[0]
        for r in session.execute(
            sa.text(
                "SELECT c.id FROM contacts c JOIN suppressions s ON s.address_key = c.email_key"
            )
        )
    }
    bounced = {
        r[0]
        for r in session.execute(sa.text("SELECT id FROM contacts WHERE bounced_at IS NOT NULL"))
    }
    kind = session.execute(
        sa.text("SELECT id FROM event_kinds WHERE key = :k"), {"k": stories.SUCCESS[message]}
    ).scalar()
    rows = bulk.Rows(
        session,
        (
            "deliveries (contact_id, dispatch_id, taken_at, number, due, outcome, address, at, "
            "note, filled, control)"
        ),
    )
    reacted = bulk.Rows(
        session, "reactions (contact_id, at, dispatch_id, delivery, kind, link, machine, note)"
    )
    bought = bulk.Rows(session, "events (contact_id, at, kind_id, details)")
    hard: list[int] = []
    stamp, size = taken.isoformat(), 0
    first = session.execute(sa.text(_DRAWN), {"n": len(known)}).scalar_one()

    def buy(contact: int, at: dt.datetime, after: float, roll: Any) -> None:
        when = at + dt.timedelta(seconds=after)
        if kind and when < made.moment:
            bought.add(
                contact,
                when.isoformat(),
                kind,
                f'{{"amount": {(8, 12, 16, 24, 36, 48)[int(roll[5] * 5.99)]}}}',
            )

    links = len(ids[3]["links"])
    roll = dice.random((len(known), 6))
    for place, i in enumerate(known.tolist()):
        contact, size = i + 1, size + 1
        channel, chosen = agreed.get(contact, (None, None))
        kept = share_number(contact, f"campaign:{ids[0]}") < control * 100
        outcome = _outcome(
            made, i, contact in suppressed, contact in bounced, channel, chosen, kept
        )
        at = taken + dt.timedelta(seconds=place * 500 / max(1, len(known)))
        filled = None
        if outcome in ("delivered", "bounced"):
            filled = json.dumps(
                {
                    "contact.first_name": made.first[i],
                    "contact.town": names.TOWNS[made.town[i]],
                    "contact.membership": world.TIERS[made.tier[i]] if made.tier[i] >= 0 else None,
                    "contact.renewal_date": None,
                },
                ensure_ascii=False,
            )
        rows.add(
            contact,
            dispatch.id,
            stamp,
            first + place,
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
            react(
                made, i, contact, (dispatch.id, first + place), at, roll[place], links, reacted, buy
            )
        elif outcome == "control":
            _by_itself(at, contact, roll[place], buy)
    for done in (rows, reacted, bought):
        done.send()
    session.execute(
        sa.text("UPDATE contacts SET bounced_at = :at WHERE id = ANY(:ids)"),
        {"at": taken, "ids": hard},
    )
    dispatch.size, dispatch.sealed = size, True
    session.flush()
    dispatch.state, dispatch.unsettled = "done", False
    send.dispatch_id = dispatch.id
    session.flush()


def _outcome(
    made: world.World,
    i: int,
    suppressed: bool,
    bounced: bool,
    channel: bool | None,
    chosen: bool | None,
    kept: bool,
) -> str:
    address = made.email[i]
    said = verdict(
        Facts(
            address is not None,
            bool(address and "@" in address),
            suppressed,
            bounced,
            chosen,
            channel,
            control=kept,
        )
    )
    if not said.goes:
        return said.outcome
    return "bounced" if made.fate[i] == "gone" else "delivered"


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
        write(5 + roll[5] * 50, "opened", machine=True, note="the reader calls itself “proxy”")
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
