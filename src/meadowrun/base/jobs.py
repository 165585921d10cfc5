"""Background work: Procrastinate on the same database, so that a job is committed with its data.

Each feature's `jobs.py` registers its tasks with `task`. `enqueue` is the only way to start a job:
it stands on the caller's own connection, in the web process and inside a worker alike. Jobs are
batches, never one person at a time, and every task must stand being run twice, because jobs are
at-least-once.
"""

import contextlib
import dataclasses
import functools
from collections.abc import Callable
from typing import Any

import procrastinate
import sqlalchemy as sa
from procrastinate import manager
from procrastinate.tasks import configure_task
from sqlalchemy import orm

from meadowrun.base.db import Database, driver
from meadowrun.base.logs import log
from meadowrun.base.reports import Reports
from meadowrun.base.settings import Settings

#: Never opened: only its SQL is used, on the caller's connection. A worker's own connector would
#: hand out its
#: asynchronous connection there and fail.
_enqueuing = manager.JobManager(procrastinate.SyncPsycopgConnector())
#: Lanes of a worker, with how many jobs each does side by side: nothing in one waits for anything
#: in another.
#: waited: what a person waits for; sending: batches that leave; sweeps: short looks at what is due;
#: upkeep: the rest.
LANES = {"waited": 2, "sending": 2, "sweeps": 1, "upkeep": 1}
#: Seconds without a sign of life after which a worker counts as dead; it gives one every HEARTBEAT.
STALLED_AFTER, HEARTBEAT = 20.0, 4.0
#: Added to a priority, to go before all jobs that have none of it (an integer of the database).
BEFORE_OTHERS = 1_000_000_000
_tasks: dict[str, "_Task"] = {}


@dataclasses.dataclass(frozen=True)
class _Task:
    function: Callable[..., None]
    lane: str
    #: a cron line with seconds as its sixth field, in UTC
    every: str | None


@dataclasses.dataclass(frozen=True)
class Context:
    """What a job needs of its process."""

    database: Database
    settings: Settings

    @functools.cached_property
    def reports(self) -> Reports:
        """Where heavy reads go."""
        return Reports(self.database, self.settings.reports_database_url)


_context: Context | None = None


def set_context(value: Context) -> None:
    """Called once by the worker (and by tests) before any job runs."""
    global _context
    _context = value


def context() -> Context:
    if _context is None:
        raise RuntimeError("no job context: call set_context first")
    return _context


def task(
    name: str, lane: str, every: str | None = None
) -> Callable[[Callable[..., None]], Callable[..., None]]:
    """Registers a function as the task `name` in one of LANES; `every` is a cron line with seconds
    as its sixth field, in UTC."""
    if lane not in LANES:
        raise KeyError(f"no lane is called {lane}")

    def register(function: Callable[..., None]) -> Callable[..., None]:
        _tasks[name] = _Task(function, lane, every)
        return function

    return register


def schedules() -> dict[str, str]:
    """The tasks that run by themselves, with their cron lines."""
    return {name: known.every for name, known in _tasks.items() if known.every}


def enqueue(session: orm.Session, name: str, priority: int = 0, **arguments: Any) -> None:
    """Adds a job in the caller's transaction: committed with it, rolled back with it."""
    if name not in _tasks:
        raise KeyError(f"no task is called {name}")
    configure_task(
        name=name,
        job_manager=_enqueuing,
        connection=driver(session),
        priority=priority,
        queue=_tasks[name].lane,
    ).defer(**arguments)


def turn_of(session: orm.Session, name: str) -> int:
    """The priority of the job of a task whose turn it is, 0 when none waits. Who begins there, and
    goes down by one for each further job, takes turns with those that wait already."""
    found = session.execute(
        sa.text(
            "SELECT max(priority) FROM procrastinate_jobs WHERE status = 'todo' AND task_name = "
            ":name AND priority < :most"
        ),
        {"name": name, "most": BEFORE_OTHERS // 2},
    ).scalar()
    return found or 0


def run_here(name: str, **arguments: Any) -> None:
    """Runs a task's function in this process at once: for tests and for the demo."""
    _tasks[name].function(**arguments)


def worker_app(database_url: str) -> procrastinate.App:
    """The application that a worker process runs: all tasks, the periodic ones on their cron
    lines."""
    app = procrastinate.App(
        connector=procrastinate.PsycopgConnector(
            conninfo=database_url,
            min_size=1,
            max_size=10,
            kwargs={"options": "-c timezone=UTC -c jit=off"},
        )
    )

    def wrap(function: Callable[..., None], periodic: bool) -> Callable[..., None]:
        def run(*arguments: Any, **named: Any) -> None:
            try:
                if periodic:
                    function()
                else:
                    function(**named)
            except Exception:
                log.exception("job failed", task=function.__name__, arguments=named)
                raise

        run.__name__ = function.__name__
        return run

    for name, known in _tasks.items():
        # A look that still waits is not added once more; nothing of these is tried again by itself.
        once = name if known.every else None
        registered = app.task(name=name, queue=known.lane, retry=False, queueing_lock=once)(
            wrap(known.function, known.every is not None)
        )
        if known.every:
            app.periodic(cron=known.every, periodic_id=name)(registered)
    return app


@task("jobs.tidy", "sweeps", every="* * * * * */10")
def tidy() -> None:
    """Frees jobs of workers that died and forgets finished jobs older than two days."""
    with (
        context().database.session() as session,
        contextlib.closing(driver(session).cursor()) as cursor,
    ):
        cursor.execute("SELECT procrastinate_prune_stalled_workers_v1(%s)", (STALLED_AFTER,))
        cursor.execute(
            "UPDATE procrastinate_jobs SET status = 'failed' WHERE status = 'doing' AND "
            "worker_id IS NULL"
        )
        cursor.execute(
            "DELETE FROM procrastinate_jobs WHERE status IN ('succeeded', 'failed', 'cancelled') "
            "AND id < (SELECT coalesce(max(job_id), 0) FROM procrastinate_events WHERE at < now() "
            "- interval '2 days')"
        )
