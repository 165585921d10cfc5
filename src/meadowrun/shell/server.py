"""The web server: a few processes on one socket, each of which reads a request whole before a
thread is taken for it.

So whoever sends slowly, or never to the end, holds nothing but a connection; and what is too large
for its address is refused when it is announced, before it is read.
"""

import contextlib
import ctypes
import os
import re
import signal
import socket
import sys
import time
from types import FrameType
from typing import Any

import sqlalchemy as sa
import waitress.server
from waitress.channel import HTTPChannel
from waitress.parser import HTTPRequestParser
from waitress.utilities import RequestEntityTooLarge

from meadowrun.base import memory
from meadowrun.base.clock import machine_now
from meadowrun.base.db import Database
from meadowrun.base.logs import configure, log
from meadowrun.base.schema import is_behind
from meadowrun.base.settings import Settings
from meadowrun.shell import accounts, compiling
from meadowrun.shell.app import MOST_BYTES, create_app

#: Requests that a process works on side by side, and connections that it keeps open.
THREADS, CONNECTIONS = 8, 1000
#: Seconds for a request to come in whole once it has begun; for its headers and body to go on; and
#: bytes of headers.
WHOLE, SILENT, MOST_HEADERS = 60.0, 20, 32_768
#: Addresses that take more than others → bytes: only from whoever shows a sign-in or a key.
_LARGE = [
    (re.compile(pattern), size)
    for pattern, size in (
        (r"/imports/new\Z|/api/v1/imports\Z", MOST_BYTES),
        (r"/files\b|/api/v1/", 32_000_000),
        (r"/(messages|segments|groupings|imports)\b", 8_000_000),
    )
]
#: What everybody may send: for signing in, tracking, leaving, and what gateways and websites tell.
_SMALL, _USUAL = 262_144, 4_000_000
#: Seconds to come to an end when told to stop.
_GRACE = 5.0
_PR_SET_PDEATHSIG = 1


def most_bytes(path: str, known: bool) -> int:
    """The largest body that an address takes, in bytes; `known` is whether a sign-in or a key came
    along."""
    if not known:
        return _SMALL
    return next((size for pattern, size in _LARGE if pattern.match(path)), _USUAL)


class _Request(HTTPRequestParser):  # type: ignore[misc]
    """A request on its way in, held to the size that its address takes."""

    began = 0.0
    error: Any

    def received(self, data: bytes) -> int:
        self.began = self.began or machine_now().timestamp()
        taken: int = super().received(data)
        if (
            self.headers_finished
            and not self.error
            and max(self.content_length, self.body_bytes_received) > (most := self._most())
        ):
            self.error = RequestEntityTooLarge(
                f"This address takes at most {most:,} bytes at once."
            )
            self.completed = True
        return taken

    def _most(self) -> int:
        known = "AUTHORIZATION" in self.headers or f"{accounts.COOKIE}=" in self.headers.get(
            "COOKIE", ""
        )
        return most_bytes(getattr(self, "path", "/"), known)


class _Channel(HTTPChannel):  # type: ignore[misc]
    parser_class = _Request


def _mortal(server: Any) -> None:
    """Ends connections whose request does not come in whole in its time, besides those that are
    silent."""
    usual = server.maintenance

    def maintenance(now: float) -> None:
        usual(now)
        for channel in server.active_channels.values():
            request = channel.request
            if request is not None and request.began and request.began < now - WHOLE:
                channel.will_close = True

    server.maintenance = maintenance


def _listening(host: str, port: int, fd: int | None) -> socket.socket:
    if fd is not None:
        return socket.socket(fileno=fd)
    made = socket.socket(socket.AF_INET6 if ":" in host else socket.AF_INET)
    made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        made.bind((host, port))
        made.listen(1024)
    except (OSError, OverflowError) as problem:
        raise SystemExit(
            f"meadowrun: not started. It cannot listen at {host}:{port} ({problem}). Choose "
            "another address by --host and --port."
        ) from problem
    return made


def serve(settings: Settings, host: str, port: int, processes: int, fd: int | None = None) -> None:
    """Serves until told to stop, on an address or on a socket that listens there already. A process
    that ends is begun again."""
    configure(settings.log_level)
    if problem := settings.unsafe() or _known_to_all(settings) or _behind(settings):
        raise SystemExit(f"meadowrun: not started. {problem}")
    sock = _listening(host, port, fd)
    if fd is None:
        place, at = sock.getsockname()[:2]
        print(f"meadowrun: listens at http://{place}:{at}", file=sys.stderr, flush=True)
    _Keeper(settings, sock).keep(processes)


def _known_to_all(settings: Settings) -> str | None:
    """Accounts with the demo's password, which everybody can read, have no place but in a demo."""
    if settings.demo:
        return None
    database = Database(settings.database_url)
    try:
        with database.session() as session:
            names = accounts.known_to_all(session, settings.secret)
    except sa.exc.SQLAlchemyError:
        # A database that is away says nothing; the pages say that it is.
        return None
    finally:
        database.close()
    return (
        (
            f"{', '.join(names)} can sign in with the demo's password. Start with another "
            "database, or deactivate them."
        )
        if names
        else None
    )


def _behind(settings: Settings) -> str | None:
    """A database that another version left has no tables for this one."""
    database = Database(settings.database_url)
    try:
        behind = is_behind(database)
    except sa.exc.SQLAlchemyError:
        # One that is away may come back; the pages say that it is.
        return None
    finally:
        database.close()
    return "The database is not up to date. Run: ./meadowrun migrate" if behind else None


class _Keeper:
    """Keeps so many processes going; ends them when it is told to stop."""

    def __init__(self, settings: Settings, sock: socket.socket):
        self.settings, self.sock = settings, sock
        self.children: set[int] = set()
        self.stopping = False

    def keep(self, processes: int) -> None:
        for name in (signal.SIGTERM, signal.SIGINT):
            signal.signal(name, self._stop)
        self._compile_ahead()
        while not self.stopping:
            while len(self.children) < processes and not self.stopping:
                self.children.add(self._begin())
            self._bury()
        deadline = time.monotonic() + _GRACE + 1
        while self.children and time.monotonic() < deadline:
            self._bury(os.WNOHANG)
            time.sleep(0.05)
        for child in self.children:
            with contextlib.suppress(ProcessLookupError):
                os.kill(child, signal.SIGKILL)

    def _stop(self, _number: int, _frame: FrameType | None) -> None:
        self.stopping = True
        for child in self.children:
            with contextlib.suppress(ProcessLookupError):
                os.kill(child, signal.SIGTERM)

    def _begin(self) -> int:
        child = os.fork()
        if child == 0:
            code = 1
            try:
                _work(self.settings, self.sock)
                code = 0
            finally:
                sys.stdout.flush()
                sys.stderr.flush()
                os._exit(code)
        return child

    def _compile_ahead(self) -> None:
        """Beside the first requests, a process of its own compiles the templates nobody asked for
        yet, and ends."""
        if os.fork() == 0:
            try:
                ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGTERM)
                signal.signal(signal.SIGTERM, signal.SIG_DFL)
                os.nice(10)
                compiling.compile_all(create_app(self.settings))
            finally:
                os._exit(0)

    def _bury(self, options: int = 0) -> None:
        """Waits for a process to end; one that ends right after its start is not begun again at
        once."""
        try:
            ended, status = os.waitpid(-1, options)
        except (ChildProcessError, InterruptedError):
            return
        if ended in self.children:
            self.children.discard(ended)
            if not self.stopping:
                log.warning("a web process ended and is started again", status=status)
                time.sleep(0.5)


def _work(settings: Settings, sock: socket.socket) -> None:
    """One process: ends with the keeper, however that ends."""
    ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGTERM)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, _ended)
    server = waitress.server.create_server(
        create_app(settings),
        sockets=[sock],
        threads=THREADS,
        connection_limit=CONNECTIONS,
        channel_timeout=SILENT,
        cleanup_interval=5,
        max_request_header_size=MOST_HEADERS,
        max_request_body_size=MOST_BYTES,
        ident=None,
        asyncore_use_poll=True,
        # What a proxy says of a visitor is believed only where one is named in the settings.
        clear_untrusted_proxy_headers=not settings.behind_proxy,
    )
    server.channel_class = _Channel
    _mortal(server)
    memory.settle()
    server.run()


def _ended(_number: int, _frame: FrameType | None) -> None:
    raise SystemExit(0)
