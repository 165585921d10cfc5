"""Long tests are skipped when they passed with the same source, and run again when anything changed
or somebody asks."""

import pytest

from tests import long_runs

pytest_plugins = ["pytester"]
TESTS = """
import pathlib
import pytest

@pytest.mark.long
@pytest.mark.parametrize("good", [True, False])
def test_long(good):
    with pathlib.Path("ran").open("a") as out:
        out.write("x")
    assert good
"""


@pytest.fixture
def ran(pytester, monkeypatch):
    monkeypatch.setattr(long_runs, "PASSED", pytester.path / "passed.jsonl")
    monkeypatch.setattr(long_runs, "source", lambda folder: "one")
    monkeypatch.delenv(long_runs.AGAIN, raising=False)
    pytester.makepyfile(TESTS)
    pytester.makeini("[pytest]\nmarkers = long: long ones")

    def run():
        pytester.runpytest_inprocess("-p", "no:randomly", plugins=[long_runs.LongRuns()])
        found = (pytester.path / "ran").read_text() if (pytester.path / "ran").exists() else ""
        (pytester.path / "ran").unlink(missing_ok=True)
        return len(found)

    return run


def test_what_passed_is_not_run_again_and_what_failed_is(ran, monkeypatch):
    assert (ran(), ran()) == (2, 1)
    monkeypatch.setenv(long_runs.AGAIN, "1")
    assert ran() == 2


def test_another_source_runs_it_again(ran, monkeypatch):
    assert ran() == 2
    monkeypatch.setattr(long_runs, "source", lambda folder: "two")
    assert ran() == 2


def test_the_source_is_the_application_and_what_was_asked_for(monkeypatch):
    here = long_runs.ROOT / "tests" / "kills"
    first = long_runs.source(here)
    assert long_runs.source(here) == first
    monkeypatch.setenv("MEADOWRUN_KILLS", "3")
    assert long_runs.source(here) != first
