"""`./meadowrun demo`: everything on one machine, started in order, watched, and stopped in
order."""

import contextlib
import dataclasses
import fcntl
import json
import os
import pathlib
import secrets
import shutil
import signal
import socket
import subprocess
import sys
import time
import urllib.request
from collections.abc import Callable
from urllib.parse import urlsplit

import psycopg
import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.cluster import Cluster
from meadowrun.base.db import Database
from meadowrun.base.listening import listen, port_of
from meadowrun.base.schema import migrate
from meadowrun.base.settings import Settings
from meadowrun.demo.moved import follow
from meadowrun.demo.stories import IDA, SITE_KEY
from meadowrun.messages.mail_keys import keys_of
from meadowrun.shell.accounts import DEMO_DOMAIN, DEMO_PASSWORD
from meadowrun.shell.keys import make_key
from meadowrun.village.store import Store


def say(text: str) -> None:
    print(f"  {text}", flush=True)


#: Seconds within which an end counts as one right at the start, how many of these in a row are told
#: of, and seconds until the next
#: try after these, which double up to the last.
_EARLY, _MANY_EARLY, _GAP, _LONGEST_GAP = 15.0, 3, 5.0, 60.0


@dataclasses.dataclass(frozen=True)
class _Process:
    """A process of the demo; `since` by the machine's running clock."""

    name: str
    arguments: list[str]
    process: "subprocess.Popen[bytes]"
    since: float


def _publish(session: orm.Session, store: Store, settings: Settings) -> None:
    """The observatory publishes who sends for it, at the village's name server."""
    domain = settings.mail_domain
    store.publish(domain, "MX", domain)
    store.publish(domain, "TXT", "v=spf1 ip4:127.0.0.1 -all")
    store.publish(f"_dmarc.{DEMO_DOMAIN}", "TXT", "v=DMARC1; p=quarantine")
    for key in keys_of(session):
        store.publish(key.host, "TXT", key.record)


class Demo:
    """The demo below one folder: its cluster, its village, its processes."""

    def __init__(
        self,
        root: pathlib.Path,
        folder: pathlib.Path,
        port: int,
        tell: Callable[[str], None] = say,
        throw_away: tuple[str, ...] = ("jit=off",),
    ):
        self.root, self.folder, self.say = root, folder, tell
        self.folder.mkdir(parents=True, exist_ok=True)
        self.cluster = Cluster(folder / "postgresql", throw_away)
        self.processes: list[_Process] = []
        #: how often in a row a process ended right after its start
        self.early: dict[str, int] = {}
        #: what is to be started again, and when by the machine's running clock
        self.later: list[tuple[float, _Process]] = []
        #: the listening sockets by name, and the ports they have
        self.sockets = self._listen(port)
        self.ports = {name: port_of(found) for name, found in self.sockets.items()}
        #: what our own servers answer with: another's on one of our ports is not taken for ours
        self.instance = secrets.token_hex(8)
        self.site = f"http://127.0.0.1:{self.ports['village']}"
        self.address = f"http://127.0.0.1:{self.ports['web']}"

    def _listen(self, wanted: int) -> dict[str, socket.socket]:
        """The ports of last time where they are free, because addresses in sent mail lead there."""
        memory = self.folder / "ports.json"
        last = json.loads(memory.read_text()) if memory.exists() else {}
        found = {
            name: listen(last.get(name, wanted + offset))
            for offset, name in enumerate(("web", "village", "smtp", "inbound", "dns"))
        }
        memory.write_text(json.dumps({name: port_of(one) for name, one in found.items()}))
        return found

    def environment(self, database_url: str) -> dict[str, str]:
        secret = self.folder / "secret"
        if not secret.exists():
            secret.write_text(secrets.token_hex(32))
            secret.chmod(0o600)
        return {
            "MEADOWRUN_DATABASE_URL": database_url,
            "MEADOWRUN_SECRET": secret.read_text(),
            "MEADOWRUN_PUBLIC_URL": self.address,
            "MEADOWRUN_ORGANISATION": "Farrow Hill Observatory",
            "MEADOWRUN_POSTAL_ADDRESS": "Tarn Road, Farrow",
            "MEADOWRUN_TIMEZONE": "Europe/London",
            "MEADOWRUN_SMTP_URL": f"smtp://127.0.0.1:{self.ports['smtp']}",
            "MEADOWRUN_MAIL_RECEIPTS_URL": f"{self.site}/receipts",
            "MEADOWRUN_MAIL_DOMAIN": "mail.farrowhill.example",
            "MEADOWRUN_INBOUND": f"127.0.0.1:{self.ports['inbound']}",
            "MEADOWRUN_DNS": f"127.0.0.1:{self.ports['dns']}",
            "MEADOWRUN_FEED_HOSTS": urlsplit(self.site).netloc,
            "MEADOWRUN_SMS_URL": f"{self.site}/sms",
            "MEADOWRUN_SMS_SENDER": "Farrow Hill",
            "MEADOWRUN_SMS_PRICE": "0.045",
            "MEADOWRUN_PUSH_URL": f"{self.site}/apps",
            "MEADOWRUN_DEMO": "1",
            "MEADOWRUN_SECOND_STEP": "nobody",
            "MEADOWRUN_IDLE_MINUTES": "720",
            "MEADOWRUN_VILLAGE_URL": self.site,
            "MEADOWRUN_INSTANCE": self.instance,
            "MEADOWRUN_LOG_LEVEL": os.environ.get("MEADOWRUN_LOG_LEVEL", "WARNING"),
            "MEADOWRUN_COOKIE_SECURE": "0",
        }

    def prepare(self, scale: int, sends: int = 25) -> Settings:
        """Database started, migrated, filled once; the village's people settled."""
        base = self.cluster.start()
        with psycopg.connect(f"{base}/postgres", autocommit=True) as connection:
            if not connection.execute(
                "SELECT 1 FROM pg_database WHERE datname = 'meadowrun'"
            ).fetchone():
                connection.execute("CREATE DATABASE meadowrun")
        settings = Settings.read(self.environment(f"{base}/meadowrun"))
        database = Database(settings.database_url)
        migrate(database)
        with database.session() as session:
            filled = session.execute(sa.text("SELECT 1 FROM users LIMIT 1")).scalar()
        if not filled:
            # Only now: it is slow to import, and a second start has no need of it.
            from meadowrun.demo.load import load

            self.say(f"making the demo world, for the first time: about {max(20, scale // 300)} s")
            world = load(database, settings, scale, self.site, self.say, sends)
            store = Store(self.folder / "village.db")
            store.settle(world.residents())
            store.introduce(world.introductions())
            store.live_as(world.habits(), world.doings())
            from meadowrun.demo.writing import allow_notifications

            with database.session() as session:
                _publish(session, store, settings)
                _, key = make_key(
                    session, IDA, world.moment, "The dome’s till", "secret", "", ["events"], 0, True
                )
                store.take_key("till", key)
                allow_notifications(session, store, self.site, world.moment, scale)
            store.close()
        if follow(
            database, self.folder / "addresses.json", {"web": self.address, "village": self.site}
        ):
            self.say("a port of last time was taken; what leads to the village follows")
        database.close()
        return settings

    def start(self, settings: Settings, workers: int = 1) -> None:
        """Starts the processes; comes back once the application answers."""
        fds = {name: str(found.fileno()) for name, found in self.sockets.items()}
        self._begin(
            "village",
            settings.database_url,
            [
                "meadowrun.village.app",
                "--store",
                str(self.folder / "village.db"),
                "--app",
                self.address,
                "--secret-file",
                str(self.folder / "secret"),
                "--inbound",
                f"127.0.0.1:{self.ports['inbound']}",
                "--key",
                SITE_KEY,
                "--port",
                str(self.ports["village"]),
                "--smtp",
                str(self.ports["smtp"]),
                "--dns",
                str(self.ports["dns"]),
                "--port-fd",
                fds["village"],
                "--smtp-fd",
                fds["smtp"],
                "--instance",
                self.instance,
            ],
        )
        self._begin(
            "web server",
            settings.database_url,
            ["meadowrun", "serve", "--port", str(self.ports["web"]), "--fd", fds["web"]],
        )
        self._await()
        # What nobody looks at begins once the pages answer: five processes that start at once take
        # each other's time.
        for _ in range(workers):
            self._begin("worker", settings.database_url, ["meadowrun", "work"])
        self._begin(
            "inbound listener",
            settings.database_url,
            ["meadowrun", "inbound", "--fd", fds["inbound"]],
        )

    def _begin(self, name: str, database_url: str, arguments: list[str]) -> None:
        """Starts a process with the sockets handed on; in a session of its own, so that Ctrl-C
        reaches only us and everything stops in order."""
        environment = {
            **os.environ,
            **self.environment(database_url),
            "PYTHONPATH": str(self.root / "src"),
        }
        with (self.folder / "log").open("ab") as log:
            process = subprocess.Popen(
                [sys.executable, "-m", *arguments],
                env=environment,
                stdout=log,
                stderr=log,
                stdin=subprocess.DEVNULL,
                start_new_session=True,
                pass_fds=[found.fileno() for found in self.sockets.values()],
            )
        self.processes.append(_Process(name, arguments, process, time.monotonic()))

    def _await(self) -> None:
        """Until the application and the village answer, and are ours."""
        deadline = time.monotonic() + 30
        while time.monotonic() < deadline:
            if dead := self.dead():
                raise SystemExit(
                    f"meadowrun: the {dead} stopped at its start; see {self.folder / 'log'}"
                )
            with contextlib.suppress(OSError, ValueError):
                for address in (f"{self.address}/healthz", f"{self.site}/healthz"):
                    with urllib.request.urlopen(address, timeout=2) as answer:
                        if json.load(answer).get("instance") != self.instance:
                            raise SystemExit(
                                f"meadowrun: another program answers at {address}. Stop it, or "
                                "choose another --port."
                            )
                return
            time.sleep(0.05)
        raise SystemExit(f"meadowrun: the web server does not answer; see {self.folder / 'log'}")

    def dead(self) -> str | None:
        return next((one.name for one in self.processes if one.process.poll() is not None), None)

    def revive(self) -> None:
        """What ended behind the pages (the database was away too long, a full disk, say) is started
        anew by its supervisor: us.

        What ends again and again right at its start is told once, with where to look, and tried
        less and less often.
        """
        now = time.monotonic()
        for one in [
            one
            for one in self.processes
            if one.process.poll() is not None and one.name in ("worker", "inbound listener")
        ]:
            self.processes.remove(one)
            self.early[one.name] = (
                self.early.get(one.name, 0) + 1 if now - one.since < _EARLY else 0
            )
            over = self.early[one.name] - _MANY_EARLY
            if over == 0:
                self.say(
                    f"The {one.name} ended {_MANY_EARLY} times right after its start: see "
                    f"{self.folder / 'log'}. "
                    "It is tried again, less and less often."
                )
            gap = min(_LONGEST_GAP, _GAP * 2**over) if over >= 0 else 0.0
            self.later.append((now + gap, one))
        for due, one in list(self.later):
            if now >= due:
                self.later.remove((due, one))
                self._begin(one.name, f"{self.cluster.url()}/meadowrun", one.arguments)

    def stop(self) -> None:
        """Processes first, the database last."""
        for one in reversed(self.processes):
            with contextlib.suppress(ProcessLookupError):
                one.process.terminate()
        deadline = time.monotonic() + 12
        for one in self.processes:
            try:
                one.process.wait(max(0.1, deadline - time.monotonic()))
            except subprocess.TimeoutExpired:
                one.process.kill()
                one.process.wait()
        self.processes.clear()
        for found in self.sockets.values():
            found.close()
        self.cluster.stop()


def run(root: pathlib.Path, scale: int, port: int, fresh: bool) -> None:
    """The command itself: until Ctrl-C."""
    folder = root / ".meadowrun" / "demo"
    folder.parent.mkdir(parents=True, exist_ok=True)
    alone = (folder.parent / "demo.lock").open("w")
    try:
        fcntl.flock(alone, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        raise SystemExit(
            "meadowrun: a demo runs in this folder already. Stop it first, or start another from "
            "a copy of the folder."
        ) from None
    if fresh and folder.exists():
        Cluster(folder / "postgresql").stop("immediate")
        shutil.rmtree(folder)
    began = time.monotonic()
    demo = Demo(root, folder, port)
    stopping = False

    def ask_to_stop(*_: object) -> None:
        nonlocal stopping
        if not stopping:
            stopping = True
            raise KeyboardInterrupt

    signal.signal(signal.SIGTERM, ask_to_stop)
    signal.signal(signal.SIGINT, ask_to_stop)
    try:
        demo.start(demo.prepare(scale))
        print(
            f"\nMeadowrun is at {demo.address}   (started in {time.monotonic() - began:.1f} s)\n"
            f"Sign in as ida@{DEMO_DOMAIN} with the password {DEMO_PASSWORD}\n"
            f"The village around it, with everybody's mailbox, is at {demo.site}\nStop with "
            "Ctrl-C.\n",
            flush=True,
        )
        while True:
            time.sleep(1)
            demo.revive()
    except KeyboardInterrupt:
        print("\nStopping …", flush=True)
    finally:
        demo.stop()
    print("Stopped.", flush=True)
