"""The web server process."""

from typing import Any

import flask
import gunicorn.app.base

from meadowrun.base import memory
from meadowrun.base.logs import configure
from meadowrun.base.settings import Settings
from meadowrun.shell.app import create_app


class _Server(gunicorn.app.base.BaseApplication):
    def __init__(self, settings: Settings, options: dict[str, Any]):
        self.options, self.settings = options, settings
        super().__init__()

    def load_config(self) -> None:
        for name, value in self.options.items():
            self.cfg.set(name, value)

    def load(self) -> flask.Flask:
        return create_app(self.settings)


def serve(settings: Settings, host: str, port: int, processes: int, fd: int | None = None) -> None:
    """Serves until told to stop, on an address or on a socket that listens there already."""
    configure(settings.log_level)
    _Server(settings, {"bind": f"{host}:{port}" if fd is None else f"fd://{fd}", "workers": processes, "threads": 8, "worker_class": "gthread",
                       "timeout": 120, "graceful_timeout": 5, "loglevel": "warning", "control_socket_disable": True,
                       "post_worker_init": lambda worker: memory.settle()}).run()
