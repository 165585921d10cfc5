"""How a send goes out: snapshot, one verdict per person, batches, hand-over, and what a dead worker left behind.

Every delivery is a row under one outcome. A worker takes a chunk under an advisory lock that PostgreSQL lets go of
when the worker dies; it moves a batch from waiting to in_hand and commits, hands it over, writes what became of it and
commits. Rows found in_hand while nobody holds the chunk's lock belong to a dead worker: they are in doubt, and the
gateway is asked by Message-ID before anything is sent again.
"""

import contextlib
import dataclasses
import datetime as dt
import time
import zoneinfo
from collections.abc import Iterator
from typing import Any

import orjson
import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import clock, jobs, signing
from meadowrun.base.db import driver, ensure_months
from meadowrun.base.errors import GatewayUnavailable, Invalid
from meadowrun.base.jobs import context
from meadowrun.base.logs import log
from meadowrun.base.settings import Settings
from meadowrun.core.content.compiled import Compiled, Renderer
from meadowrun.core.content.push import SYSTEMS, payload
from meadowrun.core.guardrails.limits import stopped_by
from meadowrun.core.guardrails.verdict import Facts, verdict
from meadowrun.gateways import push, sms
from meadowrun.gateways.email import EmailGateway, Handed, Letter, gateway
from meadowrun.messages.feeds import NoAnswer
from meadowrun.messages.models import Edition
from meadowrun.messages.values import Filler, Needs, fill_sql, nested
from meadowrun.people import keeping
from meadowrun.people.queries import NUMBER, dictionary
from meadowrun.segments.queries import compiler_for, facts_sql
from meadowrun.sends import cards
from meadowrun.sends.models import Send, Sender
from meadowrun.sends.queries import audience_of, channel_of, picked_sql

#: channel → the address to write to, over contacts `c`
COLUMN = {"push": "c.id::text", "card": "c.id::text", "email": "c.email", "sms": NUMBER}
#: People a worker takes in hand at once; what may be in doubt when it dies.
CHUNK = 1000
#: After so many "come again later" the address counts as bounced.
MOST_TRIES = 5
#: seconds between two looks at whether the send still runs
LOOK_EVERY = 1.0
TRY_AGAIN = dt.timedelta(minutes=15)
#: Templates of the editions this process is sending, by database and edition: an edition never changes.
_renderers: dict[tuple[str, int], Renderer] = {}
_MOST_RENDERERS = 20


def message_id(settings: Settings, key: str) -> str:
    """The Message-ID follows from the delivery's key, so that the gateway can be asked by it."""
    return f"<{key}@{settings.mail_domain}>"


@jobs.task("sends.take")
def take(send_id: int) -> None:
    """The snapshot: settles who is in the audience, once, in one transaction, and seals it."""
    with context().database.session() as session:
        send = session.get(Send, send_id, with_for_update=True)
        if send is None or send.state != "taking" or send.sealed:
            return
        now = clock.now(session)
        settings = context().settings
        try:
            who = audience_of(session, send, dictionary(session), now, zoneinfo.ZoneInfo(settings.timezone))
        except Invalid as problem:
            send.state, send.problem = "draft", str(problem)
            return
        people, values = picked_sql(send, who, channel_of(session, send))
        if send.ceiling is not None:
            going = session.execute(sa.text(f"SELECT count(place) FROM ({people}) p"), values).scalar_one()
            if problem := stopped_by(going, send.ceiling, send.ceiling_rule):
                send.state, send.problem = "draft", f"Nothing went. {problem}"
                return
        taken = now.replace(microsecond=0)
        ensure_months(session, taken.date(), taken.date())
        session.execute(sa.text(
            "INSERT INTO deliveries (contact_id, send_id, taken_at, chunk, outcome, repeated, held) "
            "SELECT id, :send, :taken, (row_number() OVER (ORDER BY id) - 1) / :chunk, "
            f"CASE WHEN place > :most THEN 'over_ceiling' ELSE 'waiting' END, rank > 1, held FROM ({people}) x"),
            {**values, "send": send.id, "taken": taken, "chunk": CHUNK, "most": send.ceiling})
        size = session.execute(sa.text("SELECT count(*) FROM deliveries WHERE send_id = :id"),
                               {"id": send.id}).scalar_one()
        if size > 2000:
            # Without fresh statistics the claims of a large send are planned as if it were small.
            session.execute(sa.text("ANALYZE deliveries"))
        send.taken_at, send.audience_size, send.sealed, send.state = taken, size, True, "running"
        session.flush()
        for chunk in range((size + CHUNK - 1) // CHUNK):
            jobs.enqueue(session, "sends.chunk", send_id=send.id, chunk=chunk)
        if not size:
            finish_if_done(session, send.id, send.taken_at, now)


@contextlib.contextmanager
def _chunk_lock(send_id: int, chunk: int) -> Iterator[bool]:
    """True when this process now works on the chunk. The lock dies with the process's connection."""
    key = {"s": send_id, "c": chunk}
    with context().database.engine.connect() as pooled:
        connection = pooled.execution_options(isolation_level="AUTOCOMMIT")
        mine = connection.execute(sa.text("SELECT pg_try_advisory_lock(:s, :c)"), key).scalar()
        try:
            yield bool(mine)
        finally:
            if mine:
                try:
                    connection.execute(sa.text("SELECT pg_advisory_unlock(:s, :c)"), key)
                except sa.exc.DBAPIError:
                    # The connection is lost, and the lock with it.
                    connection.invalidate()


@jobs.task("sends.chunk")
def hand_over_chunk(send_id: int, chunk: int) -> None:
    """Hands one chunk of a send over, as far as it may go now. Safe to run any number of times, anywhere."""
    with _chunk_lock(send_id, chunk) as mine:
        if not mine:
            return
        work = _Chunk(send_id, chunk)
        work.settle()
        work.run()


@dataclasses.dataclass(frozen=True, slots=True)
class _Person:
    """One claimed person: what to fill in, and what the verdict says at this moment."""

    contact_id: int
    address: str
    filled: dict[str, Any]
    tries: int
    verdict: str


class _Chunk:
    """One chunk in the hands of this worker."""

    def __init__(self, send_id: int, chunk: int):
        self.database, self.settings = context().database, context().settings
        self.key = {"send": send_id, "chunk": chunk}
        #: the send was paused or stopped while this chunk is handed over
        self.halted = False
        with self.database.session() as session:
            send = session.get_one(Send, send_id)
            self.channel = channel_of(session, send)
            self.gateway = self._gateway(clock.now(session))
            self.taken = send.taken_at
            self.topic_id, self.rule = send.topic_id, send.consent_rule
            self.key["taken"] = send.taken_at
            self.sender = session.get_one(Sender, send.sender_id)
            self.facts = send.facts
            place = (self.database.url, send.edition_id or 0)
            if place not in _renderers:
                while len(_renderers) >= _MOST_RENDERERS:
                    _renderers.pop(next(iter(_renderers)))
                _renderers[place] = Renderer(Compiled.from_json(session.get_one(Edition, send.edition_id).compiled))
            self.renderer = _renderers[place]
            self.zone = zoneinfo.ZoneInfo(self.settings.timezone)
            needs = Needs.of(self.renderer.compiled)
            own = {ref for ref in (self.sender.name_ref, self.sender.address_ref) if ref}
            self.needs = dataclasses.replace(needs, refs=needs.refs | own)
            #: whether anything of a letter depends on who signs it
            self.signing = bool(own) or any(ref.startswith("sender.") for ref in needs.refs)
            self.filler = Filler.of(session, self.needs, self.zone, self.settings.feed_hosts)

    def _gateway(self, now: dt.datetime) -> EmailGateway | sms.SmsGateway | push.PushGateway | cards.LaidReady:
        if self.channel == "card":
            return cards.LaidReady(self.database, self.settings, self.key["send"], now)
        if self.channel == "push":
            return push.PushGateway(self.settings, now.timestamp(), lambda device: self._device_gone(device, now))
        return sms.gateway(self.settings) if self.channel == "sms" else gateway(self.settings)

    def _device_gone(self, device: int, now: dt.datetime) -> None:
        with self.database.session() as session:
            session.execute(sa.text("UPDATE push_devices SET gone_at = :now WHERE id = :id"), {"id": device, "now": now})

    def _devices(self, ids: list[int]) -> dict[int, tuple[push.Device, ...]]:
        """The devices of some people that gave permission."""
        found: dict[int, tuple[push.Device, ...]] = {}
        with self.database.session() as session:
            for row in session.execute(sa.text("SELECT contact_id, id, endpoint, p256dh, auth, kind FROM push_devices WHERE gone_at IS NULL "
                                               "AND contact_id = ANY(:ids) ORDER BY id"), {"ids": ids}):
                found[row[0]] = (*found.get(row[0], ()), push.Device(*row[1:]))
        return found

    def settle(self) -> None:
        """Rows in_hand now were left by a worker that died: asks the gateway what became of them.

        They stay in_hand until the answer is written, so that nobody takes the send for done meanwhile. What the
        gateway cannot tell is in doubt.
        """
        with self.database.session() as session:
            left = [row[0] for row in session.execute(sa.text(
                "SELECT contact_id FROM deliveries WHERE send_id = :send AND taken_at = :taken AND chunk = :chunk "
                "AND outcome IN ('in_hand', 'in_doubt')"), self.key)]
        if not left:
            return
        keys = {signing.make(self.settings.secret, self.key["send"], c): c for c in left}
        ids = keys if self.channel != "email" else {message_id(self.settings, key): c for key, c in keys.items()}
        said = self.gateway.took(list(ids))
        results = []
        for message, contact in ids.items():
            if message in said:
                results.append(Handed(contact, "delivered" if said[message] else "waiting", "settled by asking the mail server"))
            else:
                results.append(Handed(contact, "in_doubt", "the worker died while handing this over"))
        with self.database.session() as session:
            session.get(Send, self.key["send"], with_for_update=True)
            self._write(session, results, {}, {})
            self._left_by_stopping(session)

    def run(self) -> None:
        """Claims, judges and hands over everybody of the chunk who may go now."""
        with self.database.session() as session:
            state = session.execute(sa.select(Send.state).where(Send.id == self.key["send"])).scalar()
            if state != "running":
                return
            now = clock.now(session)
            rows = self._claim(session, now)
            self._write(session, [Handed(p.contact_id, p.verdict, "") for p in rows if p.verdict != "go"], {}, {})
            if not rows:
                finish_if_done(session, self.key["send"], self.taken, now)
        self._hand_over([p for p in rows if p.verdict == "go"], now)

    def _claim(self, session: orm.Session, now: dt.datetime) -> list[_Person]:
        """Moves whoever waits to in_hand and reads what verdict and message need of them, as of this moment."""
        claimed = {contact: (tries, flags) for contact, tries, *flags in session.execute(sa.text(
            "UPDATE deliveries SET outcome = 'in_hand', at = :now, not_before = NULL WHERE send_id = :send AND taken_at = :taken AND "
            "chunk = :chunk AND (outcome = 'waiting' OR outcome = 'deferred' AND not_before <= :now) "
            "RETURNING contact_id, tries, repeated, held"), {**self.key, "now": now}).all()}
        if not claimed:
            return []
        compiler = compiler_for(session, dictionary(session), now, self.zone)
        facts = facts_sql(self.topic_id, f", {COLUMN[self.channel]} AS address, {fill_sql(self.needs, compiler, self.filler.tables)} AS filled",
                          "LEFT JOIN companies k ON k.id = c.company_id WHERE c.id = ANY(:ids)", self.channel)
        rows = session.execute(sa.text(facts), compiler.values | {"ids": list(claimed)}).all()
        found = [_Person(ident, address, filled, claimed[ident][0], verdict(Facts(*known, *claimed[ident][1]), self.rule))
                 for ident, *known, address, filled in rows]
        missing = claimed.keys() - {person.contact_id for person in found}
        # A contact erased since the snapshot: nothing to write to any more.
        self._write(session, [Handed(c, "no_address", "the contact no longer exists") for c in missing], {}, {})
        if self.renderer.compiled.short and self.renderer.compiled.links:
            session.execute(sa.text("INSERT INTO short_codes (code, send_id, contact_id, at) SELECT code, :send, contact, :now FROM "
                                    "unnest(CAST(:codes AS text[]), CAST(:ids AS bigint[])) AS x(code, contact) ON CONFLICT DO NOTHING"),
                            {"send": self.key["send"], "now": now, "ids": [p.contact_id for p in found],
                             "codes": [self._code(p.contact_id) for p in found]})
        return found

    def _code(self, contact_id: int) -> str:
        return signing.short(self.settings.secret, self.key["send"], contact_id)

    def _letters(self, rows: list[_Person], now: dt.datetime, unrendered: list[Handed]) -> Iterator[Any]:
        """What the gateway of the channel is handed, rendered one by one; whoever cannot be written to goes to `unrendered`."""
        devices = self._devices([row.contact_id for row in rows]) if self.channel == "push" else {}
        wrong = self.filler.complete_all([row.filled for row in rows], now)
        for row, problem in zip(rows, wrong, strict=True):
            if self.halted:
                return
            if isinstance(problem, NoAnswer):
                again = problem.wait and row.tries + 1 < MOST_TRIES
                unrendered.append(Handed(row.contact_id, "deferred" if again else "not_rendered", str(problem)[:300]))
                continue
            key = signing.make(self.settings.secret, self.key["send"], row.contact_id)
            sender = self._signs(row.filled)
            try:
                if problem is not None:
                    raise problem
                values = nested(row.filled, self.facts, key)
                if self.channel == "sms":
                    values["short"] = self._code(row.contact_id)
                mail = self.renderer.render(values)
            except Exception as failure:
                unrendered.append(Handed(row.contact_id, "not_rendered", str(failure)[:300]))
                continue
            if self.channel == "push" and mail.push is not None:
                there = tuple(d for d in devices.get(row.contact_id, ()) if d.kind in mail.push.get("systems", SYSTEMS))
                yield push.Notice(key, row.contact_id, there, payload(mail.subject, mail.text.strip(), mail.push), mail.push["ttl"])
                continue
            if self.channel == "card":
                yield cards.Card(key, row.contact_id)
                continue
            if self.channel == "sms":
                yield sms.Text(key, row.contact_id, self.settings.sms_sender, row.address, mail.text)
                continue
            yield Letter(
                key=key, contact_id=row.contact_id, from_name=sender[0], from_address=sender[1],
                reply_to=sender[2], to=row.address, return_path=f"bounce+{key}@{self.settings.mail_domain}",
                subject=mail.subject, html=mail.html, text=mail.text, date=now.timestamp(),
                message_id=message_id(self.settings, key), unsubscribe=f"{self.settings.public_url}/u/{key}")

    def _signs(self, filled: dict[str, Any]) -> tuple[str, str, str]:
        """Name, address and reply address: the person's own desk contact where both are known, else the sender's.

        Fills in what the message says of its sender, too.
        """
        if not self.signing:
            return self.sender.name, self.sender.address, self.sender.reply_to
        name, address = filled.get(self.sender.name_ref), filled.get(self.sender.address_ref)
        signs = (str(name), str(address), "") if name and address else (self.sender.name, self.sender.address, self.sender.reply_to)
        for ref, value in (("sender.name", signs[0]), ("sender.address", signs[1]), ("sender.signature", self.sender.signature)):
            if ref in self.needs.refs:
                filled[ref] = value
        return signs

    def _hand_over(self, rows: list[_Person], now: dt.datetime) -> None:
        """Hands over as long as the send runs; what became of people is written once a second, so that it can be followed."""
        left = {row.contact_id: row for row in rows}
        results: list[Handed] = []
        down: GatewayUnavailable | None = None
        looked = time.monotonic()
        try:
            for handed in self.gateway.hand_over(self._letters(rows, now, results)):
                if handed.outcome == "deferred" and left[handed.contact_id].tries + 1 >= MOST_TRIES:
                    handed = Handed(handed.contact_id, "bounced", f"asked to come again {MOST_TRIES} times; {handed.note}")
                results.append(handed)
                if time.monotonic() - looked >= LOOK_EVERY:
                    with self.database.session() as session:
                        self._keep(session, results, left, now)
                        # Shared: workers on other chunks look, too, while whoever pauses or stops waits for all of them.
                        self.halted = session.execute(sa.select(Send.state).where(Send.id == self.key["send"])
                                                      .with_for_update(read=True)).scalar() != "running"
                        self._left_by_stopping(session)
                    results.clear()
                    looked = time.monotonic()
        except GatewayUnavailable as problem:
            down = problem
        with self.database.session() as session:
            self._keep(session, results, left, now)
            # What was not handed over goes back: the server never saw the end of it.
            self._write(session, [Handed(c, "waiting", "") for c in left], {}, {})
            session.execute(sa.update(Send).where(Send.id == self.key["send"]).values(problem=str(down) if down else ""))
            self._left_by_stopping(session)
            finish_if_done(session, self.key["send"], self.taken, now)
        if down:
            log.warning("mail server away", send=self.key["send"], problem=str(down))

    def _keep(self, session: orm.Session, results: list[Handed], left: dict[int, _Person], now: dt.datetime) -> None:
        """Writes what became of some people, who are left no longer."""
        people = {r.contact_id: left.pop(r.contact_id) for r in results}
        self._write(session, results, {c: person.filled for c, person in people.items()},
                    {c: person.address for c, person in people.items()}, again=now + TRY_AGAIN)
        if self.channel == "email":
            self._note_bounces(session, [r for r in results if r.outcome == "bounced"], now)

    def _left_by_stopping(self, session: orm.Session) -> None:
        """When the send was stopped meanwhile, what came back unsent is not waiting any more. The send's row is held by then, so
        that stopping either sees these rows or is seen here."""
        session.execute(sa.text(
            "UPDATE deliveries d SET outcome = 'stopped' FROM sends s WHERE s.id = d.send_id AND s.state = 'stopped' "
            "AND d.send_id = :send AND d.taken_at = :taken AND d.chunk = :chunk AND d.outcome IN ('waiting', 'deferred')"), self.key)

    def _note_bounces(self, session: orm.Session, bounced: list[Handed], now: dt.datetime) -> None:
        """A refusal because of the address is a hard bounce: it is not written to again until corrected. Others count as soft."""
        if not bounced:
            return
        with driver(session).cursor() as cursor:
            cursor.executemany(
                "INSERT INTO reactions (contact_id, at, send_id, kind, link, machine, note) "
                "VALUES (%s, %s, %s, 'bounced', NULL, FALSE, %s)",
                [(b.contact_id, now, self.key["send"], ("hard: " if b.hard else "soft: ") + b.note) for b in bounced])
        keeping.count_bounces(session, now, [b.contact_id for b in bounced if b.hard], [b.contact_id for b in bounced if not b.hard])

    def _write(self, session: orm.Session, results: list[Handed], filled: dict[int, Any], address: dict[int, str],
               again: dt.datetime | None = None) -> None:
        """Writes many outcomes in one statement."""
        if not results:
            return
        session.execute(sa.text(
            "UPDATE deliveries d SET outcome = v.outcome, note = nullif(v.note, ''), "
            "tries = d.tries + (v.outcome = 'deferred')::int, filled = coalesce(v.filled, d.filled), "
            "address = coalesce(v.address, d.address), "
            "not_before = CASE WHEN v.outcome = 'deferred' THEN CAST(:again AS timestamptz) END "
            "FROM jsonb_to_recordset(CAST(:rows AS jsonb)) AS v(id bigint, outcome text, note text, filled jsonb, address text) "
            "WHERE d.send_id = :send AND d.taken_at = :taken AND d.contact_id = v.id"),
            {**self.key, "again": again, "rows": orjson.dumps([
                {"id": r.contact_id, "outcome": r.outcome, "note": r.note, "filled": filled.get(r.contact_id),
                 "address": address.get(r.contact_id)} for r in results]).decode()})


def finish_if_done(session: orm.Session, send_id: int, taken: dt.datetime | None, now: dt.datetime) -> None:
    """A running send is done when nobody is left who may still be handed over; doubts stay open for a person.

    The send's row is locked only then, so that workers on other chunks do not wait for each other. Two that end at once
    may each still see the other's rows in hand; the sweep finishes such a send.
    """
    left = session.execute(sa.text(
        "SELECT 1 FROM deliveries WHERE send_id = :id AND taken_at = :taken "
        "AND outcome IN ('waiting', 'in_hand', 'deferred') LIMIT 1"), {"id": send_id, "taken": taken}).scalar()
    if left is None:
        session.execute(sa.text("UPDATE sends SET state = 'done', finished_at = :now WHERE id = :id AND state = 'running'"),
                        {"id": send_id, "now": now})
