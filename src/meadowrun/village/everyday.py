"""What the village's people do without being written to: they come to the dome, look at tickets,
book, give. Planned a day at a time, from how often each of them does anything."""

import datetime as dt
import itertools
import json
import math
from collections.abc import Sequence

from meadowrun.village.minds import Plan, dice_of
from meadowrun.village.store import Doing, Habit

#: Seconds by which people miss the hour they like.
_AROUND = 4200.0
_DAY = 86_400


def season(day: dt.date) -> float:
    """How much is done at the observatory on a day, beside one in the middle of spring or autumn:
    1.6 times in December, less than half in June."""
    turn = 2 * math.pi * (day.timetuple().tm_yday - 350) / 365.25
    return (0.62 + 0.38 * math.cos(turn)) / 0.62


def of_day(habits: Sequence[Habit], doings: Sequence[Doing], day: dt.date) -> list[Plan]:
    """What everybody does on a day (UTC), in order; the same whenever asked."""
    midnight = dt.datetime.combine(day, dt.time(), dt.UTC).timestamp()
    members = [one for one in habits if one.tier]
    plans = []
    for doing in doings:
        dice = dice_of("everyday", day.isoformat(), doing.event)
        expected = doing.a_day * season(day)
        many = int(expected) + (dice.random() < expected % 1)
        among = members if doing.members else habits
        if not among:
            continue
        shares = list(itertools.accumulate(one.often for one in among))
        for who in dice.choices(among, cum_weights=shares, k=many):
            at = midnight + (who.hour * 3600 + dice.gauss(0, _AROUND)) % _DAY
            details = {"tier": who.tier} if doing.members else {}
            if doing.details:
                details = json.loads(dice.choice(doing.details))
            told = {"event": doing.event, "contact": int(who.contact), "details": details}
            plans.append(Plan(at, "did", told))
    return sorted(plans, key=lambda one: one.due)
