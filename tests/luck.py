"""How often property tests try their luck.

The ordinary suite draws the same examples each time, so that the same code always gives the same
answer; `--long` draws new ones, and many more of them. What it finds is then written down as an
`@example`.
"""

import os

from hypothesis import HealthCheck, settings

LONG = os.environ.get("MEADOWRUN_LONG") == "1"
TIMES = 20


def tries(examples=100):
    """Settings for a property test: so many examples ordinarily, twenty times as many in
    `--long`."""
    return settings(
        max_examples=examples * (TIMES if LONG else 1),
        derandomize=not LONG,
        deadline=None,
        print_blob=True,
        suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
    )
