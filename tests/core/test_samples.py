"""What each play of a rehearsal goes by: what rests on little differs between plays."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.journeys.samples import as_many, drawn_for


@pytest.mark.parametrize(("known", "people"), [(50, 1000), (400, 1000), (400, 40)])
def test_a_share_strays_by_what_is_known_and_by_chance(known, people):
    """Three of ten of those who are known did it. Between plays the share strays by
    √(0.3 · 0.7 · (1 / known + 1 / people)), but for what is both."""
    random, plays = np.random.default_rng(3), 3000
    did = np.arange(known) < known * 0.3
    play = np.repeat(np.arange(plays), people)
    shares = did[drawn_for(random, known, plays, play)].reshape(plays, people).mean(axis=1)
    strays = math.sqrt(0.21 * (1 / known + 1 / people - 1 / (known * people)))
    assert shares.mean() == pytest.approx(0.3, abs=0.004)
    assert shares.std() == pytest.approx(strays, rel=0.06)


@given(st.lists(st.integers(0, 50), unique=True, max_size=30), st.floats(0, 4))
def test_so_many_times_as_many(some, share):
    found = as_many(np.random.default_rng(1), some, share).tolist()
    assert len(found) == round(len(some) * share)
    assert set(found) <= set(some)
    assert len(set(found)) == min(len(some), len(found)), "all of them before anybody twice"
