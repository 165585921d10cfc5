"""The features of the application, each after what it stands on; and the stations of its header."""

from meadowrun.base.manifest import Loaded, load
from meadowrun.core.language import Wording

#: Folders with a `feature.py`.
NAMES = (
    "shell",
    "people",
    "tags",
    "segments",
    "scores",
    "imports",
    "files",
    "messages",
    "channels",
    "outgoing",
    "tracking",
    "campaigns",
    "sends",
    "tasks",
    "journeys",
    "calendar",
    "results",
    "readiness",
    "api",
    "retention",
    "home",
)
#: What only a demo has.
OF_DEMO = ("village",)
#: What the header leads to: its words and endpoint.
STATIONS = (
    (Wording("Today"), "home.today"),
    (Wording("People"), "people.table"),
    (Wording("Messages"), "messages.table"),
    (Wording("Campaigns"), "campaigns.table"),
    (Wording("Calendar"), "calendar.show"),
    (Wording("Results"), "results.table"),
)


def features(demo: bool) -> list[Loaded]:
    """Every feature; with those of a demo where this is one."""
    return load(f"meadowrun.{name}" for name in (*NAMES, *(OF_DEMO if demo else ())))


def load_tasks(demo: bool) -> None:
    """Registers the background tasks of every feature."""
    for one in features(demo):
        one.load_tasks()
