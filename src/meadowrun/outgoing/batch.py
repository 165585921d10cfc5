"""One batch of a dispatch on its way: claimed, judged, filled in, handed over, and written down.

Whatever fails for one person is that person's outcome, with its reason; the others go on.
"""

import dataclasses
import datetime as dt
import re
import time
import zoneinfo
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, NamedTuple

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import clock, signing
from meadowrun.base.cache import Cache
from meadowrun.base.db import driver
from meadowrun.base.errors import GatewayUnavailable
from meadowrun.base.logs import log
from meadowrun.base.manifest import owner_of
from meadowrun.base.settings import Settings
from meadowrun.channels.hand import Hand, Parcel, Reader, Signs
from meadowrun.core.content.compiled import Compiled
from meadowrun.core.content.lines import Json
from meadowrun.core.content.rendering import Renderer
from meadowrun.core.guardrails.verdict import Facts, NoRoom, Verdict, Wait, not_before, verdict
from meadowrun.core.timing.zones import zone_of
from meadowrun.gateways.channels import CHANNELS
from meadowrun.gateways.handing import WHOLE_BATCH, Handed
from meadowrun.messages.feeds import NoAnswer
from meadowrun.messages.models import Edition
from meadowrun.messages.senders import Sender
from meadowrun.messages.values import Filler, Needs, fill_sql, nested
from meadowrun.outgoing import caps, held_out, pace, rules, settling, speeds
from meadowrun.outgoing.claims import (
    NOT_PAUSED,
    TRY_AGAIN,
    Claim,
    Claimed,
    ClaimLost,
    clean,
    is_storable,
)
from meadowrun.outgoing.had import Before
from meadowrun.outgoing.hearing import hear
from meadowrun.outgoing.models import Dispatch
from meadowrun.outgoing.timing import Timing, judge_again
from meadowrun.people.models import Topic
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.segments.facts import facts_sql
from meadowrun.segments.fetching import compiler_for

#: After so many "come again later" the address counts as bounced.
MOST_TRIES = 5
#: Seconds after which a batch makes room for others that wait; who is left of it is free for the
#: next.
SLICE = 10.0
#: Seconds between two looks at whether the dispatch still runs, where a batch leaves as a whole.
LOOK_EVERY = 1.0
#: Outcomes of people to whom it was handed over.
_GONE = frozenset({"delivered", "bounced", "in_doubt"})
RUNS = f"SELECT 1 FROM dispatches s WHERE s.id = :dispatch AND s.state = 'running' AND {NOT_PAUSED}"
#: Templates and documents of the editions this process is sending, by database and edition: an
#: edition never changes.
_renderers: Cache[tuple[Renderer, Json]] = Cache(20)


class _Person(NamedTuple):
    """One claimed person: what to fill in, and what the verdict says at this moment."""

    reader: Reader
    filled: dict[str, Any]
    tries: int
    verdict: Verdict
    #: the name of their zone
    zone: str | None
    portion: int | None
    hour: int | None

    @property
    def contact_id(self) -> int:
        return self.reader.contact_id


class BatchWork:
    """One claimed batch of a dispatch in the hands of this worker."""

    def __init__(self, claim: Claim, settings: Settings):
        self.claim, self.database, self.settings = claim, claim.database, settings
        self.dispatch_id: int = claim.key["dispatch"]
        #: the dispatch was paused or stopped while this batch is handed over
        self.halted = False
        with claim.session() as session:
            dispatch = session.get_one(Dispatch, self.dispatch_id)
            self.channel = CHANNELS[dispatch.channel]
            now = clock.now(session)
            self.gateway = self.channel.gateway(self.database, settings, dispatch.id, now)
            self.taken = dispatch.taken_at
            self.topic_id, self.rule = dispatch.topic_id, dispatch.consent_rule
            self.last_moment = dispatch.last_moment
            self.had = Before.of(dispatch)
            #: as it was when the batch began: what is sent of it does not change
            self.dispatch = dispatch
            claim.key["taken"] = dispatch.taken_at
            self.sender = session.get_one(Sender, dispatch.sender_id)
            self.facts = dispatch.facts
            self.renderer, document = self._edition(session, dispatch.edition_id)
            self.hand: Hand = self.channel.hand(self._parcel(session, dispatch, document, now))
            self.zone = zoneinfo.ZoneInfo(self.settings.timezone)
            self.timing = Timing.of(session, dispatch, self.zone)
            needs = Needs.of(self.renderer.compiled)
            own = {ref for ref in (self.sender.name_ref, self.sender.address_ref) if ref}
            self.needs = dataclasses.replace(needs, refs=needs.refs | own)
            #: whether anything of a letter depends on who signs it
            self.signing = bool(own) or any(ref.startswith("sender.") for ref in needs.refs)
            self.filler = Filler.of(session, self.needs, self.zone, self.settings.feed_hosts)
        self.whole = self.gateway.at_once >= WHOLE_BATCH
        #: what became of people and is not written yet, and whoever is in hand or may come to be
        self.results: list[Handed] = []
        self.left: dict[int, _Person] = {}
        #: who of them waits for a reason of ours
        self.waits: dict[int, Verdict] = {}
        #: who of them was noted as being handed over
        self.begun: set[int] = set()
        #: the addresses of whom it was handed over to, and of those whose server wants it later
        self.handed: list[str] = []
        self.delayed: list[str] = []

    def _parcel(
        self, session: orm.Session, dispatch: Dispatch, document: Json, now: dt.datetime
    ) -> Parcel:
        """What all of a batch has in common."""
        topic = session.get(Topic, dispatch.topic_id) if dispatch.topic_id else None
        key = re.sub(r"[^a-z0-9-]+", "-", topic.key.lower()).strip("-") if topic else "all"
        about = (
            topic.name if topic else self.settings.organisation,
            f"{key or 'topic'}.{self.settings.mail_domain}",
        )
        feedback = ":".join(
            (
                f"{dispatch.owner_kind}{dispatch.owner_id}",
                f"campaign{dispatch.campaign_id or 0}",
                dispatch.channel,
                self.settings.mail_domain,
            )
        )
        return Parcel(
            self.database,
            self.settings,
            self.renderer.compiled,
            document,
            about,
            feedback[:127],
            now,
            rules.rules(session).takes_mail,
        )

    def _edition(self, session: orm.Session, edition_id: int) -> tuple[Renderer, Json]:
        def read() -> tuple[Renderer, Json]:
            edition = session.get_one(Edition, edition_id)
            return Renderer(Compiled.from_json(edition.compiled)), edition.document

        return _renderers.made((self.database.url, edition_id), read)

    def run(self) -> bool:
        """Claims, judges and hands over people who are due. Says whether it makes sense to go on
        with the next at once."""
        with self.claim.session() as session:
            now = clock.now(session)
            if not self._runs(session):
                return False
            people = self._claim(session, now)
            self.left = {person.contact_id: person for person in people if person.verdict.goes}
            self.begun = set(self.left) if self.whole else set()
            stopped = [p for p in people if not p.verdict.goes]
            self.claim.write(
                session,
                now,
                [Handed(p.contact_id, p.verdict.outcome, "") for p in stopped],
                False,
                {},
                {p.contact_id: p.verdict for p in stopped},
            )
            self._judge_behind(session, now, stopped, took=False)
        self.claim.has_people = True
        began = time.monotonic()
        down = bool(self.left) and self._hand_over(now)
        with self.claim.session() as session:
            seconds = time.monotonic() - began
            pace.note(session, self.dispatch_id, seconds, self.handed, self.delayed)
            if self.channel.paced:
                speeds.note(session, now, self.handed, self.delayed)
            settling.finish_if_done(session, self.dispatch_id, self.taken, now)
        return bool(people) and not down

    def _claim(self, session: orm.Session, now: dt.datetime) -> list[_Person]:
        """Claims whoever may go now, and reads what verdict and message need of them, as of this
        moment."""
        claimed = self.claim.take(session, now, self.whole)
        if not claimed:
            return []
        found = self._read(session, now, claimed)
        missing = claimed.keys() - {person.contact_id for person in found}
        # A contact erased since the snapshot: nothing to write to any more.
        unreadable = {r.contact_id for r in self.results}
        gone = [
            Handed(c, "no_address", "the contact no longer exists") for c in missing - unreadable
        ]
        self.claim.write(session, now, [*gone, *self.results], False, {})
        self.results.clear()
        self.hand.claimed(session, [person.reader for person in found])
        return self._in_time(session, now, found)

    def _in_time(
        self, session: orm.Session, now: dt.datetime, people: list[_Person]
    ) -> list[_Person]:
        """Whoever may get it waits for the first moment at which message limits, hours and their
        own clock hold together; after the last moment for nothing any more."""
        if self._is_last(now):
            return people
        numbers = {p.contact_id: p.reader.number for p in people if p.verdict.goes}
        room: dict[int, NoRoom] = {}
        if not self.channel.waits_there:
            zones = {p.contact_id: zone_of(p.zone) or self.zone for p in people}
            room = caps.waits(session, numbers, self.dispatch, now, zones)
        if room or not self.timing.at_once:
            people = [self._at(now, person, room.get(person.contact_id)) for person in people]
        if not self.channel.paced:
            return people
        later = speeds.waits(
            session,
            {p.contact_id: p.reader.address for p in people if p.verdict.goes},
            self.sender.address,
            now,
            self.taken.astimezone(self.zone),
            may_wait=self.rule != "service",
        )
        if not later:
            return people
        return [self._at(now, one, None, later.get(one.contact_id)) for one in people]

    def _at(
        self,
        now: dt.datetime,
        person: _Person,
        room: NoRoom | None,
        later: Wait | None = None,
    ) -> _Person:
        """A person with the verdict of this moment, where nothing else keeps it from them: as
        they have to wait for `room` within message limits, and for `later`."""
        if not person.verdict.goes or later is None and room is None and self.timing.at_once:
            return person
        said = self.timing.verdict(now, person.zone, person.portion, room, person.hour, later)
        return person._replace(verdict=said)

    def _is_last(self, now: dt.datetime) -> bool:
        """Whether the last moment has come."""
        return self.last_moment is not None and now >= self.last_moment

    def _read(
        self,
        session: orm.Session,
        now: dt.datetime,
        claimed: Mapping[int, Claimed],
    ) -> list[_Person]:
        """The claimed people with what is filled in and the verdict on each."""
        ids = list(claimed)
        rows = self._rows(session, now, ids)
        before = self.had.among(session, ids, now)
        inside = self._still_in(session, ids, now)
        compared = held_out.among(session, self.taken.astimezone(self.zone).date(), ids)
        too_late = self._is_last(now) and self.dispatch.at_last == "drop"

        def person(row: Any, mine: Claimed) -> _Person:
            facts = Facts.of(
                row,
                repeated_address=mine.repeated,
                had_before=row.id in before,
                too_late=too_late,
                left_audience=inside is not None and row.id not in inside,
                held_out=row.id in compared,
                control=mine.control,
            )
            return _Person(
                Reader(row.id, mine.number, row.address),
                self._with_event(row.filled, mine.given),
                mine.tries,
                verdict(facts, self.rule),
                row.zone,
                mine.portion,
                mine.hour,
            )

        return [person(row, claimed[row.id]) for row in rows]

    def _rows(self, session: orm.Session, now: dt.datetime, ids: Sequence[int]) -> list[Any]:
        """Facts, address, zone and values of some contacts. Where the database cannot work them
        out for some, those are found by halves: they could not be filled in, and the others go
        on."""
        compiler = compiler_for(Moment(session, dictionary(session), now, self.zone))
        asked = facts_sql(
            self.topic_id,
            (
                f", {self.channel.address} AS address, c.timezone AS zone, "
                f"{fill_sql(self.needs, compiler, self.filler.tables)} AS filled"
            ),
            "LEFT JOIN companies k ON k.id = c.company_id WHERE c.id = ANY(:ids)",
            self.channel.kind.key,
        )
        return self._by_halves(session, sa.text(asked), compiler.values, ids)

    def _by_halves(
        self,
        session: orm.Session,
        asked: sa.TextClause,
        values: Mapping[str, Any],
        ids: Sequence[int],
    ) -> list[Any]:
        try:
            with session.begin_nested():
                return list(session.execute(asked, {**values, "ids": list(ids)}))
        except sa.exc.DBAPIError as problem:
            if problem.connection_invalidated or not isinstance(
                problem, sa.exc.DataError | sa.exc.InternalError
            ):
                raise
            if len(ids) == 1:
                said = f"a value cannot be worked out: {problem.orig}".splitlines()[0]
                self.results.append(Handed(ids[0], "not_rendered", said[:300]))
                return []
        middle = len(ids) // 2
        return [
            *self._by_halves(session, asked, values, ids[:middle]),
            *self._by_halves(session, asked, values, ids[middle:]),
        ]

    def _with_event(self, filled: dict[str, Any], given: dict[str, Any] | None) -> dict[str, Any]:
        """Values with those details of an event that the message speaks of."""
        if not given:
            return filled
        said = {f"event.{key}": value for key, value in given.items()}
        return filled | {ref: value for ref, value in said.items() if ref in self.needs.refs}

    def _still_in(
        self, session: orm.Session, ids: Sequence[int], now: dt.datetime
    ) -> set[int] | None:
        """Who of some contacts is still in the audience; None where nobody asks."""
        owner = owner_of(self.dispatch.owner_kind)
        if not self.dispatch.still_in or owner.still_in is None:
            return None
        return owner.still_in(session, self.dispatch.owner_id, ids, now, self.zone)

    def _letters(self, rows: list[_Person], now: dt.datetime) -> Iterator[Any]:
        """What the gateway of the channel is handed, rendered one by one; whoever cannot be written
        to goes to the results."""
        until = time.monotonic() + SLICE
        self.hand.ready([row.reader for row in rows])
        wrong = self.filler.complete_all([row.filled for row in rows], now)
        for row, problem in zip(rows, wrong, strict=True):
            if self.halted or time.monotonic() > until:
                return
            if isinstance(problem, NoAnswer):
                again = problem.wait and row.tries + 1 < MOST_TRIES
                if again:
                    self.waits[row.contact_id] = not_before(now + TRY_AGAIN, "feed")
                self.results.append(
                    Handed(
                        row.contact_id, "waiting" if again else "not_rendered", str(problem)[:300]
                    )
                )
                continue
            try:
                if problem is not None:
                    raise problem
                made = self._made(row)
            except Exception as failure:
                self.results.append(Handed(row.contact_id, "not_rendered", str(failure)[:300]))
                continue
            yield made

    def _made(self, row: _Person) -> Any:
        """What the gateway is handed for one person. Raises what keeps it from being made."""
        tokens = signing.Tokens(self.settings.secret, row.reader.number, row.contact_id)
        signs = self._signs(row.filled)
        if not is_storable(row.filled):
            raise ValueError(
                "a value holds signs that cannot be stored: a NUL, or half a character"
            )
        values = nested(row.filled, self.facts, tokens)
        values.update(self.hand.values(row.reader))
        return self.hand.make(row.reader, tokens, self.renderer.render(values), signs)

    def _signs(self, filled: dict[str, Any]) -> Signs:
        """The person's own desk contact where both are known, else the sender's.

        Fills in what the message says of its sender, too.
        """
        if not self.signing:
            return Signs(self.sender.name, self.sender.address, self.sender.reply_to)
        name, address = filled.get(self.sender.name_ref), filled.get(self.sender.address_ref)
        signs = (
            Signs(str(name), str(address), "")
            if name and address
            else Signs(self.sender.name, self.sender.address, self.sender.reply_to)
        )
        for ref, value in (
            ("sender.name", signs.name),
            ("sender.address", signs.address),
            ("sender.signature", self.sender.signature),
        ):
            if ref in self.needs.refs:
                filled[ref] = value
        return signs

    def _hand_over(self, now: dt.datetime) -> bool:
        """Hands over as long as the dispatch runs and there is time. What became of people is
        written before the next few leave. Says whether the gateway takes nothing more."""
        down: GatewayUnavailable | None = None
        looked = time.monotonic()
        try:
            try:
                letters = self._letters(list(self.left.values()), now)
                for handed in self.gateway.hand_over(
                    letters, lambda group: self._begin(group, now)
                ):
                    self.results.append(self._tired(handed))
                    if self.whole and time.monotonic() - looked >= LOOK_EVERY:
                        self._look(now)
                        looked = time.monotonic()
            except GatewayUnavailable as problem:
                down = problem
            with self.claim.session() as session:
                self._settle_untold(session, now)
                session.execute(
                    sa.update(Dispatch)
                    .where(Dispatch.id == self.dispatch_id)
                    .values(problem=str(down) if down else "", moved_at=sa.func.clock_timestamp())
                )
        except ClaimLost as loss:
            log.warning(
                "claim lost", **{k: str(v) for k, v in self.claim.key.items()}, problem=str(loss)
            )
            with self.claim.after_loss() as session:
                self._settle_untold(session, now)
            raise
        if down:
            log.warning("gateway away", dispatch=self.dispatch_id, problem=str(down))
        return down is not None

    def _settle_untold(self, session: orm.Session, now: dt.datetime) -> None:
        """Writes what the gateway said; of whom it said nothing it has taken nothing, although they
        were noted."""
        told = {r.contact_id for r in self.results}
        self._keep(session, now)
        self._write(session, now, [Handed(c, "waiting", "") for c in self.begun - told])

    def _begin(self, group: Sequence[Any], now: dt.datetime) -> Sequence[Any]:
        """Notes a few as being handed over, in one transaction with what became of those before.
        Gives those that may leave."""
        asked = {letter.contact_id for letter in group}
        # Also when it is not known whether this is committed: then none of them leaves.
        self.begun |= asked
        with self.claim.session() as session:
            self._keep(session, now)
            people = [self.left[letter.contact_id] for letter in group]
            going = self.claim.begin(
                session,
                now,
                [
                    {"id": p.contact_id, "filled": p.filled, "address": p.reader.address}
                    for p in people
                ],
            )
        self.begun -= asked - going
        # Paused, stopped, or somebody else's by now.
        self.halted = self.halted or len(going) < len(group)
        return [letter for letter in group if letter.contact_id in going]

    def _look(self, now: dt.datetime) -> None:
        with self.claim.session() as session:
            self._keep(session, now)
            self.halted = not self._runs(session)

    def _runs(self, session: orm.Session) -> bool:
        """Whether the dispatch runs, and nothing is paused that it is part of."""
        asked = sa.text(RUNS)
        return session.execute(asked, {"dispatch": self.dispatch_id}).scalar() is not None

    def _tired(self, handed: Handed) -> Handed:
        """After many tries an address that asks to come again later counts as bounced."""
        if handed.outcome == "deferred" and self.left[handed.contact_id].tries + 1 >= MOST_TRIES:
            return Handed(
                handed.contact_id,
                "bounced",
                f"delayed {MOST_TRIES} times; {handed.note}",
            )
        return handed

    def _keep(self, session: orm.Session, now: dt.datetime) -> None:
        """Writes what became of some people, who are left no longer once this is committed."""
        results = list(self.results)
        written = self._write(session, now, results)
        for took in (True, False):
            people = [self.left[r.contact_id] for r in results if (r.outcome in _GONE) == took]
            self._judge_behind(session, now, people, took)
        if self.channel.strikes_off:
            self._note_bounces(
                session,
                [
                    (r, self.left[r.contact_id].reader.number)
                    for r in results
                    if r.outcome == "bounced" and r.contact_id in written
                ],
                now,
            )
        sa.event.listen(session, "after_commit", lambda _: self._kept(results), once=True)

    def _judge_behind(
        self, session: orm.Session, now: dt.datetime, people: Sequence[_Person], took: bool
    ) -> None:
        """What else may wait for the room that some people took, or did not take."""
        if self.dispatch.counts:
            numbers = {person.contact_id: person.reader.number for person in people}
            caps.judge_behind(session, numbers, self.dispatch, now, took)

    def _kept(self, results: list[Handed]) -> None:
        del self.results[: len(results)]
        for handed in results:
            person = self.left.pop(handed.contact_id, None)
            if person is not None and handed.outcome in _GONE:
                self.handed.append(person.reader.address or "")
            elif person is not None and handed.outcome == "deferred":
                self.delayed.append(person.reader.address or "")
            self.begun.discard(handed.contact_id)

    def _write(self, session: orm.Session, now: dt.datetime, results: list[Handed]) -> set[int]:
        """Writes outcomes; values and address with them where the gateway takes no note before, or
        where nothing left."""
        known = {
            r.contact_id: (p.filled, p.reader.address)
            for r in results
            # Of what left it was asked before.
            if (p := self.left.get(r.contact_id)) and (r.outcome in _GONE or is_storable(p.filled))
        }
        return self.claim.write(session, now, results, self.gateway.can_be_asked, known, self.waits)

    def _note_bounces(
        self, session: orm.Session, bounced: list[tuple[Handed, int]], now: dt.datetime
    ) -> None:
        """A refusal because of the address is a hard bounce: it is not written to again until
        corrected. Others count as soft."""
        if not bounced:
            return
        with driver(session).cursor() as cursor:
            cursor.executemany(
                "INSERT INTO reactions (contact_id, at, dispatch_id, delivery, kind, link, "
                "machine, note) VALUES (%s, %s, %s, %s, 'bounced', NULL, FALSE, %s)",
                [
                    (
                        b.contact_id,
                        now,
                        self.dispatch_id,
                        number,
                        ("hard: " if b.hard else "soft: ") + clean(b.note),
                    )
                    for b, number in bounced
                ],
            )
        if self.dispatch.heard:
            hear(session, self.dispatch_id, [b.contact_id for b, _ in bounced], now)
        # What did not arrive takes no room: whoever waits for it is judged again.
        judge_again(session, now, [b.contact_id for b, _ in bounced])
        rules.count_bounces(
            session,
            now,
            [b.contact_id for b, _ in bounced if b.hard],
            [b.contact_id for b, _ in bounced if not b.hard],
        )
