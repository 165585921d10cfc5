"""Details of events that did not fit the type of their kind: kept aside, and put back once somebody
has said what they mean."""

import dataclasses
import json
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import audit
from meadowrun.base.audit import Actor
from meadowrun.base.clock import now as clock_now
from meadowrun.base.db import rows_changed
from meadowrun.base.errors import Invalid
from meadowrun.core import details, values
from meadowrun.core.language import Wording
from meadowrun.core.values import read_json
from meadowrun.core.wording import count_of
from meadowrun.people.models import EventKind

#: Different values shown at once.
MOST = 50
_WAITING = """SELECT detail, value::text, count(*) FROM details_aside WHERE kind_id = :kind
GROUP BY detail, value ORDER BY count(*) DESC, detail, value::text LIMIT :most"""
#: Two events of one person at one moment may both lack the detail: each value goes to one of them.
_PUT_BACK = """WITH gone AS (
    DELETE FROM details_aside WHERE kind_id = :kind AND detail = :detail
    AND value = CAST(:value AS jsonb)
    RETURNING contact_id, at),
wanted AS (SELECT contact_id, at, count(*) AS n FROM gone GROUP BY contact_id, at),
lacking AS (
    SELECT e.ctid AS place, e.tableoid AS part, e.at, row_number() OVER (PARTITION BY e.contact_id,
    e.at) AS turn, w.n
    FROM wanted w JOIN events e ON e.contact_id = w.contact_id AND e.at = w.at AND e.kind_id = :kind
    WHERE NOT jsonb_exists(coalesce(e.details, '{}'), :detail)),
changed AS (
    UPDATE events e SET details = coalesce(e.details, '{}') || jsonb_build_object(CAST(:detail AS
    text), CAST(:held AS jsonb))
    FROM lacking l WHERE e.ctid = l.place AND e.tableoid = l.part AND e.at = l.at
    AND l.turn <= l.n RETURNING 1)
SELECT (SELECT count(*) FROM gone), (SELECT count(*) FROM changed)"""
_LEFT_OUT = (
    "DELETE FROM details_aside WHERE kind_id = :kind AND detail = :detail AND value = "
    "CAST(:value AS jsonb)"
)


@dataclasses.dataclass(frozen=True)
class Waiting:
    """One value that did not fit, and how many events gave it. `value` is JSON, `shown` for people,
    `why` follows it."""

    detail: str
    label: str
    value: str
    shown: str
    why: str
    events: int


def waiting(session: orm.Session, kind: EventKind) -> list[Waiting]:
    """What waits to be fixed for a kind of event, the commonest first."""
    found = []
    for detail, value, count in session.execute(sa.text(_WAITING), {"kind": kind.id, "most": MOST}):
        given = read_json(value)
        spec = kind.details.get(detail, {"label": detail, "type": "text"})
        shown = (
            "an empty text" if given == "" else f"“{given}”" if isinstance(given, str) else value
        )
        found.append(Waiting(detail, spec["label"], value, shown, _why(spec["type"], given), count))
    return found


def _why(kind: str, given: Any) -> str:
    try:
        details.held(kind, given)
    except values.ValueProblem as problem:
        return str(problem)
    return "fits now"


def put_back(
    session: orm.Session, actor: Actor, kind: EventKind, detail: str, value: str, given: str
) -> int:
    """Gives every event that came with this value the one that somebody typed instead. Returns how
    many events got it. Raises Invalid where what was typed does not fit either."""
    spec = kind.details.get(detail)
    if spec is None:
        raise Invalid("This detail does not exist any more.", "detail")
    try:
        held = values.typed(spec["type"], given)
    except values.ValueProblem as problem:
        raise Invalid(f"{spec['label']}: {problem}.", "given") from None
    if held is None:
        raise Invalid(
            Wording("%(label)s: type what it should say, or delete it.", label=spec["label"]),
            "given",
        )
    taken, changed = session.execute(
        sa.text(_PUT_BACK),
        {"kind": kind.id, "detail": detail, "value": _json(value), "held": json.dumps(held)},
    ).one()
    audit.record(
        session,
        actor,
        clock_now(session),
        "put back a detail",
        "event_kind",
        kind.id,
        kind.did,
        detail=spec["label"],
        was=value[:100],
        now=held,
        events=changed,
        kept_aside=taken,
    )
    return int(changed)


def leave_out(session: orm.Session, actor: Actor, kind: EventKind, detail: str, value: str) -> str:
    """Forgets a value that did not fit; the events stay without it. Returns how many there were, in
    words."""
    gone = rows_changed(
        session.execute(
            sa.text(_LEFT_OUT), {"kind": kind.id, "detail": detail, "value": _json(value)}
        )
    )
    audit.record(
        session,
        actor,
        clock_now(session),
        "left out a detail",
        "event_kind",
        kind.id,
        kind.did,
        detail=detail,
        was=value[:100],
    )
    return count_of(gone, "value")


def _json(text: str) -> str:
    try:
        return json.dumps(read_json(text))
    except ValueError:
        raise Invalid("This value does not wait any more.", "value") from None
