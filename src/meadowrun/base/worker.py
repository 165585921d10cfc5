"""The worker: what is done behind the web server."""

import asyncio
import signal
from collections.abc import Callable

import procrastinate

from meadowrun.base import jobs, memory
from meadowrun.base.db import Database
from meadowrun.base.logs import configure, log
from meadowrun.base.settings import Settings


def work(settings: Settings, load_tasks: Callable[[bool], None]) -> None:
    """Runs jobs until told to stop; `load_tasks` registers what there is to do, in a demo or not.

    Ends with an error when the database stays away: something else restarts it.
    """
    configure(settings.log_level)
    database = Database(settings.database_url)
    jobs.set_context(jobs.Context(database, settings))
    load_tasks(settings.demo)
    memory.settle()
    app = jobs.worker_app(settings.database_url)
    log.info("worker started")
    asyncio.run(_lanes(app))
    database.close()


async def _lanes(app: procrastinate.App) -> None:
    """All lanes side by side until told to stop, or until one of them ends because the database
    stays away."""
    async with app.open_async():
        lanes = [
            asyncio.create_task(
                app.run_worker_async(
                    queues=[lane],
                    name=lane,
                    concurrency=concurrency,
                    fetch_job_polling_interval=1.0,
                    shutdown_graceful_timeout=10,
                    listen_notify=True,
                    delete_jobs="never",
                    install_signal_handlers=False,
                    update_heartbeat_interval=jobs.HEARTBEAT,
                    stalled_worker_timeout=jobs.STALLED_AFTER,
                )
            )
            for lane, concurrency in jobs.LANES.items()
        ]
        stopped = asyncio.Event()
        for sign in (signal.SIGTERM, signal.SIGINT):
            asyncio.get_running_loop().add_signal_handler(sign, stopped.set)
        told = asyncio.create_task(stopped.wait())
        await asyncio.wait([told, *lanes], return_when=asyncio.FIRST_COMPLETED)
        for task in (told, *lanes):
            task.cancel()
        ends = await asyncio.gather(*lanes, return_exceptions=True)
    if not stopped.is_set():
        raise SystemExit(
            next(
                (f"meadowrun: the worker ended: {e}" for e in ends if isinstance(e, Exception)),
                "meadowrun: the worker ended, as it does when the database stays away. Start it "
                "again; a service manager does so by itself.",
            )
        )
