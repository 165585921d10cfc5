"""What became of messages whose worker died or whose answer was lost: asked of the gateway, never sent again blindly."""

import dataclasses
import datetime as dt
from collections.abc import Callable
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.gateways.handing import Gateway
from meadowrun.sends.claims import Claim, as_json

#: Gaps between two questions to a gateway that does not answer, by how often it was asked.
_GAPS = tuple(dt.timedelta(seconds=s) for s in (15, 30, 60, 120, 300, 900, 1800, 3600))

#: People of a chunk whose message was under way, and not with this claim: number, outcome, their claim, whether that
#: was longer ago than a gateway may take (real time, since the demo's clock can be moved), how often it was asked, and
#: whether something came back from them since.
LEFT = """
SELECT d.contact_id, d.outcome, d.claim, d.asked,
    coalesce(d.claimed_at < clock_timestamp() - make_interval(secs => :patience), TRUE) AS old,
    EXISTS (SELECT 1 FROM reactions r WHERE r.contact_id = d.contact_id AND r.send_id = d.send_id
            AND r.at >= d.taken_at) AS reacted
FROM deliveries d
WHERE d.send_id = :send AND d.taken_at = :taken AND d.chunk = :chunk AND (d.outcome = 'in_hand'
    OR d.outcome = 'in_doubt' AND (d.not_before <= :now OR d.not_before IS NULL AND :asks))
"""

#: Writes what was found out of people, unless somebody else wrote of them meanwhile. Of a stopped send nobody waits.
SETTLE = """
UPDATE deliveries d SET
    outcome = CASE WHEN v.outcome = 'waiting' AND s.state = 'stopped' THEN 'stopped' ELSE v.outcome END,
    note = v.note, not_before = v.ask_at, asked = v.asked, claim = CASE WHEN v.outcome = 'waiting' THEN NULL ELSE d.claim END
FROM jsonb_to_recordset(CAST(:rows AS jsonb))
    AS v(id bigint, before text, claim uuid, outcome text, note text, ask_at timestamptz, asked smallint), sends s
WHERE d.send_id = :send AND d.taken_at = :taken AND d.contact_id = v.id AND d.outcome = v.before
    AND d.claim IS NOT DISTINCT FROM v.claim AND s.id = d.send_id
"""


@dataclasses.dataclass(frozen=True, slots=True)
class _Found:
    """What is known now of one message that was under way."""

    outcome: str
    note: str
    ask_at: dt.datetime | None = None


def settle(claim: Claim, gateway: Gateway, ids_of: Callable[[int], str], now: dt.datetime, patience: float) -> None:
    """Settles what others left under way in a claimed chunk, as far as it can be known now.

    `ids_of` gives the gateway's id of a contact's message. “Not taken” is believed only when `patience` seconds have
    passed, because a server may store late what it got before.
    """
    with claim.session() as session:
        left = session.execute(sa.text(LEFT), {**claim.key, "now": now, "patience": patience,
                                               "asks": gateway.can_be_asked}).all()
    if not left:
        return
    ids = {row.contact_id: ids_of(row.contact_id) for row in left}
    said = gateway.took([ids[row.contact_id] for row in left if not row.reacted]) if gateway.can_be_asked else {}
    rows = []
    for row in left:
        found = _found(row, said.get(ids[row.contact_id]), gateway.can_be_asked, now)
        if found is not None:
            rows.append({"id": row.contact_id, "before": row.outcome, "claim": str(row.claim) if row.claim else None,
                         "outcome": found.outcome, "note": found.note, "asked": row.asked + (found.ask_at is not None),
                         "ask_at": found.ask_at.isoformat() if found.ask_at else None})
    with claim.session() as session:
        write(session, claim.key, rows)


def _found(row: Any, taken: bool | None, can_be_asked: bool, now: dt.datetime) -> _Found | None:
    """What follows from an answer (None: there was none); None when it is to be asked again by and by."""
    if row.reacted:
        return _Found("delivered", "something came back from it, so it had arrived")
    if taken:
        return _Found("delivered", "settled by asking the gateway")
    if taken is False:
        return _Found("waiting", "") if row.old else None
    if can_be_asked:
        return _Found("in_doubt", "the gateway does not say whether it took this; it is asked again",
                      now + _GAPS[min(row.asked, len(_GAPS) - 1)])
    return _Found("in_doubt", "the connection ended while this was handed over")


def write(session: orm.Session, key: dict[str, Any], rows: list[dict[str, Any]]) -> None:
    """Writes settled rows; a send of which somebody waits again runs again."""
    if not rows:
        return
    session.execute(sa.text("SELECT 1 FROM sends WHERE id = :send FOR UPDATE"), key)
    if any(row["outcome"] == "waiting" for row in rows):
        session.execute(sa.text("UPDATE sends SET state = 'running', finished_at = NULL WHERE id = :send AND state = 'done'"), key)
    session.execute(sa.text(SETTLE), {**key, "rows": as_json(rows)})


#: Whether anybody of a send may still be handed over, or is asked about.
UNFINISHED = """
SELECT 1 FROM deliveries WHERE send_id = :id AND taken_at = :taken AND (outcome IN ('waiting', 'in_hand', 'deferred')
    OR outcome = 'in_doubt' AND not_before IS NOT NULL) LIMIT 1
"""
#: Whether anybody of a send is open at all, doubts that only a person can settle included.
ANYBODY_OPEN = """
SELECT 1 FROM deliveries WHERE send_id = :id AND taken_at = :taken
    AND outcome IN ('waiting', 'in_hand', 'deferred', 'in_doubt') LIMIT 1
"""


def finish_if_done(session: orm.Session, send_id: int, taken: dt.datetime | None, now: dt.datetime) -> None:
    """A running send is done when nobody is left who may still be handed over or asked about; doubts that only a person
    can settle stay open.

    The send's row is locked only when nobody seems left, so that workers on other chunks do not wait for each other,
    and then it is looked once more. Two that end at once may each still see the other's rows; the sweep finishes such
    a send.
    """
    of = {"id": send_id, "taken": taken, "now": now}
    if session.execute(sa.text(UNFINISHED), of).scalar() is not None:
        return
    session.execute(sa.text("SELECT 1 FROM sends WHERE id = :id FOR UPDATE"), of)
    if session.execute(sa.text(UNFINISHED), of).scalar() is not None:
        return
    session.execute(sa.text("UPDATE sends SET state = 'done', finished_at = :now WHERE id = :id AND state = 'running'"), of)
    if session.execute(sa.text(ANYBODY_OPEN), of).scalar() is None:
        session.execute(sa.text("UPDATE sends SET open = FALSE WHERE id = :id AND state IN ('done', 'stopped')"), of)
