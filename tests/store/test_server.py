"""The web server as a process: requests that never end, bodies that are too large, processes that
die, and stopping."""

import contextlib
import http.client
import os
import pathlib
import signal
import socket
import subprocess
import sys
import threading
import time

import pytest

from meadowrun.shell import accounts
from meadowrun.shell.server import most_bytes
from tests.conftest import NOW
from tests.databases import own_database
from tests.ports import own_port

#: Made by chance, as a server asks for.
SECRET = "q8Rz-4vKxN2mWc7Tj1LhYb5Ep9UsDg3F"


@pytest.fixture
def served(database, tmp_path):
    """A running server of the test's own with two processes; gives its port and its keeper's
    process."""
    with serving(database, tmp_path) as found:
        yield found


@pytest.fixture(scope="module")
def standing(cluster_url, tmp_path_factory):
    """The same for those tests that leave it as it was."""
    with (
        own_database(cluster_url) as database,
        serving(database, tmp_path_factory.mktemp("served")) as found,
    ):
        yield found


@contextlib.contextmanager
def serving(database, tmp_path):
    with database.session() as session:
        accounts.add_user(session, NOW, "ida@farrowhill.example", "Ida", "admin", "a long password")
    port = own_port()
    environment = {
        **os.environ,
        "PYTHONPATH": os.pathsep.join(sys.path),
        "MEADOWRUN_DATABASE_URL": database.url,
        "MEADOWRUN_SECRET": SECRET,
        "MEADOWRUN_PUBLIC_URL": f"http://127.0.0.1:{port}",
        "MEADOWRUN_SMTP_URL": "null:",
        "MEADOWRUN_LOG_LEVEL": "WARNING",
    }
    with (tmp_path / "log").open("w") as out:
        keeper = subprocess.Popen(
            [sys.executable, "-m", "meadowrun", "serve", "--port", str(port), "--processes", "2"],
            env=environment,
            stdout=out,
            stderr=out,
            start_new_session=True,
        )
    try:
        wait_for_its_answer(port, keeper, tmp_path / "log")
        yield port, keeper
    finally:
        keeper.terminate()
        keeper.wait(60)


def wait_for_its_answer(port, keeper, log):
    """Waits until the server answers; says what it wrote where it does not."""
    deadline = time.monotonic() + 90
    while time.monotonic() < deadline and keeper.poll() is None:
        try:
            if ask(port) == 200:
                return
        except OSError:
            pass
        time.sleep(0.1)
    pytest.fail(f"The server did not come up (exit {keeper.poll()}):\n{log.read_text()}")


def ask(port, path="/healthz", method="GET", body=None, headers=None):
    connection = http.client.HTTPConnection("127.0.0.1", port, timeout=10)
    try:
        connection.request(method, path, body, headers or {})
        return connection.getresponse().status
    finally:
        connection.close()


def begun(port, text):
    """A connection on which something was begun and nothing more comes."""
    made = socket.create_connection(("127.0.0.1", port))
    made.sendall(text)
    return made


def children(keeper):
    """The numbers of its processes."""
    return {
        int(number)
        for number in pathlib.Path(f"/proc/{keeper.pid}/task/{keeper.pid}/children")
        .read_text()
        .split()
    }


def lives(pid):
    """Whether a process is there, and no mere rest of one."""
    stat = pathlib.Path(f"/proc/{pid}/stat")
    return stat.exists() and stat.read_text().rsplit(")", 1)[1].split()[0] != "Z"


def memory(keeper):
    """Bytes that its processes hold."""
    return sum(
        int(pathlib.Path(f"/proc/{pid}/statm").read_text().split()[1]) * 4096
        for pid in children(keeper)
    )


def test_forty_requests_that_never_end_hold_nobody_up(standing):
    port, _ = standing
    silent = [
        begun(port, text)
        for text in (
            b"",
            b"GET /sign-in HTTP/1.1\r\nHost: a\r\nX-Slow: ",
            b"POST /site/events HTTP/1.1\r\nHost: a\r\nContent-Length: 200\r\n\r\n{",
            b"POST /sign-in HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nab",
        )
        for _ in range(10)
    ]
    taken = []
    for _ in range(20):
        started = time.monotonic()
        assert ask(port) == 200 and ask(port, "/sign-in") == 200
        taken.append(time.monotonic() - started)
    assert max(taken) < 5, "held up, they would wait for ten seconds and more"
    for one in silent:
        one.close()


def test_a_body_that_is_too_large_is_refused_before_it_is_read(standing):
    port, keeper = standing
    ask(port, "/sign-in")
    before = memory(keeper)
    for announced in (150_000_000, 5_000_000_000):
        head = f"POST /site/events HTTP/1.1\r\nHost: a\r\nContent-Length: {announced}\r\n\r\n"
        made = begun(port, head.encode())
        made.settimeout(10)
        assert b"413" in made.recv(200)
        made.close()
    # Chunked, nothing is announced: it ends as soon as it is too much.
    made = begun(
        port, b"POST /site/events HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n"
    )
    piece = b"10000\r\n" + b"x" * 65_536 + b"\r\n"
    sent = 0
    with pytest.raises(OSError):
        for _ in range(2_400):
            made.sendall(piece)
            sent += 1
            time.sleep(0.0005)
    made.close()
    assert sent < 600 and memory(keeper) - before < 30_000_000


def test_what_each_address_takes():
    assert (
        most_bytes("/imports/new", True) > 200_000_000
        and most_bytes("/imports/new", False) < 300_000
    )
    assert (
        most_bytes("/site/events", True) <= 4_000_000
        and most_bytes("/site/events", False) == most_bytes("/p/abc", False) == 262_144
    )
    assert most_bytes("/imports/newer", True) <= 8_000_000


def test_headers_without_end_are_refused(standing):
    port, _ = standing
    made = begun(port, b"GET / HTTP/1.1\r\nX: " + b"a" * 40_000)
    made.settimeout(10)
    assert b"431" in made.recv(200)


def test_a_process_that_dies_is_begun_again(served, tmp_path):
    port, keeper = served
    first = children(keeper)
    for pid in first:
        os.kill(pid, signal.SIGKILL)
    deadline = time.monotonic() + 40
    while time.monotonic() < deadline and len(children(keeper) - first) < 2:
        time.sleep(0.1)
    # The new ones take a while until they answer.
    wait_for_its_answer(port, keeper, tmp_path / "log")


def test_its_processes_end_with_it_however_it_ends(served):
    port, keeper = served
    deadline = time.monotonic() + 30
    while time.monotonic() < deadline and len(children(keeper)) > 2:
        # The one that compiles templates ends by itself.
        time.sleep(0.1)
    mine = children(keeper)
    assert len(mine) == 2
    os.kill(keeper.pid, signal.SIGKILL)
    deadline = time.monotonic() + 30
    while time.monotonic() < deadline and any(lives(pid) for pid in mine):
        time.sleep(0.1)
    assert not any(lives(pid) for pid in mine)
    with pytest.raises(OSError):
        ask(port)


def test_told_to_stop_it_answers_what_it_has_begun(served):
    port, keeper = served
    answers = []
    threads = [
        threading.Thread(target=lambda: answers.append(ask(port, "/sign-in"))) for _ in range(6)
    ]
    for thread in threads:
        thread.start()
    time.sleep(0.2)
    keeper.terminate()
    for thread in threads:
        thread.join(10)
    assert keeper.wait(60) == 0 and answers and set(answers) == {200}


def started(database, **settings):
    """What a server says that does not start."""
    environment = {
        **os.environ,
        "PYTHONPATH": os.pathsep.join(sys.path),
        "MEADOWRUN_DATABASE_URL": database.url,
        "MEADOWRUN_SECRET": SECRET,
        "MEADOWRUN_PUBLIC_URL": "http://127.0.0.1:1",
        "MEADOWRUN_SMTP_URL": "null:",
        **settings,
    }
    done = subprocess.run(
        [sys.executable, "-m", "meadowrun", "serve", "--port", "1"],
        env=environment,
        capture_output=True,
        text=True,
        timeout=30,
    )
    return done.returncode, done.stderr


def test_it_does_not_start_where_strangers_would_get_in(database):
    code, said = started(database, MEADOWRUN_SECRET="s" * 40)
    assert code == 1 and "MEADOWRUN_SECRET is easily guessed" in said and "token_urlsafe" in said
    code, said = started(database, MEADOWRUN_PUBLIC_URL="https://mail.example")
    assert code == 1 and "Set it to 1" in said
    with database.session() as session:
        accounts.add_user(
            session, NOW, "ida@farrowhill.example", "Ida", "admin", accounts.DEMO_PASSWORD
        )
    code, said = started(database)
    assert code == 1 and "ida@farrowhill.example can sign in with the demo" in said
