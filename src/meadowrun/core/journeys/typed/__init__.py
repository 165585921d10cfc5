"""A step as somebody types it: “wait 3 days”, “email Welcome”, “if in Members”, read into a step,
with the words that nothing was made of."""

from collections.abc import Callable

from meadowrun.core.journeys.typed import acts, messages, partings, waits, waits_for
from meadowrun.core.journeys.typed.partings import read_exit_rule, says_withdrawn
from meadowrun.core.journeys.typed.parts import Reading, who_of
from meadowrun.core.journeys.typed.starts import read_start
from meadowrun.core.journeys.words import Names

__all__ = ["Reading", "read", "read_exit_rule", "read_start", "says_withdrawn", "who_of"]

#: What a step may be, in the order in which they come first where equally much is understood.
_READERS: tuple[Callable[[str, Names], list[Reading]], ...] = (
    waits.read,
    waits_for.read,
    messages.read,
    partings.read_event,
    partings.read_branch,
    partings.read_split,
    acts.read_change,
    acts.read_score,
    acts.read_field,
    messages.read_reminder,
    messages.read_again,
    acts.read_webhook,
    acts.read_task,
    acts.read_tell,
    acts.read_jump,
    acts.read_goal,
    acts.read_exit,
)


def read(text: str, names: Names) -> list[Reading]:
    """The readings of a typed step, the most likely first: none where it is not understood."""
    said = " ".join(text.split())
    found = [reading for reader in _READERS for reading in reader(said, names)]
    return sorted(found, key=lambda one: len(one.unused))
