"""The processes behind the web server: the worker and the listener for what comes back by mail."""

import contextlib
import importlib
import signal
import threading

from meadowrun.base import jobs, memory
from meadowrun.base.db import Database
from meadowrun.base.logs import configure, log
from meadowrun.base.settings import Settings

#: Modules that register tasks.
TASK_MODULES = ("meadowrun.imports.jobs", "meadowrun.sends.jobs", "meadowrun.sends.sweep", "meadowrun.results.jobs",
                "meadowrun.segments.jobs", "meadowrun.scores.jobs", "meadowrun.people.jobs", "meadowrun.village.jobs")


def load_tasks() -> None:
    for name in TASK_MODULES:
        importlib.import_module(name)


def work(settings: Settings) -> None:
    """Runs jobs until told to stop. Ends with an error when the database stays away: something else restarts it."""
    configure(settings.log_level)
    database = Database(settings.database_url)
    jobs.set_context(jobs.Context(database, settings))
    load_tasks()
    memory.settle()
    app = jobs.worker_app(settings.database_url)
    log.info("worker started")
    with app.open():
        app.run_worker(concurrency=2, fetch_job_polling_interval=1.0, shutdown_graceful_timeout=10,
                       listen_notify=True, delete_jobs="never")
    database.close()


def inbound(settings: Settings) -> None:
    from meadowrun.tracking.inbound import listener
    configure(settings.log_level)
    database = Database(settings.database_url)
    controller = listener(database, settings)
    controller.start()
    log.info("inbound listener started", host=settings.inbound[0], port=settings.inbound[1])
    stopped = threading.Event()
    for sign in (signal.SIGTERM, signal.SIGINT):
        signal.signal(sign, lambda *_: stopped.set())
    with contextlib.suppress(KeyboardInterrupt):
        stopped.wait()
    controller.stop()
    database.close()
