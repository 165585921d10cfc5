"""`./meadowrun bench`: builds a world of any size once, then measures each thing several times
beside its baseline."""

import argparse
import dataclasses
import json
import pathlib
import shutil
import statistics
import sys
import time
from collections.abc import Callable

import psycopg

from meadowrun.base import jobs, memory
from meadowrun.base.cluster import Cluster
from meadowrun.base.db import Database
from meadowrun.base.schema import migrate
from meadowrun.base.settings import Settings
from meadowrun.features import load_tasks

ROOT = pathlib.Path(__file__).resolve().parents[3]


@dataclasses.dataclass(frozen=True)
class Measurement:
    """`ours` and `baseline` in `unit`; `ratio` is ours ÷ baseline of the same run; `goal` is
    at_most or at_least a number."""

    name: str
    ours: float
    baseline: float
    unit: str
    ratio: float
    goal: str
    met: bool

    def to_json(self) -> dict[str, object]:
        return dataclasses.asdict(self)


@dataclasses.dataclass
class World:
    """What measurements run on."""

    database: Database
    settings: Settings
    scale: int
    cluster: Cluster

    def median(self, work: Callable[[], object], times: int = 5) -> float:
        """The median of several runs, in seconds, after one to warm up."""
        work()
        taken = []
        for _ in range(times):
            started = time.perf_counter()
            work()
            taken.append(time.perf_counter() - started)
        return statistics.median(taken)


def compare(
    name: str,
    ours: float,
    baseline: float,
    unit: str,
    at_most: float | None = None,
    at_least: float | None = None,
) -> Measurement:
    """A measurement judged by its goal; one of at_most and at_least is given."""
    ratio = ours / baseline if baseline else float("inf")
    met = ratio <= at_most if at_most is not None else ratio >= (at_least or 0)
    goal = f"≤ {at_most}" if at_most is not None else f"≥ {at_least}"
    return Measurement(name, round(ours, 4), round(baseline, 4), unit, round(ratio, 3), goal, met)


def build(scale: int) -> World:
    """The world of this size: made on first use, kept below .meadowrun/bench for the next."""
    from meadowrun.demo.load import load

    folder = ROOT / ".meadowrun" / "bench" / str(scale)
    folder.mkdir(parents=True, exist_ok=True)
    cluster = Cluster(folder / "postgresql", ("jit=off", "synchronous_commit=off"), 54900)
    base = cluster.start()
    with psycopg.connect(f"{base}/postgres", autocommit=True) as connection:
        if not (folder / "loaded").exists():
            # What an interrupted build left behind is no world to measure on.
            connection.execute("DROP DATABASE IF EXISTS bench WITH (FORCE)")
            connection.execute("CREATE DATABASE bench")
    settings = Settings.read(
        {
            "MEADOWRUN_DATABASE_URL": f"{base}/bench",
            "MEADOWRUN_SECRET": "b" * 40,
            "MEADOWRUN_PUBLIC_URL": "http://127.0.0.1:1",
            "MEADOWRUN_SMTP_URL": "null:",
            "MEADOWRUN_SMS_URL": "null:",
            "MEADOWRUN_MAIL_DOMAIN": "mail.example",
            "MEADOWRUN_SECOND_STEP": "nobody",
        }
    )
    database = Database(settings.database_url)
    migrate(database)
    if not (folder / "loaded").exists():
        print(f"building a world of {scale:,} contacts, once …", file=sys.stderr, flush=True)
        load(
            database,
            settings,
            scale,
            "http://127.0.0.1:2",
            lambda text: print(f"  {text}", file=sys.stderr, flush=True),
            3,
        )
        with psycopg.connect(f"{base}/bench", autocommit=True) as connection:
            connection.execute("VACUUM ANALYZE")
        (folder / "loaded").write_text("yes")
    load_tasks(True)
    jobs.set_context(jobs.Context(database, settings))
    # As the web server and the worker do once they are ready.
    memory.settle()
    return World(database, settings, scale, cluster)


def main(arguments: list[str]) -> None:
    reader = argparse.ArgumentParser(prog="meadowrun bench", description=__doc__)
    reader.add_argument(
        "--scale",
        type=int,
        default=24_000,
        help="contacts in the world (events are about 25 for each)",
    )
    reader.add_argument("--only", help="one measurement, by name")
    reader.add_argument("--json", action="store_true", help="one JSON object on the last line")
    reader.add_argument("--forget", action="store_true", help="delete the kept worlds and stop")
    given = reader.parse_args(arguments)
    if given.forget:
        for folder in (ROOT / ".meadowrun" / "bench").glob("*"):
            Cluster(folder / "postgresql").stop("immediate")
            shutil.rmtree(folder)
        return
    from meadowrun.bench.measurements import MEASUREMENTS
    from meadowrun.bench.sending import forget_leftovers, guard

    if given.only and given.only not in MEASUREMENTS:
        raise SystemExit(
            f"meadowrun: there is no measurement {given.only!r}; there are: "
            f"{', '.join(MEASUREMENTS)}"
        )
    world = build(given.scale)
    try:
        forget_leftovers(world)
        with world.database.session() as session:
            guard(session)
        found = []
        print(
            f"{'measurement':44} {'ours':>10} {'baseline':>10} {'unit':8} {'ratio':>7}  goal",
            flush=True,
        )
        for name, measure in MEASUREMENTS.items():
            if given.only in (None, name):
                for m in measure(world):
                    found.append(m)
                    print(
                        f"{m.name:44} {m.ours:>10.2f} {m.baseline:>10.2f} {m.unit:8} "
                        f"{m.ratio:>7.3f}  {m.goal} "
                        f"{'met' if m.met else 'NOT MET'}",
                        flush=True,
                    )
        if given.json:
            print(
                json.dumps(
                    {"scale": given.scale, "measurements": [m.to_json() for m in found]},
                    ensure_ascii=False,
                )
            )
    finally:
        world.database.close()
        world.cluster.stop()
