"""`./meadowrun test`: style, types, then pytest, on a throw-away cluster kept in memory."""

import os
import pathlib
import shutil
import subprocess
import sys
import tempfile

import psycopg

from meadowrun.base.cluster import THROW_AWAY, Cluster
from meadowrun.base.db import Database
from meadowrun.base.schema import migrate

TEMPLATE = "meadowrun_template"


def memory_folder() -> pathlib.Path:
    """A new folder on the memory file system where there is one with room, else in the ordinary
    place."""
    shared = pathlib.Path("/dev/shm")
    in_memory = (
        shared.is_dir() and os.access(shared, os.W_OK) and shutil.disk_usage(shared).free > 2 << 30
    )
    folder = pathlib.Path(
        tempfile.mkdtemp(prefix="meadowrun-test-", dir=shared if in_memory else None)
    )
    folder.chmod(0o755)
    return folder


#: How the tests are split among processes: a file at a time, in the order of `tests/conftest.py`.
SPLIT = ["-n", "2", "--dist", "loadfile", "--no-loadscope-reorder"]
#: The folders with Python of our own.
OURS = ("src", "tests", "setup", "migrations")


def make_template(url: str) -> None:
    """A migrated, empty database that every test's own one is a copy of."""
    with psycopg.connect(f"{url}/postgres", autocommit=True) as connection:
        connection.execute(f"CREATE DATABASE {TEMPLATE}")
    database = Database(f"{url}/{TEMPLATE}")
    # With each month more every question takes longer to plan, in thousands of tests.
    migrate(database, months=(3, 2))
    database.close()


def run(root: pathlib.Path, long: bool, arguments: list[str]) -> int:
    """Returns the exit code: 0 when everything passed. With `arguments` only pytest is run, with
    them."""
    python = sys.executable
    types = None
    if not arguments:
        for title, command in (
            ("style", [python, "-m", "ruff", "check", *OURS]),
            ("layout", [python, "-m", "ruff", "format", "--check", "--quiet", *OURS]),
        ):
            print(f"meadowrun: checking {title} …", flush=True)
            code = subprocess.run(command, cwd=root).returncode
            if code:
                return code
        print("meadowrun: checking types beside the tests …", flush=True)
        types = subprocess.Popen(
            [python, "-m", "mypy"],
            cwd=root,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
        )
    folder = memory_folder()
    cluster = Cluster(
        folder / "cluster", (*THROW_AWAY, "shared_buffers=256MB", "max_connections=200"), 54971
    )
    try:
        url = cluster.start()
        make_template(url)
        environment = dict(
            os.environ,
            MEADOWRUN_TEST_CLUSTER=url,
            SE_OFFLINE="true",
            PYTHONPATH=str(root / "src"),
            MEADOWRUN_LONG="1" if long else "0",
        )
        marks = [] if long else ["-m", "not long"]
        split = [] if any(a.startswith("-n") or "::" in a for a in arguments) else SPLIT
        code = subprocess.run(
            [python, "-m", "pytest", *split, *marks, *arguments], cwd=root, env=environment
        ).returncode
        if types is not None:
            said, _ = types.communicate()
            print(f"meadowrun: types: {said}", flush=True)
            code = code or types.returncode
        return code
    finally:
        if types is not None and types.poll() is None:
            types.kill()
        cluster.remove()
        shutil.rmtree(folder, ignore_errors=True)
