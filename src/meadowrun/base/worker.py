"""The processes behind the web server: the worker and the listener for what comes back by mail."""

import asyncio
import contextlib
import importlib
import signal
import threading

import procrastinate

from meadowrun.base import jobs, memory
from meadowrun.base.db import Database
from meadowrun.base.logs import configure, log
from meadowrun.base.settings import Settings

#: Modules that register tasks.
TASK_MODULES = ("meadowrun.imports.jobs", "meadowrun.sends.jobs", "meadowrun.sends.sweep", "meadowrun.results.jobs",
                "meadowrun.segments.jobs", "meadowrun.scores.jobs", "meadowrun.people.jobs", "meadowrun.shell.jobs",
                "meadowrun.village.jobs")


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
    asyncio.run(_lanes(app))
    database.close()


async def _lanes(app: procrastinate.App) -> None:
    """All lanes side by side until told to stop, or until one of them ends because the database stays away."""
    async with app.open_async():
        lanes = [asyncio.create_task(app.run_worker_async(
            queues=[lane], name=lane, concurrency=concurrency, fetch_job_polling_interval=1.0, shutdown_graceful_timeout=10,
            listen_notify=True, delete_jobs="never", install_signal_handlers=False,
            update_heartbeat_interval=jobs.HEARTBEAT, stalled_worker_timeout=jobs.STALLED_AFTER))
            for lane, concurrency in jobs.LANES.items()]
        stopped = asyncio.Event()
        for sign in (signal.SIGTERM, signal.SIGINT):
            asyncio.get_running_loop().add_signal_handler(sign, stopped.set)
        told = asyncio.create_task(stopped.wait())
        await asyncio.wait([told, *lanes], return_when=asyncio.FIRST_COMPLETED)
        for task in (told, *lanes):
            task.cancel()
        ends = await asyncio.gather(*lanes, return_exceptions=True)
    if not stopped.is_set():
        raise SystemExit(next((f"worker: {e}" for e in ends if isinstance(e, Exception)), "worker: a lane ended by itself"))


def inbound(settings: Settings, fd: int | None = None) -> None:
    from meadowrun.tracking.inbound import listener
    configure(settings.log_level)
    database = Database(settings.database_url)
    controller = listener(database, settings, fd)
    controller.start()
    log.info("inbound listener started", host=settings.inbound[0], port=settings.inbound[1])
    stopped = threading.Event()
    for sign in (signal.SIGTERM, signal.SIGINT):
        signal.signal(sign, lambda *_: stopped.set())
    with contextlib.suppress(KeyboardInterrupt):
        stopped.wait()
    controller.stop()
    database.close()
