"""Measurements of several hosts against one PostgreSQL, on one machine: each host is a network
namespace of its own, whose worker may have so much of a core, so that the number of hosts is what
counts and not the machine they share."""

import contextlib
import os
import pathlib
import shutil
import subprocess
import sys
import time
from collections.abc import Iterator
from urllib.parse import urlsplit

from meadowrun.base.cluster import Cluster
from meadowrun.bench.run import Measurement, World, compare
from meadowrun.bench.sending import forget, worker_environment
from meadowrun.bench.waiting import due_at_once, gone
from meadowrun.outgoing.jobs import ask_for
from meadowrun.outgoing.models import Dispatch

#: Deliveries of one run, and the shares of a core that each host may have.
DELIVERIES = 40_000
SHARES = (30, 60)
#: Host n is 10.231.n.2, and reaches the database at 10.231.n.1.
_NEAR, _FAR = "10.231.{}.1", "10.231.{}.2"
_CGROUPS = pathlib.Path("/sys/fs/cgroup")
#: Microseconds after which a host may go on.
_PERIOD = 100_000


class Host:
    """A network namespace with a line to this one, whose processes share a part of a core."""

    def __init__(self, number: int):
        self.number = number
        self.name = f"meadowrun-{os.getpid()}-{number}"
        self.near, self.far = _NEAR.format(number), _FAR.format(number)
        old = _CGROUPS / "cpu"
        self._group = (old if old.is_dir() else _CGROUPS) / self.name

    def make(self) -> None:
        inside = ("ip", "-n", self.name)
        line, other = f"mw{os.getpid()}a{self.number}", f"mw{os.getpid()}b{self.number}"
        for command in (
            ("ip", "netns", "add", self.name),
            ("ip", "link", "add", line, "type", "veth", "peer", "name", other),
            ("ip", "link", "set", other, "netns", self.name),
            ("ip", "addr", "add", f"{self.near}/30", "dev", line),
            ("ip", "link", "set", line, "up"),
            (*inside, "addr", "add", f"{self.far}/30", "dev", other),
            (*inside, "link", "set", other, "up"),
            (*inside, "link", "set", "lo", "up"),
        ):
            subprocess.run(command, check=True, capture_output=True)
        self._group.mkdir()

    def remove(self) -> None:
        # With the namespace goes its end of the line, and with that the line.
        subprocess.run(("ip", "netns", "del", self.name), capture_output=True)
        with contextlib.suppress(OSError):
            self._group.rmdir()

    def worker(self, world: World) -> "subprocess.Popen[bytes]":
        """A worker on this host, held to nothing yet."""
        environment = worker_environment(world)
        address = urlsplit(world.settings.database_url)
        environment["MEADOWRUN_DATABASE_URL"] = world.settings.database_url.replace(
            f"@{address.hostname}:", f"@{self.near}:"
        )
        command = ("ip", "netns", "exec", self.name, sys.executable, "-m", "meadowrun", "work")
        made = subprocess.Popen(command, env=environment)
        (self._group / "cgroup.procs").write_text(str(made.pid))
        return made

    def hold_to(self, percent: int) -> None:
        """Lets its processes have so many percent of a core together."""
        quota = _PERIOD * percent // 100
        if (self._group / "cpu.max").exists():
            (self._group / "cpu.max").write_text(f"{quota} {_PERIOD}")
        else:
            (self._group / "cpu.cfs_period_us").write_text(str(_PERIOD))
            (self._group / "cpu.cfs_quota_us").write_text(str(quota))


def hosts(world: World) -> Iterator[Measurement]:
    """Two hosts beside one, against one PostgreSQL."""
    if os.geteuid() != 0 or shutil.which("ip") is None:
        print(
            "  hosts is left out: it makes network namespaces, as root, with iproute2",
            file=sys.stderr,
        )
        return
    made = [Host(1), Host(2)]
    try:
        for host in made:
            host.make()
        with _listening(world, [host.near for host in made]):
            for share in SHARES:
                one, _ = _rate(world, made[:1], share)
                two, load = _rate(world, made, share)
                print(
                    f"  two hosts at {share} % of a core each: PostgreSQL takes "
                    f"{100 * load:.0f} % of a core",
                    flush=True,
                )
                yield compare(
                    f"two hosts of {share} % of a core ÷ one", two, one, "rows/s", at_least=1.8
                )
    finally:
        for host in made:
            host.remove()


@contextlib.contextmanager
def _listening(world: World, addresses: list[str]) -> Iterator[None]:
    """Has the database listen on some more addresses meanwhile."""
    plain: Cluster = world.cluster
    rules = plain.data / "pg_hba.conf"
    before = rules.read_text()
    rules.write_text(before + "host all all 10.231.0.0/16 scram-sha-256\n")
    listens = f"listen_addresses={','.join(['127.0.0.1', *addresses])}"
    world.database.engine.dispose()
    plain.stop()
    wider = Cluster(plain.folder, (*plain.settings, listens), plain.port)
    wider.start()
    try:
        yield
    finally:
        world.database.engine.dispose()
        wider.stop()
        rules.write_text(before)
        plain.start()


def _rate(world: World, chosen: list[Host], share: int) -> tuple[float, float]:
    """Deliveries a second by some hosts, and which part of a core the database took."""
    ident = due_at_once(world, DELIVERIES)
    _set_state(world, ident, "paused")
    running = [host.worker(world) for host in chosen]
    try:
        # So that nobody's start is measured.
        time.sleep(5)
        for host in chosen:
            host.hold_to(share)
        _set_state(world, ident, "running")
        with world.database.session() as session:
            ask_for(session, 2 * len(chosen))
        began, busy, done = time.monotonic(), _busy(world), 0
        while done < 0.6 * DELIVERIES and time.monotonic() - began < 180:
            time.sleep(0.5)
            with world.database.session() as session:
                done = gone(session, ident)
        seconds = time.monotonic() - began
        return done / seconds, (_busy(world) - busy) / seconds
    finally:
        for host in chosen:
            host.hold_to(100)
        for worker in running:
            worker.terminate()
            worker.wait()
        with world.database.session() as session:
            forget(session, ident)


def _set_state(world: World, ident: int, state: str) -> None:
    with world.database.session() as session:
        session.get_one(Dispatch, ident).state = state


def _busy(world: World) -> float:
    """Seconds of processor that the database has had: its first process, all that it started, and
    those that have ended (proc(5): utime, stime, cutime, cstime)."""
    first = int((world.cluster.data / "postmaster.pid").read_text().splitlines()[0])
    ticks = 0
    for path in pathlib.Path("/proc").glob("[0-9]*/stat"):
        with contextlib.suppress(OSError):
            fields = path.read_text().rpartition(")")[2].split()
            mine = int(path.parent.name) == first
            if mine or int(fields[1]) == first:
                ticks += sum(map(int, fields[11:15] if mine else fields[11:13]))
    return ticks / os.sysconf("SC_CLK_TCK")
