"""Tasks for colleagues: what they can be, and who gets the next one."""

import datetime as dt
from collections.abc import Mapping, Sequence

from meadowrun.core.language import Wording

#: What a colleague is asked for.
KINDS = {
    "task": Wording("Task"),
    "call": Wording("Call"),
    "appointment": Wording("Appointment"),
    "lead": Wording("Lead"),
}
PRIORITIES = {"high": Wording("high"), "usual": Wording("usual"), "low": Wording("low")}


def next_in_turn(
    colleagues: Sequence[int], away: frozenset[int], last: Mapping[int, dt.datetime], most: int
) -> list[int]:
    """Who gets the next tasks, `most` of them, in turn: whoever had none for longest first, those
    who had none at all in the order given. Whoever is away gets none; nobody does where all are.

    Args:
        last: when each of them last got one of these tasks.
    """
    here = [one for one in dict.fromkeys(colleagues) if one not in away]
    never = dt.datetime.min.replace(tzinfo=dt.UTC)
    order = sorted(here, key=lambda one: last.get(one, never))
    return [order[place % len(order)] for place in range(most)] if order else []
