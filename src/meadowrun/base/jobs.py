"""Background work: Procrastinate on the same database, so that a job is committed with its data.

Each feature's `jobs.py` registers its tasks with `task`. `enqueue` is the only way to start a job: it stands on the
caller's own connection, in the web process and inside a worker alike. Jobs are batches, never single people, and
every task must stand being run twice, because jobs are at-least-once.
"""

import contextlib
import dataclasses
from collections.abc import Callable
from typing import Any

import procrastinate
from procrastinate import manager
from procrastinate.tasks import configure_task
from sqlalchemy import orm

from meadowrun.base.db import Database, driver
from meadowrun.base.logs import log
from meadowrun.base.settings import Settings

#: Never opened: only its SQL is used, on the caller's connection. A worker's own connector would hand out its
#: asynchronous connection there and fail.
_enqueuing = manager.JobManager(procrastinate.SyncPsycopgConnector())
_tasks: dict[str, tuple[Callable[..., None], str | None]] = {}


@dataclasses.dataclass(frozen=True)
class Context:
    """What a job needs of its process."""

    database: Database
    settings: Settings


_context: Context | None = None


def set_context(value: Context) -> None:
    """Called once by the worker (and by tests) before any job runs."""
    global _context
    _context = value


def context() -> Context:
    if _context is None:
        raise RuntimeError("no job context: call set_context first")
    return _context


def task(name: str, every: str | None = None) -> Callable[[Callable[..., None]], Callable[..., None]]:
    """Registers a function as the task `name`; `every` is a cron line with seconds as its sixth field, in UTC."""
    def register(function: Callable[..., None]) -> Callable[..., None]:
        _tasks[name] = (function, every)
        return function
    return register


def enqueue(session: orm.Session, name: str, priority: int = 0, **arguments: Any) -> None:
    """Adds a job in the caller's transaction: committed with it, rolled back with it."""
    if name not in _tasks:
        raise KeyError(f"no task is called {name}")
    configure_task(name=name, job_manager=_enqueuing, connection=driver(session), priority=priority,
                   queue="default").defer(**arguments)


def run_here(name: str, **arguments: Any) -> None:
    """Runs a task's function in this process: for tests and for the demo's loader."""
    _tasks[name][0](**arguments)


def worker_app(database_url: str) -> procrastinate.App:
    """The application that a worker process runs: all tasks, the periodic ones on their cron lines."""
    app = procrastinate.App(connector=procrastinate.PsycopgConnector(
        conninfo=database_url, min_size=1, max_size=6, kwargs={"options": "-c timezone=UTC -c jit=off"}))

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

    for name, (function, every) in _tasks.items():
        registered = app.task(name=name, queue="default", retry=False)(wrap(function, every is not None))
        if every:
            app.periodic(cron=every, periodic_id=name)(registered)
    return app


@task("jobs.tidy", every="* * * * *")
def tidy() -> None:
    """Frees jobs of workers that died and forgets finished jobs older than two days."""
    with context().database.session() as session, contextlib.closing(driver(session).cursor()) as cursor:
        cursor.execute(
            "UPDATE procrastinate_jobs SET status = 'failed' WHERE status = 'doing' AND worker_id IS NULL")
        cursor.execute(
            "DELETE FROM procrastinate_jobs WHERE status IN ('succeeded', 'failed', 'cancelled') AND id < "
            "(SELECT coalesce(max(job_id), 0) FROM procrastinate_events WHERE at < now() - interval '2 days')")

