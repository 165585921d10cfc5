"""`./meadowrun demo`: everything on one machine, started in order, watched, and stopped in order."""

import contextlib
import json
import os
import pathlib
import secrets
import shutil
import signal
import subprocess
import sys
import time
import urllib.request
from collections.abc import Callable
from urllib.parse import urlsplit

import psycopg
import sqlalchemy as sa

from meadowrun.base.cluster import Cluster, free_port
from meadowrun.base.db import Database
from meadowrun.base.schema import migrate
from meadowrun.base.settings import Settings
from meadowrun.demo.moved import follow
from meadowrun.demo.stories import SITE_KEY
from meadowrun.village.store import Store


def say(text: str) -> None:
    print(f"  {text}", flush=True)


class Demo:
    """The demo below one folder: its cluster, its village, its processes."""

    def __init__(self, root: pathlib.Path, folder: pathlib.Path, port: int, tell: Callable[[str], None] = say,
                 throw_away: tuple[str, ...] = ("jit=off",)):
        self.root, self.folder, self.say = root, folder, tell
        self.folder.mkdir(parents=True, exist_ok=True)
        self.cluster = Cluster(folder / "postgresql", throw_away)
        self.processes: list[tuple[str, subprocess.Popen[bytes]]] = []
        self.ports = self._ports(port)
        self.site = f"http://127.0.0.1:{self.ports['village']}"
        self.address = f"http://127.0.0.1:{self.ports['web']}"

    def _ports(self, wanted: int) -> dict[str, int]:
        """The ports of last time where they are free, because addresses in sent mail lead there."""
        memory = self.folder / "ports.json"
        last = json.loads(memory.read_text()) if memory.exists() else {}
        ports: dict[str, int] = {}
        for offset, name in enumerate(("web", "village", "smtp", "inbound")):
            start = last.get(name, wanted + offset)
            while True:
                port = free_port(start)
                if port not in ports.values():
                    break
                start = port + 1
            ports[name] = port
        memory.write_text(json.dumps(ports))
        return ports

    def environment(self, database_url: str) -> dict[str, str]:
        secret = self.folder / "secret"
        if not secret.exists():
            secret.write_text(secrets.token_hex(32))
            secret.chmod(0o600)
        return {
            "MEADOWRUN_DATABASE_URL": database_url, "MEADOWRUN_SECRET": secret.read_text(), "MEADOWRUN_PUBLIC_URL": self.address,
            "MEADOWRUN_ORGANISATION": "Farrow Hill Observatory", "MEADOWRUN_POSTAL_ADDRESS": "Tarn Road, Farrow",
            "MEADOWRUN_TIMEZONE": "Europe/London", "MEADOWRUN_SMTP_URL": f"smtp://127.0.0.1:{self.ports['smtp']}",
            "MEADOWRUN_MAIL_RECEIPTS_URL": f"{self.site}/receipts", "MEADOWRUN_MAIL_DOMAIN": "mail.farrowhill.example",
            "MEADOWRUN_INBOUND": f"127.0.0.1:{self.ports['inbound']}", "MEADOWRUN_FEED_HOSTS": urlsplit(self.site).netloc,
            "MEADOWRUN_SMS_URL": f"{self.site}/sms", "MEADOWRUN_SMS_SENDER": "Farrow Hill", "MEADOWRUN_SMS_PRICE": "0.045",
            "MEADOWRUN_PUSH_URL": f"{self.site}/apps",
            "MEADOWRUN_DEMO": "1", "MEADOWRUN_VILLAGE_URL": self.site,
            "MEADOWRUN_LOG_LEVEL": os.environ.get("MEADOWRUN_LOG_LEVEL", "WARNING"), "MEADOWRUN_COOKIE_SECURE": "0"}

    def prepare(self, scale: int, sends: int = 25) -> Settings:
        """Database started, migrated, filled once; the village's people settled."""
        base = self.cluster.start()
        with psycopg.connect(f"{base}/postgres", autocommit=True) as connection:
            if not connection.execute("SELECT 1 FROM pg_database WHERE datname = 'meadowrun'").fetchone():
                connection.execute("CREATE DATABASE meadowrun")
        settings = Settings.read(self.environment(f"{base}/meadowrun"))
        database = Database(settings.database_url)
        migrate(database)
        with database.session() as session:
            filled = session.execute(sa.text("SELECT 1 FROM users LIMIT 1")).scalar()
        if not filled:
            # Only now: it is slow to import, and a second start has no need of it.
            from meadowrun.demo.load import load
            self.say(f"making the demo world, for the first time: about {max(20, scale // 600)} s")
            world = load(database, settings, scale, self.site, self.say, sends)
            store = Store(self.folder / "village.db")
            store.settle(world.residents())
            store.introduce(world.introductions())
            from meadowrun.demo.writing import allow_notices
            with database.session() as session:
                allow_notices(session, store, self.site, world.moment, scale)
            store.close()
        if follow(database, self.folder / "addresses.json", {"web": self.address, "village": self.site}):
            self.say("a port of last time was taken; what leads to the village follows")
        database.close()
        return settings

    def start(self, settings: Settings, workers: int = 1) -> None:
        """Starts the processes; comes back once the application answers."""
        environment = {**os.environ, **self.environment(settings.database_url), "PYTHONPATH": str(self.root / "src")}
        log = (self.folder / "log").open("ab")

        def begin(name: str, *arguments: str) -> None:
            # A session of its own, so that Ctrl-C reaches only us and everything stops in order.
            self.processes.append((name, subprocess.Popen(
                [sys.executable, "-m", *arguments], env=environment, stdout=log, stderr=log, stdin=subprocess.DEVNULL,
                start_new_session=True)))

        begin("village", "meadowrun.village.app", "--store", str(self.folder / "village.db"), "--app", self.address,
              "--secret-file", str(self.folder / "secret"), "--inbound", f"127.0.0.1:{self.ports['inbound']}", "--key", SITE_KEY,
              "--port", str(self.ports["village"]), "--smtp", str(self.ports["smtp"]))
        begin("web server", "meadowrun", "serve", "--port", str(self.ports["web"]))
        self._await()
        # What nobody looks at begins once the pages answer: five processes that start at once take each other's time.
        for _ in range(workers):
            begin("worker", "meadowrun", "work")
        begin("inbound listener", "meadowrun", "inbound")

    def _await(self) -> None:
        """Until the application and the village answer."""
        deadline = time.monotonic() + 30
        while time.monotonic() < deadline:
            dead = self.dead()
            if dead:
                raise SystemExit(f"meadowrun: the {dead} stopped at its start; see {self.folder / 'log'}")
            with contextlib.suppress(OSError):
                for address in (f"{self.address}/healthz", f"{self.site}/next"):
                    urllib.request.urlopen(address, timeout=2).read()
                return
            time.sleep(0.05)
        raise SystemExit(f"meadowrun: the web server does not answer; see {self.folder / 'log'}")

    def dead(self) -> str | None:
        return next((name for name, process in self.processes if process.poll() is not None), None)

    def revive(self) -> None:
        """What ended behind the pages (the database was away too long, say) is started anew by its supervisor: us."""
        for place, (name, process) in enumerate(self.processes):
            if process.poll() is not None and name in ("worker", "inbound listener"):
                arguments = process.args
                log = (self.folder / "log").open("ab")
                assert isinstance(arguments, list)
                environment = {**os.environ, **self.environment(f"{self.cluster.url()}/meadowrun"),
                               "PYTHONPATH": str(self.root / "src")}
                self.processes[place] = (name, subprocess.Popen(arguments, env=environment, stdout=log, stderr=log,
                                                                stdin=subprocess.DEVNULL, start_new_session=True))

    def stop(self) -> None:
        """Processes first, the database last."""
        for _, process in reversed(self.processes):
            with contextlib.suppress(ProcessLookupError):
                process.terminate()
        deadline = time.monotonic() + 12
        for _, process in self.processes:
            try:
                process.wait(max(0.1, deadline - time.monotonic()))
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()
        self.processes.clear()
        self.cluster.stop()


def run(root: pathlib.Path, scale: int, port: int, fresh: bool) -> None:
    """The command itself: until Ctrl-C."""
    folder = root / ".meadowrun" / "demo"
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
        print(f"\nMeadowrun is at {demo.address}   (started in {time.monotonic() - began:.1f} s)\n"
              "Sign in as ida@farrowhill.example with the password clear-night-sky\n"
              f"The village around it, with everybody's mailbox, is at {demo.site}\nStop with Ctrl-C.\n", flush=True)
        while True:
            time.sleep(1)
            demo.revive()
    except KeyboardInterrupt:
        print("\nStopping …", flush=True)
    finally:
        demo.stop()
    print("Stopped.", flush=True)
