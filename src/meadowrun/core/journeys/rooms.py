"""Room under the limits of a rehearsal: what everybody had, and what the journey sends them."""

import numpy as np

from meadowrun.core.journeys.clocks import NEVER, Floats, Ints, leaves, room_at
from meadowrun.core.journeys.imagined import World


class Rooms:
    """What counts for each limit, by its place: messages from elsewhere, by person, and those of
    the journey, by start. When a message is in the period of a limit no more is worked out once."""

    def __init__(self, world: World):
        self._world = world
        #: place of a limit → moments, and when each counts no more: one row a person
        self._elsewhere: dict[int, tuple[Floats, Floats]] = {}
        #: the same of this journey: one entry a message, one number a start
        self._own: dict[int, list[tuple[Floats, Floats]]] = {}

    def note(self, limit: int, who: Ints, at: Floats) -> None:
        """A message of the journey that counts for a limit: which starts get it, and when."""
        starts = self._world.starts
        moments = np.full(len(starts.at), NEVER)
        until = np.full(len(starts.at), -NEVER)
        moments[who] = at
        zone = self._world.people.zone[starts.person[who]]
        until[who] = leaves(self._world.limits[limit], at, zone, self._world.clocks)
        self._own.setdefault(limit, []).append((moments, until))

    def known(self, limit: int, who: Ints) -> tuple[Floats, Floats]:
        """What some starts had, or will have, that counts for a limit: the moments, infinity where
        there are fewer, and when each counts no more; one row a start."""
        people = self._world.people
        if limit not in self._elsewhere:
            had, zone = people.had[limit], people.zone[:, None]
            until = leaves(self._world.limits[limit], had, zone, self._world.clocks)
            self._elsewhere[limit] = had, until
        person = self._world.starts.person[who]
        own = self._own.get(limit, [])
        moments, until = (
            np.column_stack([part[person], *(one[number][who] for one in own)])
            for number, part in enumerate(self._elsewhere[limit])
        )
        return moments, until

    def first(self, limit: int, known: tuple[Floats, Floats], now: Floats) -> Floats:
        """The first moment from `now` on at which a limit has room for one more, by what is known
        of each."""
        return room_at(self._world.limits[limit].most, *known, now)
