"""Moves of people on journeys: each is written with its line in the log, in one statement for all
of them."""

import dataclasses
import datetime as dt
from collections.abc import Iterable, Sequence

import orjson
import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.core.journeys.flat import END

#: Makes moves: each with its line in the log, behind those that were made on the way there. People
#: may stay where they come to until a moment, in a phase.
_MOVE = """
WITH moves AS (
    SELECT * FROM jsonb_to_recordset(CAST(:rows AS jsonb))
    AS v(id bigint, from_step text, to_step text, at timestamptz, because text, state text,
        delivery bigint, phase text, due timestamptz)),
earlier AS (
    SELECT * FROM jsonb_to_recordset(CAST(:earlier AS jsonb))
    AS v(id bigint, place int, from_step text, to_step text, at timestamptz, because text,
        delivery bigint)),
logged AS (
    INSERT INTO journey_moves (entry_id, at, from_step, to_step, because, delivery)
    SELECT l.id, l.at, coalesce(l.from_step, e.step), l.to_step, l.because, l.delivery
    FROM (
        SELECT id, place, from_step, to_step, at, because, delivery FROM earlier
        UNION ALL
        SELECT id, NULL, from_step, to_step, at, because, delivery FROM moves) l
    JOIN journey_entries e ON e.id = l.id WHERE e.state = 'inside'
    ORDER BY l.id, l.place NULLS LAST)
UPDATE journey_entries e SET step = m.to_step, arrived_at = m.at, state = m.state,
    phase = CASE m.state WHEN 'inside' THEN m.phase ELSE 'over' END,
    due = CASE m.state WHEN 'inside' THEN m.due END,
    because = CASE m.state WHEN 'inside' THEN '' WHEN 'finished' THEN 'end' ELSE m.because END,
    ended_at = CASE m.state WHEN 'inside' THEN NULL ELSE m.at END,
    hold_until = NULL, delivery = NULL, dispatch_id = NULL, attempt = 0
FROM moves m WHERE e.id = m.id AND e.state = 'inside'
"""
#: Has people stay on their step, until a moment or until something happens.
_STAY = """
UPDATE journey_entries e SET phase = :phase, due = v.due
FROM jsonb_to_recordset(CAST(:rows AS jsonb)) AS v(id bigint, due timestamptz) WHERE e.id = v.id
"""


@dataclasses.dataclass(frozen=True, slots=True)
class Move:
    """Where one entry goes, when, and why."""

    id: int
    to_step: str
    at: dt.datetime
    because: str
    #: inside, finished or left; worked out from the step unless said
    state: str = ""
    delivery: int | None = None
    #: until when they wait there; empty: they are looked at as they come
    waits: dt.datetime | None = None

    def waiting(self, until: dt.datetime) -> "Move":
        """The same, to wait there until a moment."""
        return Move(self.id, self.to_step, self.at, self.because, self.state, self.delivery, until)

    def line(self, from_step: str | None) -> dict[str, object]:
        """Its line in the log; from the step on which they are where none is given."""
        return {
            "id": self.id,
            "from_step": from_step,
            "to_step": self.to_step,
            "at": self.at,
            "because": self.because,
            "delivery": self.delivery,
        }

    def to_json(self, from_step: str | None) -> dict[str, object]:
        """The last move that somebody makes at once."""
        finished = "left" if self.because in ("exit", "jumped") else "finished"
        return {
            **self.line(from_step),
            "state": self.state or (finished if self.to_step == END else "inside"),
            "phase": "waiting" if self.waits else "due",
            "due": self.waits or self.at,
        }


def move(session: orm.Session, moves: Iterable[Move]) -> None:
    """Makes moves, each with its line in the log; several of one entry as they are given, as if it
    had come to the last place at once."""
    earlier: list[dict[str, object]] = []
    last: dict[int, tuple[Move, str | None]] = {}
    for one in moves:
        from_step = None
        if one.id in last:
            before, came_from = last[one.id]
            earlier.append({**before.line(came_from), "place": len(earlier)})
            from_step = before.to_step
        last[one.id] = one, from_step
    if last:
        rows = [one.to_json(from_step) for one, from_step in last.values()]
        values = {
            "rows": orjson.dumps(rows).decode(),
            "earlier": orjson.dumps(earlier).decode(),
        }
        session.execute(sa.text(_MOVE), values)


def stay(session: orm.Session, phase: str, until: Sequence[tuple[int, dt.datetime]]) -> None:
    """Has entries stay on their step until a moment each."""
    rows = [{"id": ident, "due": due} for ident, due in until]
    if rows:
        values = {"phase": phase, "rows": orjson.dumps(rows).decode()}
        session.execute(sa.text(_STAY), values)
