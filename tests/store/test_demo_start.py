"""Several demos at once: each has ports of its own from the first moment, and knows its own servers
from others'."""

import dataclasses
import json
import pathlib
import sys
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from http.server import BaseHTTPRequestHandler, HTTPServer

import pytest

from meadowrun.base.listening import listen, port_of
from meadowrun.demo import run
from meadowrun.demo.run import Demo

ROOT = pathlib.Path(__file__).resolve().parents[2]


@pytest.fixture
def demos(tmp_path):
    made = []

    def make(name="a", port=28460):
        made.append(Demo(ROOT, tmp_path / name, port, lambda text: None))
        return made[-1]

    yield make
    for demo in made:
        for found in demo.sockets.values():
            found.close()


def test_a_port_that_was_found_stays_ours():
    with listen(28400) as one, listen(28400) as other:
        assert port_of(one) != port_of(other) and one.get_inheritable()


def test_ten_at_once_never_share_a_port(demos):
    with ThreadPoolExecutor(10) as pool:
        made = list(pool.map(lambda n: demos(f"demo{n}"), range(10)))
    ports = [port for demo in made for port in demo.ports.values()]
    assert len(set(ports)) == len(ports) == 50
    assert len({demo.instance for demo in made}) == 10


def test_the_ports_of_last_time_come_again(demos, tmp_path):
    first = demos()
    ports = first.ports
    for found in first.sockets.values():
        found.close()
    assert demos(port=28500).ports == ports
    assert json.loads((tmp_path / "a" / "ports.json").read_text()) == ports


def test_anothers_answer_is_not_taken_for_ours(demos):
    class Stranger(BaseHTTPRequestHandler):
        def do_GET(self):
            self.send_response(200)
            self.end_headers()
            self.wfile.write(b'{"ok": true, "instance": "somebody else"}')

        def log_message(self, *words):
            pass

    demo = demos()
    server = HTTPServer(("127.0.0.1", 0), Stranger)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    demo.address = f"http://127.0.0.1:{server.server_port}"
    try:
        with pytest.raises(SystemExit, match="another program answers"):
            demo._await()
    finally:
        server.shutdown()
        server.server_close()


def test_what_ends_right_at_its_start_is_told_once_and_comes_back_when_it_can(demos, monkeypatch):
    demo, told = demos(), []
    monkeypatch.setattr(run, "_GAP", 0.3)
    demo.say = told.append
    monkeypatch.setattr(demo, "environment", lambda url: {})
    monkeypatch.setattr(demo.cluster, "url", lambda: "postgresql://nobody@127.0.0.1:1")
    monkeypatch.setattr(run.sys, "executable", sys.executable)
    demo._begin("worker", "x", ["meadowrun_that_is_not_there"])
    deadline = time.monotonic() + 30
    while not told and time.monotonic() < deadline:
        demo.revive()
        time.sleep(0.05)
    assert len(told) == 1 and "worker ended 3 times" in told[0] and demo.processes == []
    ((due, one),) = demo.later
    assert 0 < due - time.monotonic() <= 0.3
    # What it lacked is there again: a disk with room, say.
    demo.later = [(due, dataclasses.replace(one, arguments=["http.server", "0"]))]
    while not demo.processes and time.monotonic() < deadline:
        demo.revive()
        time.sleep(0.05)
    time.sleep(0.5)
    demo.revive()
    assert [p.process.poll() for p in demo.processes] == [None] and len(told) == 1
