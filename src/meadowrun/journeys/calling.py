"""Webhook steps: another server is told of people who come there, and they go on by its answer.

A call is written down in the transaction that has somebody wait, and made after it; a call whose
answer was lost is made again under the same key, so that the other side can tell.
"""

import dataclasses
import datetime as dt
import email.utils
import hashlib
import hmac
import urllib.parse
from collections.abc import Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor

import orjson
import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import Database
from meadowrun.base.settings import Settings
from meadowrun.core.journeys.details import ANSWER, answered
from meadowrun.core.journeys.steps import WebhookStep
from meadowrun.core.language import Wording
from meadowrun.gateways import outgoing

#: So many calls are made at once, of these so many to one host, each within so many seconds.
AT_ONCE, TO_ONE_HOST, SECONDS = 16, 4, 10.0
#: What is not answered is tried again after so many minutes, and then given up.
AGAIN_AFTER = (1, 5, 30, 120, 360)
#: Whoever made a call and was never heard of again: it is made again after that.
_LOST = dt.timedelta(minutes=2)
#: So many failures in a row keep a step from calling for so long.
MOST_FAILURES, REST = 20, dt.timedelta(hours=1)
#: So much of an answer is kept, in bytes.
MOST_ANSWER = 10_000

#: Writes calls down and has people wait for their answer.
_ASK = """
INSERT INTO journey_calls (entry_id, journey_id, step, address, key, next_at)
SELECT v.id, :journey, :step, :address, v.key, :now
FROM jsonb_to_recordset(CAST(:rows AS jsonb)) AS v(id bigint, key text)
ON CONFLICT (key) DO NOTHING
"""
_WAIT = """
UPDATE journey_entries SET phase = 'calling', due = NULL WHERE id = ANY(:entries)
"""
#: Takes calls that are due, so that nobody else makes them meanwhile: of each host a few only, and
#: none of a step that rests. What is asked of whoever left or was erased is not made any more.
_CLAIM = """
WITH resting AS (
    SELECT s.journey_id, s.step FROM (SELECT DISTINCT journey_id, step FROM journey_calls
        WHERE state = 'waiting') s
    CROSS JOIN LATERAL (SELECT state, done_at FROM journey_calls c
        WHERE c.journey_id = s.journey_id AND c.step = s.step AND c.done_at IS NOT NULL
        ORDER BY c.done_at DESC LIMIT :failures) f
    GROUP BY 1, 2 HAVING count(*) = :failures AND bool_and(f.state = 'failed')
        AND max(f.done_at) > CAST(:now AS timestamptz) - CAST(:rest AS interval)),
due AS (
    SELECT c.id FROM journey_calls c JOIN journey_entries e ON e.id = c.entry_id
    JOIN journeys j ON j.id = c.journey_id
    WHERE c.state = 'waiting' AND c.next_at <= :now AND e.phase = 'calling'
    AND j.state IN ('running', 'winding_down')
    AND NOT EXISTS (SELECT 1 FROM resting r WHERE r.journey_id = c.journey_id AND r.step = c.step)
    ORDER BY c.next_at LIMIT :most FOR UPDATE OF c SKIP LOCKED)
UPDATE journey_calls c SET next_at = CAST(:now AS timestamptz) + CAST(:lost AS interval),
    tries = tries + 1
FROM due d, journey_entries e JOIN contacts p ON p.id = e.contact_id
JOIN journeys j ON j.id = e.journey_id
WHERE c.id = d.id AND e.id = c.entry_id
RETURNING c.id, c.address, c.key, c.tries, c.step, j.id AS journey_id, j.name, e.id AS entry_id,
    e.details, e.tester, p.id AS contact_id, p.reference, p.email, p.first_name, p.last_name
"""
_ANSWERED = """
UPDATE journey_calls SET state = :state, next_at = :next_at, status = :status, said = :said,
    answer = :answer, done_at = CASE WHEN :state = 'waiting' THEN NULL
        ELSE CAST(:now AS timestamptz) END
WHERE id = :id AND state = 'waiting'
"""
#: Keeps what was answered with the entry, where branches and messages find it.
_KEPT = """
UPDATE journey_entries e SET details = CASE WHEN jsonb_typeof(e.details) = 'object'
    THEN e.details ELSE '{}'::jsonb END || CAST(:said AS jsonb)
FROM journey_calls c WHERE c.id = :id AND e.id = c.entry_id
"""
#: People whose call is answered or given up: entry, journey, step, whether, when.
_SETTLED = """
SELECT e.id, e.journey_id, e.step, c.state = 'done' AS answered, c.done_at
FROM journey_entries e JOIN journeys j ON j.id = e.journey_id
JOIN LATERAL (SELECT state, done_at FROM journey_calls c WHERE c.entry_id = e.id
    AND c.step = e.step ORDER BY c.id DESC LIMIT 1) c ON c.done_at IS NOT NULL
WHERE e.phase = 'calling' AND j.state = ANY(:moving) ORDER BY e.id LIMIT :most
FOR UPDATE OF e SKIP LOCKED
"""
#: Steps that rest: journey and step.
_RESTING = """
SELECT f.journey_id, f.step FROM (SELECT journey_id, step, state, done_at,
    row_number() OVER (PARTITION BY journey_id, step ORDER BY done_at DESC) AS place
    FROM journey_calls WHERE done_at IS NOT NULL AND journey_id = :journey) f
WHERE f.place <= :failures GROUP BY 1, 2
HAVING count(*) = :failures AND bool_and(f.state = 'failed')
    AND max(f.done_at) > CAST(:now AS timestamptz) - CAST(:rest AS interval)
"""


@dataclasses.dataclass(frozen=True, slots=True)
class Call:
    """One call that is to be made."""

    id: int
    address: str
    key: str
    #: how often it was made, this time counted
    tries: int
    body: bytes


@dataclasses.dataclass(frozen=True, slots=True)
class Called:
    """What came of a call."""

    id: int
    #: waiting (it is made again), done or failed
    state: str
    status: int | None
    said: str
    answer: str = ""
    #: when it is made again
    again: dt.timedelta = dt.timedelta()


@dataclasses.dataclass(frozen=True, slots=True)
class Settled:
    """Somebody whose call is answered, or was given up."""

    id: int
    journey_id: int
    step: str
    answered: bool
    at: dt.datetime


def ask(
    session: orm.Session,
    journey_id: int,
    step: WebhookStep,
    people: Iterable[tuple[int, dt.datetime]],
    now: dt.datetime,
) -> None:
    """Has people, entry and arrival each, wait for the answer to a call."""
    rows = [
        {"id": entry, "key": f"{entry}-{step.id}-{int(at.timestamp())}"} for entry, at in people
    ]
    values = {
        "rows": orjson.dumps(rows).decode(),
        "journey": journey_id,
        "step": step.id,
        "address": step.address,
        "now": now,
    }
    session.execute(sa.text(_ASK), values)
    session.execute(sa.text(_WAIT), {"entries": [row["id"] for row in rows]})


def settled(session: orm.Session, moving: Sequence[str], most: int) -> list[Settled]:
    """People who can go on since their call is answered or given up, locked."""
    values = {"moving": list(moving), "most": most}
    return [Settled(*row) for row in session.execute(sa.text(_SETTLED), values)]


def resting(session: orm.Session, journey_id: int, now: dt.datetime) -> list[str]:
    """The steps of a journey that failed so often that they rest."""
    values = {"journey": journey_id, "failures": MOST_FAILURES, "now": now, "rest": REST}
    return [row.step for row in session.execute(sa.text(_RESTING), values)]


def call_due(database: Database, settings: Settings, now: dt.datetime) -> int:
    """Makes the calls that are due; says how many."""
    with database.session() as session:
        calls = _claimed(session, now)
    if not calls:
        return 0
    key = signing_key(settings)
    with ThreadPoolExecutor(AT_ONCE) as pool:
        answers = list(pool.map(lambda one: make(one, key, settings.inner, now), calls))
    with database.session() as session:
        for one in answers:
            values = {
                "id": one.id,
                "state": one.state,
                "status": one.status,
                "said": one.said[:300],
                "answer": one.answer,
                "now": now,
                "next_at": now + one.again,
            }
            session.execute(sa.text(_ANSWERED), values)
            if one.state == "done" and (said := answered(one.answer)):
                kept = {"id": one.id, "said": orjson.dumps(said).decode()}
                session.execute(sa.text(_KEPT), kept)
    return len(calls)


def _claimed(session: orm.Session, now: dt.datetime) -> list[Call]:
    values = {
        "now": now,
        "most": AT_ONCE * 4,
        "lost": _LOST,
        "failures": MOST_FAILURES,
        "rest": REST,
    }
    found: list[Call] = []
    hosts: dict[str, int] = {}
    late = []
    for row in session.execute(sa.text(_CLAIM), values):
        host = urllib.parse.urlsplit(row.address).hostname or ""
        hosts[host] = hosts.get(host, 0) + 1
        if hosts[host] > TO_ONE_HOST or len(found) >= AT_ONCE:
            late.append(row.id)
            continue
        body = {
            "journey": {"id": row.journey_id, "name": row.name},
            "step": row.step,
            "entry": row.entry_id,
            "test": row.tester,
            "contact": {
                "id": row.contact_id,
                "reference": row.reference,
                "email": row.email,
                "first_name": row.first_name,
                "last_name": row.last_name,
            },
            "event": {
                key: value
                for key, value in (row.details or {}).items()
                if not key.startswith(ANSWER)
            },
        }
        found.append(Call(row.id, row.address, row.key, row.tries, orjson.dumps(body)))
    if late:
        # One too many for now: as if it had not been taken.
        session.execute(
            sa.text(
                "UPDATE journey_calls SET next_at = :now, tries = tries - 1 WHERE id = ANY(:ids)"
            ),
            {"ids": late, "now": now},
        )
    return found


def signing_key(settings: Settings) -> bytes:
    """What calls are signed with: the other side is given it, and can tell by it that a call is
    ours."""
    made = hmac.new(settings.secret.encode(), b"webhooks of journeys", hashlib.sha256)
    return made.hexdigest().encode()


def signature(key: bytes, moment: str, body: bytes) -> str:
    """HMAC-SHA-256 (RFC 2104) of the moment, a full stop and the body, in hexadecimal figures."""
    return hmac.new(key, moment.encode() + b"." + body, hashlib.sha256).hexdigest()


def make(call: Call, key: bytes, inner: frozenset[str], now: dt.datetime) -> Called:
    """Makes one call: answered where the other side says so, made again later where it asks for
    that or cannot be reached, failed where it refuses or was tried often enough."""
    moment = str(int(now.timestamp()))
    headers = {
        "Content-Type": "application/json",
        "Idempotency-Key": call.key,
        "Meadowrun-Moment": moment,
        "Meadowrun-Signature": signature(key, moment, call.body),
    }
    try:
        answer = outgoing.ask("POST", call.address, call.body, headers, SECONDS, inner, MOST_ANSWER)
    except outgoing.Refused as problem:
        return Called(call.id, "failed", None, str(problem))
    except (OSError, outgoing.TooLong) as problem:
        return _later(call, None, str(problem), None, now)
    said = f"{answer.status} {answer.reason}".strip()
    if 200 <= answer.status < 300:
        text = answer.body.decode("utf-8", "replace").replace("\x00", "")
        return Called(call.id, "done", answer.status, said, text)
    if answer.status in (408, 425, 429) or answer.status >= 500:
        return _later(call, answer.status, said, answer.retry_after, now)
    return Called(call.id, "failed", answer.status, said)


def _later(call: Call, status: int | None, said: str, wish: str | None, now: dt.datetime) -> Called:
    """Made again later, as the other side wishes; failed after the last try."""
    if call.tries > len(AGAIN_AFTER):
        return Called(call.id, "failed", status, said)
    again = wished(wish, now) or dt.timedelta(minutes=AGAIN_AFTER[call.tries - 1])
    return Called(call.id, "waiting", status, said, again=again)


def wished(text: str | None, now: dt.datetime) -> dt.timedelta | None:
    """How long to wait by a Retry-After (RFC 9110, 10.2.3): seconds or a date, a day at the most;
    None where it says nothing that can be used."""
    if not text:
        return None
    if text.strip().isdecimal():
        found = dt.timedelta(seconds=min(int(text.strip()), 86_400))
    else:
        try:
            found = email.utils.parsedate_to_datetime(text) - now
        except (TypeError, ValueError):
            return None
    return min(max(found, dt.timedelta(seconds=1)), dt.timedelta(days=1))


#: What is said of a journey with a webhook that rests.
RESTS = Wording(
    "A webhook failed %(most)s times in a row and is tried again in an hour.", most=MOST_FAILURES
)
