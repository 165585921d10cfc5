"""What every test can ask for: a database of its own, settings, a session, people to work with."""

import datetime as dt
import os

import argon2
import pytest
import structlog
from hypothesis import settings as hypotheses

from meadowrun import channels
from meadowrun.base import clock, jobs
from meadowrun.base.cache import forget
from meadowrun.base.settings import Settings
from meadowrun.features import features, load_tasks
from meadowrun.shell import accounts, compiling
from tests.databases import drop_all, own_database
from tests.long_runs import LongRuns
from tests.luck import tries

# What a rule says of a channel or a condition holds without an application around it.
channels.load()
features(True)
hypotheses.register_profile("ours", tries())
hypotheses.load_profile("ours")


#: The files that take longest, which are begun with: one that comes last would keep one process
#: busy while the other has nothing left.
DEAR = (
    "test_pages",
    "test_channels",
    "test_message",
    "test_keys_and_roles",
    "test_first_path",
    "test_hostile_addresses",
    "test_two_workers",
    "test_message_limits",
    "test_server",
    "test_languages",
)


def pytest_collection_modifyitems(items):
    """Those in a browser first, after which nothing of the running demo is left; of each kind the
    dear files before the others."""
    places = {name: place for place, name in enumerate(DEAR)}
    items.sort(
        key=lambda item: (
            item.path.parent.name != "browser",
            places.get(item.path.stem, len(DEAR)),
        )
    )


def pytest_configure(config):
    config.pluginmanager.register(LongRuns())
    # What is logged is shown where a test fails: as plain lines, since drawing a fault with all
    # that was known at each place takes longer than most tests.
    structlog.configure(
        processors=[
            structlog.processors.add_log_level,
            structlog.processors.format_exc_info,
            structlog.processors.LogfmtRenderer(),
        ]
    )


NOW = dt.datetime(2026, 11, 23, 14, 0, tzinfo=dt.UTC)


def settings_for(url, **more):
    """Settings with sensible values for tests, on a database's address."""
    return Settings.read(
        {
            "MEADOWRUN_DATABASE_URL": url,
            "MEADOWRUN_SECRET": "s" * 40,
            "MEADOWRUN_PUBLIC_URL": "http://127.0.0.1:1",
            "MEADOWRUN_SMTP_URL": "null:",
            "MEADOWRUN_SMS_URL": "null:",
            "MEADOWRUN_ORGANISATION": "Farrow Hill Observatory",
            "MEADOWRUN_POSTAL_ADDRESS": "Tarn Road, Farrow",
            "MEADOWRUN_MAIL_DOMAIN": "mail.example",
            "MEADOWRUN_SECOND_STEP": "nobody",
            **more,
        }
    )


@pytest.fixture(scope="session", autouse=True)
def light(tmp_path_factory):
    """What is dear on purpose would be most of the time of a test: passwords are hashed weakly.
    Compiled templates are kept in a folder of the run's own. Gives the hasher that is used
    otherwise, for the test of it."""
    with pytest.MonkeyPatch.context() as patch:
        strong, weak = (
            accounts.hasher,
            argon2.PasswordHasher(time_cost=1, memory_cost=8, parallelism=1),
        )
        patch.setattr(accounts, "hasher", weak)
        patch.setattr(accounts, "_NOBODY", weak.hash("nobody"))
        # One for both processes of a run.
        folder = tmp_path_factory.getbasetemp()
        if "PYTEST_XDIST_WORKER" in os.environ:
            folder = folder.parent
        folder = folder / "templates"
        folder.mkdir(mode=0o700, exist_ok=True)
        patch.setattr(compiling.Kept, "_get_default_cache_dir", lambda self: str(folder))
        yield strong


@pytest.fixture(scope="session")
def cluster_url():
    url = os.environ.get("MEADOWRUN_TEST_CLUSTER")
    if not url:
        pytest.skip("run the tests with ./meadowrun test: they need its throw-away database server")
    yield url
    drop_all()


@pytest.fixture
def database(cluster_url):
    """A migrated database without anything in it."""
    with own_database(cluster_url) as made:
        forget()
        yield made


@pytest.fixture
def settings(database):
    return settings_for(database.url)


@pytest.fixture
def job_context(database, settings):
    load_tasks(True)
    jobs.set_context(jobs.Context(database, settings))


@pytest.fixture
def still():
    """The clock stands at NOW."""
    with clock.at(NOW):
        yield NOW
