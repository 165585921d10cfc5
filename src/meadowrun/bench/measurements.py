"""The measurements themselves. Each yields what it found; goals are ratios, from the project's own
figures."""

import csv
import datetime as dt
import functools
import io
import statistics
import time
import zoneinfo
from collections.abc import Callable, Iterator
from typing import Any

import jinja2
import sqlalchemy as sa

from meadowrun.base import cache, clock, jobs, large
from meadowrun.base.audit import SYSTEM
from meadowrun.base.db import driver
from meadowrun.base.signing import PURPOSES
from meadowrun.bench import hosts, opening, rehearsing, sending, walking
from meadowrun.bench import waiting as waits
from meadowrun.bench.run import Measurement, World, compare
from meadowrun.core import people_file as pf
from meadowrun.core.audience import definition as d
from meadowrun.core.audience.dates import Clock
from meadowrun.core.content.compiled import Compiled
from meadowrun.core.content.rendering import Renderer
from meadowrun.imports import actions as imports
from meadowrun.imports.models import Import
from meadowrun.messages.models import Edition
from meadowrun.messages.values import nested
from meadowrun.people import sampling
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.segments import fetching, looking, sets
from meadowrun.segments import queries as segments
from meadowrun.segments.compile import Compiler
from meadowrun.tracking import taking

ZONE = zoneinfo.ZoneInfo("Europe/London")
LINES: list[dict[str, Any]] = [
    {
        "id": "a",
        "kind": "field",
        "field": "region",
        "op": "is",
        "value": ["Farrow Vale", "Upper Tarn"],
    },
    {"id": "b", "kind": "field", "field": "membership", "op": "not_blank"},
    {"id": "c", "kind": "field", "field": "involvement", "op": "at_least", "value": 10},
    {
        "id": "d",
        "kind": "event",
        "event": "visited",
        "times": {"op": "at_least", "n": 1},
        "span": {"last": 365},
    },
    {
        "id": "e",
        "kind": "event",
        "event": "ticket_bought",
        "times": {"op": "at_least", "n": 2},
        "span": {"last": 200},
    },
    {"id": "f", "kind": "field", "field": "language", "op": "is", "value": ["en"]},
    {"id": "g", "kind": "field", "field": "renewal_date", "op": "in_next", "value": 180},
    {"id": "h", "kind": "event", "event": "donated", "did": False, "span": {"last": 90}},
]


def count(world: World) -> Iterator[Measurement]:
    """A compiled segment's count beside the same asked by hand."""
    with world.database.session() as session:
        words, now = dictionary(session), clock.now(session)
        definition = d.parse({"lines": LINES[:5]}, words)
        kinds = {key: spec.id for key, spec in words.events.items()}
        zones = fetching.zones(session)

        def since(days: int) -> str:
            """Events since the person's own midnight so many days ago, as one would write it."""
            zone = "coalesce(z.timezone, 'Europe/London')"
            return (
                "JOIN contacts z ON z.id = e.contact_id WHERE e.at >= CAST(CAST(CAST(:now AS "
                f"timestamptz) AT TIME ZONE {zone} AS date) "
                f"- {days} AS timestamp) AT TIME ZONE {zone}"
            )

        by_hand = sa.text(
            'SELECT count(*) FROM contacts c WHERE (c.attributes @> \'{"region": "Farrow '
            "Vale\"}' OR c.attributes @> "
            "'{\"region\": \"Upper Tarn\"}') AND c.attributes->>'membership' <> '' AND "
            "(c.attributes->>'involvement')::numeric >= 10 "
            f"AND c.id IN (SELECT e.contact_id FROM events e {since(365)} AND e.kind_id = "
            f"{kinds['visited']}) AND c.id IN "
            f"(SELECT e.contact_id FROM events e {since(200)} AND e.kind_id = "
            f"{kinds['ticket_bought']} GROUP BY e.contact_id "
            "HAVING count(*) >= 2)"
        )
        values = {"now": now}
        assert (
            segments.count(Moment(session, words, now, ZONE), definition)
            == session.execute(by_hand, values).scalar_one()
        )
        ours = world.median(lambda: segments.count(Moment(session, words, now, ZONE), definition))
        baseline = world.median(lambda: session.execute(by_hand, values).scalar_one())
        yield compare(
            "segment count ÷ hand-written SQL", ours * 1000, baseline * 1000, "ms", at_most=0.5
        )
        compiling = world.median(
            lambda: Compiler(words, Clock(now, ZONE), zones).definition(definition), 20
        )
        yield compare("compiling it ÷ 10 ms", compiling * 1000, 10.0, "ms", at_most=1.0)


def sieve(world: World) -> Iterator[Measurement]:
    """The whole sieve after editing one of eight lines, and with nothing kept."""
    with world.database.session() as session:
        words, now = dictionary(session), clock.now(session)
        definition = d.parse({"lines": LINES}, words)
        keep, looking.KEEP = looking.KEEP, dt.timedelta(hours=1)
        try:
            cache.forget()
            looking.look(Moment(session, words, now, ZONE), definition)
            step = iter(range(1, 10_000))

            def edit() -> None:
                lines = [*LINES[:2], {**LINES[2], "value": 10 + next(step) / 1000}, *LINES[3:]]
                looking.look(Moment(session, words, now, ZONE), d.parse({"lines": lines}, words))

            def fetch() -> None:
                fetching.id_sets(
                    session,
                    ["CAST((c.attributes->>'involvement') AS numeric) >= :v"],
                    {"v": 10 + next(step) / 1000},
                )

            yield compare(
                "sieve after one edit ÷ fetching that line",
                world.median(edit) * 1000,
                world.median(fetch) * 1000,
                "ms",
                at_most=1.15,
            )

            def nothing_kept() -> None:
                # What each can be reached by is no part of the sieve and stays.
                sets.forget_lines()
                with world.database.session() as other:
                    other.execute(sa.text("DELETE FROM kept_sets"))
                looking.look(Moment(session, words, now, ZONE), definition)

            prefixes = []
            for n in range(1, len(LINES) + 1):
                part = d.parse({"lines": LINES[:n]}, words)
                prefixes.append(
                    world.median(
                        functools.partial(segments.count, Moment(session, words, now, ZONE), part),
                        3,
                    )
                )
            whole = world.median(nothing_kept, 3)
            yield compare(
                "sieve, nothing kept ÷ dearest prefix",
                whole * 1000,
                max(prefixes) * 1000,
                "ms",
                at_most=1.8,
            )
            yield compare(
                "sieve, nothing kept ÷ a query for each line",
                whole * 1000,
                sum(prefixes) * 1000,
                "ms",
                at_most=1.0,
            )
        finally:
            looking.KEEP = keep


def estimate(world: World) -> Iterator[Measurement]:
    """In a large world: first figures after an edit, from the sample, beside the exact ones; and
    how often the truth is in the range."""
    if world.scale <= large.LARGE:
        return
    with world.database.session() as session:
        sampling.make(session, clock.machine_now())
        session.execute(sa.text("TRUNCATE kept_sets"))
    edits = [
        {
            "id": "x",
            "kind": "event",
            "event": event,
            "times": {"op": "at_least", "n": n},
            "span": {"last": days},
        }
        for event in ("visited", "ticket_bought", "page_viewed", "donated")
        for n, days in ((1, 17), (1, 123), (2, 321), (3, 222), (5, 400))
    ]
    taken: tuple[list[float], list[float]] = [], []
    inside = 0
    with world.database.session() as session:
        words, now = dictionary(session), clock.now(session)
        begun = d.parse({"lines": LINES[:3]}, words)
        for edit in edits:
            definition = d.parse({"lines": [*LINES[:3], edit]}, words)
            looking.look(Moment(session, words, now, ZONE), begun)
            started = time.perf_counter()
            guessed = looking.look(
                Moment(session, words, now, ZONE), definition, sets.STALE, estimate=True
            )
            taken[0].append(time.perf_counter() - started)
            started = time.perf_counter()
            exact = looking.look(Moment(session, words, now, ZONE), definition)
            taken[1].append(time.perf_counter() - started)
            inside += guessed.between[0] <= exact.sieve.size <= guessed.between[1]
    yield compare(
        "first figures after an edit ÷ exact",
        statistics.median(taken[0]) * 1000,
        statistics.median(taken[1]) * 1000,
        "ms",
        at_most=0.2,
    )
    yield compare("true number inside the range ÷ edits", inside, len(edits), "", at_least=0.95)


def ingest(world: World) -> Iterator[Measurement]:
    """Events through the API's code path, 1,000 a batch, beside bare COPY of the same rows into the
    same table."""
    batches, size = 40, 1000
    seconds: tuple[list[float], list[float]] = [], []
    with world.database.session() as session:
        now = clock.now(session)
        addresses = (
            session.execute(sa.text("SELECT id FROM contacts ORDER BY id LIMIT 1000"))
            .scalars()
            .all()
        )
    for batch in range(batches):
        # Turn by turn, so that a busy moment of the machine hits both.
        for turn, through in enumerate((True, False)):
            data = [
                {
                    "event": "page_viewed",
                    "contact": addresses[i % len(addresses)],
                    "id": f"{now.timestamp()}-{batch}-{i}",
                    "at": now.isoformat(),
                    "details": {"page": "/tickets"},
                }
                for i in range(size)
            ]
            started = time.perf_counter()
            with world.database.session() as session:
                if through:
                    taking.take_events(session, now, "bench", data)
                else:
                    with (
                        driver(session).cursor() as cursor,
                        cursor.copy(
                            "COPY events (contact_id, at, kind_id, details) FROM STDIN"
                        ) as copy,
                    ):
                        copy.write(
                            "".join(
                                f'{row["contact"]}\t{now.isoformat()}\t1\t{{"page": "/tickets"}}\n'
                                for row in data
                            )
                        )
            seconds[turn].append(time.perf_counter() - started)
    # The fastest batch of each: batches are short, and a machine that is held back in turns says
    # nothing about either side.
    rates = [size / min(each) for each in seconds]
    with world.database.session() as session:
        session.execute(sa.text("DELETE FROM events WHERE at = :now"), {"now": now})
    # Nothing is left to be tidied up in the background of the next measurement.
    with world.database.engine.connect().execution_options(
        isolation_level="AUTOCOMMIT"
    ) as connection:
        connection.execute(sa.text("VACUUM (ANALYZE) events, event_receipts"))
    yield compare("event ingest ÷ bare COPY", rates[0], rates[1], "rows/s", at_least=0.6)


def importing(world: World) -> Iterator[Measurement]:
    """A CSV with everything checked (a dry run: the same work, rolled back) beside bare COPY of the
    same people.

    The baseline goes into contacts itself, with all that its indexes hold already, and is rolled
    back, too.
    """
    rows = 200_000
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(["Email", "First name", "Last name", "Town", "Membership"])
    for i in range(rows):
        writer.writerow([f"bench{i}@import.example", "Ann", f"Rook {i}", "Farrow", "Patron"])
    content = out.getvalue().encode()
    with world.database.session() as session:
        found = imports.upload(session, SYSTEM, clock.now(session), "bench.csv", content)
        found.state, ident = "checking", found.id
        found.plan = pf.Plan(tuple(found.plan["targets"]), consent="bench").to_json()
    started = clock.machine_now()
    jobs.run_here("imports.run", import_id=ident, dry=True)
    ours = rows / (clock.machine_now() - started).total_seconds()
    with world.database.session() as session:
        assert session.get_one(Import, ident).dry_counts["rows"] == rows
        ready = [
            (
                10**9 + i,
                f"bench{i}@import.example",
                f"bench{i}@import.example",
                True,
                "Ann",
                f"Rook {i}",
                "Farrow",
                '{"membership": "Patron"}',
                f"ann rook {i} bench{i}@import.example",
                f"rook {i} ann",
                started,
                started,
            )
            for i in range(rows)
        ]
        started = clock.machine_now()
        with (
            driver(session).cursor() as cursor,
            cursor.copy(
                "COPY contacts (id, email, email_key, email_usable, first_name, last_name, town, "
                "attributes, search_key, name_key, "
                "created_at, updated_at) FROM STDIN"
            ) as copy,
        ):
            for row in ready:
                copy.write_row(row)
        bare = rows / (clock.machine_now() - started).total_seconds()
        session.rollback()
    with world.database.engine.connect().execution_options(
        isolation_level="AUTOCOMMIT"
    ) as connection:
        # What was rolled back must not slow down what is measured next.
        connection.execute(sa.text("VACUUM ANALYZE contacts"))
    yield compare("import, everything checked ÷ bare COPY", ours, bare, "rows/s", at_least=0.35)


def rendering(world: World) -> Iterator[Measurement]:
    """One personal email beside Jinja alone on the same templates."""
    with world.database.session() as session:
        compiled = Compiled.from_json(session.scalars(sa.select(Edition).limit(1)).one().compiled)
    values = nested(dict.fromkeys(compiled.refs, "Ann"), {}, dict.fromkeys(PURPOSES, "T" * 27))
    values["fact"] = {r.removeprefix("fact."): "x" for r in compiled.refs if r.startswith("fact.")}
    renderer = Renderer(compiled)
    plain = jinja2.Environment(autoescape=True)
    plain.filters.update(day=lambda x: x, titled=lambda x: x, number=lambda x: x)
    templates = [plain.from_string(t) for t in (compiled.subject, compiled.html, compiled.text)]

    def ours() -> None:
        for _ in range(2000):
            renderer.render(values)

    def jinja() -> None:
        for _ in range(2000):
            for template in templates:
                template.render(values)

    yield compare(
        "rendering an email ÷ Jinja alone",
        world.median(ours) / 2,
        world.median(jinja) / 2,
        "ms",
        at_most=0.5,
    )


MEASUREMENTS: dict[str, Callable[[World], Iterator[Measurement]]] = {
    "count": count,
    "sieve": sieve,
    "estimate": estimate,
    "ingest": ingest,
    "import": importing,
    "render": rendering,
    "dispatch": sending.dispatch,
    "sign": sending.sign,
    "smtp": sending.smtp,
    "pages": opening.pages,
    "memory": sending.memory,
    "waiting": waits.waiting,
    "hosts": hosts.hosts,
    "journeys": walking.journeys,
    "crowds": walking.crowds,
    "wakes": rehearsing.wakes,
    "rehearsal": rehearsing.rehearsal,
}
