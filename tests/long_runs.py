"""Long tests go on where they were stopped: one that passed with the same source is not run
again."""

import hashlib
import json
import os
import pathlib
import time

import pytest

ROOT = pathlib.Path(__file__).resolve().parents[1]
PASSED = ROOT / ".meadowrun" / "long-passed.jsonl"
#: Set to anything, all of them run again.
AGAIN = "MEADOWRUN_LONG_AGAIN"


def source(folder: pathlib.Path) -> str:
    """A fingerprint of what a long test in a folder depends on: the application, the tests beside
    it, and how much was asked for."""
    made = hashlib.sha256(
        repr(
            sorted((k, v) for k, v in os.environ.items() if k.startswith("MEADOWRUN_KILLS"))
        ).encode()
    )
    for path in sorted(
        [*(ROOT / "src").rglob("*.py"), *(ROOT / "migrations").rglob("*.py"), *folder.glob("*.py")]
    ):
        made.update(str(path.relative_to(ROOT)).encode() + path.read_bytes())
    return made.hexdigest()


def passed() -> dict[str, tuple[str, float]]:
    """name → the source it passed with last, and its seconds."""
    lines = PASSED.read_text("utf-8").splitlines() if PASSED.exists() else []
    return {one["name"]: (one["source"], one["seconds"]) for one in map(json.loads, lines)}


class LongRuns:
    """The plugin: skips what passed, and notes what passes, with its time."""

    def __init__(self):
        self.sources = {}

    def _source(self, item):
        folder = item.path.parent
        if folder not in self.sources:
            self.sources[folder] = source(folder)
        return self.sources[folder]

    @pytest.hookimpl(tryfirst=True)
    def pytest_runtest_setup(self, item):
        if item.get_closest_marker("long") and AGAIN not in os.environ:
            known, seconds = passed().get(item.nodeid, ("", 0.0))
            if known == self._source(item):
                pytest.skip(
                    f"passed with this very source, in {seconds:.0f} s; {AGAIN}=1 runs it again"
                )
        item.began = time.monotonic()

    @pytest.hookimpl(hookwrapper=True)
    def pytest_runtest_makereport(self, item, call):
        report = (yield).get_result()
        if call.when == "call" and report.passed and item.get_closest_marker("long"):
            PASSED.parent.mkdir(parents=True, exist_ok=True)
            with PASSED.open("a", encoding="utf-8") as out:
                out.write(
                    json.dumps(
                        {
                            "name": item.nodeid,
                            "source": self._source(item),
                            "seconds": time.monotonic() - item.began,
                        }
                    )
                    + "\n"
                )
