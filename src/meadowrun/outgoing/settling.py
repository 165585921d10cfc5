"""What became of messages whose worker died or whose answer was lost: asked of the gateway, never
sent again blindly."""

import dataclasses
import datetime as dt
from collections.abc import Mapping
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import clock, signing
from meadowrun.base.manifest import owner_of
from meadowrun.base.settings import Settings
from meadowrun.gateways.channels import CHANNELS
from meadowrun.outgoing.claims import Claim, as_json
from meadowrun.outgoing.models import Dispatch

#: Gaps between two questions to a gateway that does not answer, by how often it was asked.
_GAPS = tuple(dt.timedelta(seconds=s) for s in (15, 30, 60, 120, 300, 900, 1800, 3600))

#: What can be settled now of deliveries `d`: under way and of no batch that lives, or in doubt and
#: to be asked about, where `{asks}` says whether the gateway can be asked.
UNSETTLED = """d.outcome IN ('in_hand', 'in_doubt') AND (
    d.outcome = 'in_hand' AND (
        d.claim IS NULL
        OR d.claim NOT IN (SELECT b.claim FROM batches b WHERE b.task = 'deliver'))
    OR d.outcome = 'in_doubt' AND (d.due <= :now OR d.due IS NULL AND {asks}))"""
#: People of a dispatch whose message was under way, and who are of no batch now: contact, number,
#: outcome, their claim, whether that was
#: longer ago than a gateway may take (real time, since the demo's clock can be moved), how often it
#: was asked, and whether something came
#: back from them since.
LEFT = f"""
SELECT d.contact_id, d.number, d.outcome, d.claim, d.asked,
    coalesce(d.claimed_at < clock_timestamp() - make_interval(secs => :patience), TRUE) AS old,
    EXISTS (SELECT 1 FROM reactions r WHERE r.contact_id = d.contact_id
    AND r.delivery = d.number AND r.at >= d.taken_at) AS reacted
FROM deliveries d
WHERE d.dispatch_id = :dispatch AND d.taken_at = :taken AND {UNSETTLED.format(asks=":asks")}
"""

#: Writes what was found out of people, unless somebody else wrote of them meanwhile. Of a stopped
#: dispatch nobody waits.
SETTLE = """
UPDATE deliveries d SET
    outcome = CASE WHEN v.outcome = 'waiting' AND s.state = 'stopped' THEN 'stopped'
    ELSE v.outcome END,
    note = v.note, due = CASE v.outcome WHEN 'in_doubt' THEN v.ask_at
    ELSE coalesce(d.due, :now) END, asked = v.asked,
    claim = CASE WHEN v.outcome = 'waiting' THEN NULL ELSE d.claim END
FROM jsonb_to_recordset(CAST(:rows AS jsonb))
    AS v(id bigint, number bigint, before text, claim uuid, outcome text, note text,
    ask_at timestamptz, asked smallint), dispatches s
WHERE d.dispatch_id = :dispatch AND d.taken_at = :taken AND d.contact_id = v.id
AND d.number = v.number AND d.outcome = v.before
    AND d.claim IS NOT DISTINCT FROM v.claim AND s.id = d.dispatch_id
"""


@dataclasses.dataclass(frozen=True, slots=True)
class _Found:
    """What is known now of one message that was under way."""

    outcome: str
    note: str
    ask_at: dt.datetime | None = None


def settle(claim: Claim, settings: Settings) -> None:
    """Settles what others left under way of a dispatch, as far as it can be known now.

    “Not taken” is believed only when the settings' patience has passed, because a server may store
    late what it got before.
    """
    with claim.session() as session:
        now = clock.now(session)
        dispatch = session.get_one(Dispatch, claim.key["dispatch"])
        claim.key["taken"] = dispatch.taken_at
        channel = CHANNELS[dispatch.channel]
        gateway = channel.gateway(claim.database, settings, dispatch.id, now)
        left = session.execute(
            sa.text(LEFT),
            {
                **claim.key,
                "now": now,
                "patience": settings.settle_after,
                "asks": gateway.can_be_asked,
            },
        ).all()
    ids = {
        row.number: channel.asked_by(
            settings, signing.make(settings.secret, "message", row.number, row.contact_id)
        )
        for row in left
    }
    asked = [ids[row.number] for row in left if not row.reacted]
    said = gateway.took(asked) if asked and gateway.can_be_asked else {}
    rows = []
    for row in left:
        found = _found(row, said.get(ids[row.number]), gateway.can_be_asked, now)
        if found is not None:
            rows.append(
                {
                    "id": row.contact_id,
                    "number": row.number,
                    "before": row.outcome,
                    "claim": str(row.claim) if row.claim else None,
                    "outcome": found.outcome,
                    "note": found.note,
                    "asked": row.asked + (found.ask_at is not None),
                    "ask_at": found.ask_at.isoformat() if found.ask_at else None,
                }
            )
    with claim.session() as session:
        write(session, claim.key, rows, now)
        finish_if_done(session, dispatch.id, dispatch.taken_at, now)


def _found(row: Any, taken: bool | None, can_be_asked: bool, now: dt.datetime) -> _Found | None:
    """What follows from an answer (None: there was none); None when it is to be asked again by and
    by."""
    if row.reacted:
        return _Found("delivered", "something came back from it, so it had arrived")
    if taken:
        return _Found("delivered", "settled by asking the gateway")
    if taken is False:
        return _Found("waiting", "") if row.old else None
    if can_be_asked:
        return _Found(
            "in_doubt",
            "the gateway does not say whether it took this; it is asked again",
            now + _GAPS[min(row.asked, len(_GAPS) - 1)],
        )
    return _Found("in_doubt", "the connection ended while this was handed over")


def write(
    session: orm.Session, key: Mapping[str, Any], rows: list[dict[str, Any]], now: dt.datetime
) -> None:
    """Writes settled rows; a dispatch of which somebody waits again runs again."""
    if not rows:
        return
    dispatch = locked(session, key["dispatch"])
    if dispatch.state == "done" and any(row["outcome"] == "waiting" for row in rows):
        set_state(session, dispatch, "running", now)
    session.execute(sa.text(SETTLE), {**key, "rows": as_json(rows), "now": now})


def locked(session: orm.Session, dispatch_id: int) -> Dispatch:
    """A dispatch as it is now, locked. What belongs to its owner is locked after it, never
    before."""
    return session.get_one(Dispatch, dispatch_id, with_for_update=True, populate_existing=True)


def set_state(session: orm.Session, dispatch: Dispatch, state: str, now: dt.datetime) -> None:
    """Sets a locked dispatch to another state, and tells its owner."""
    dispatch.state = state
    dispatch.finished_at = now if state in ("done", "stopped") else None
    dispatch.unsettled = dispatch.unsettled or state in ("running", "paused")
    session.flush()
    owner_of(dispatch.owner_kind).moved(session, dispatch.owner_id, state, now)


#: Whether anybody of a dispatch waits; in order, so that what is done is not read past to find one
#: of few.
_WAITS = """
SELECT 1 FROM deliveries WHERE dispatch_id = :id AND taken_at = :taken
AND outcome IN ('waiting', 'deferred') ORDER BY due LIMIT 1
"""
#: Whether anybody of a dispatch is under way, or in doubt and asked about.
_ASKED = """
SELECT 1 FROM deliveries WHERE dispatch_id = :id AND taken_at = :taken
AND outcome IN ('in_hand', 'in_doubt')
    AND (outcome = 'in_hand' OR due IS NOT NULL) LIMIT 1
"""
#: Whether anybody of a dispatch is in doubt, also where only a person can tell.
_DOUBTED = (
    "SELECT 1 FROM deliveries WHERE dispatch_id = :id AND taken_at = :taken AND outcome = "
    "'in_doubt' LIMIT 1"
)


def _found_by(session: orm.Session, of: Mapping[str, Any], *queries: str) -> bool:
    return any(session.execute(sa.text(query), of).scalar() is not None for query in queries)


def finish_if_done(
    session: orm.Session, dispatch_id: int, taken: dt.datetime, now: dt.datetime
) -> None:
    """A running dispatch with a settled audience is done when nobody is left who may still be
    handed over or asked about; doubts that only a person can settle stay open.

    Its row is locked only when nobody seems left, so that workers on other batches do not wait for
    each other, and then it is looked once more. Two that end at once may each still see the other's
    rows; the sweep finishes such a dispatch.
    """
    of = {"id": dispatch_id, "taken": taken}
    if _found_by(session, of, _WAITS, _ASKED):
        return
    dispatch = locked(session, dispatch_id)
    if not dispatch.sealed or _found_by(session, of, _WAITS, _ASKED):
        return
    if dispatch.state == "running":
        set_state(session, dispatch, "done", now)
    if dispatch.state in ("done", "stopped") and not _found_by(session, of, _DOUBTED):
        dispatch.unsettled = False
