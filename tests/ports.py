"""Ports for the servers that tests start."""

import random

from meadowrun.base.cluster import free_port


def own_port():
    """A port of this process's own.

    The suite runs in several processes. Looking upwards from one fixed number, two of them find the
    same free port before either has taken it, and one then talks to the other's server until that
    one ends. Chosen by chance below the range that the system hands out itself, they do not meet.
    """
    return free_port(random.SystemRandom().randrange(20_000, 32_000))
