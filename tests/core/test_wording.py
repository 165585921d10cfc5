import datetime as dt

import pytest

from meadowrun.core import wording


@pytest.mark.parametrize(
    ("value", "said"),
    [(0, "0"), (999, "999"), (24318, "24,318"), (-7, "−7"), (2.0, "2"), (2.5, "2.5")],
)
def test_number(value, said):
    assert wording.number(value) == said


@pytest.mark.parametrize(
    ("part", "whole", "said"),
    [
        (0, 0, "–"),
        (0, 10, "0.0%"),
        (1, 3, "33.3%"),
        (10, 10, "100.0%"),
        (1, 1_000_000, "under 0.1%"),
        (999_999, 1_000_000, "over 99.9%"),
        (1, 8, "12.5%"),
    ],
)
def test_share_states_no_false_zero_and_no_false_whole(part, whole, said):
    assert wording.share(part, whole) == said


@pytest.mark.parametrize(
    ("first", "last", "said"),
    [
        (dt.date(2026, 11, 23), dt.date(2027, 1, 22), "23 Nov 2026 – 22 Jan 2027"),
        (dt.date(2026, 1, 2), dt.date(2026, 12, 3), "2 Jan – 3 Dec 2026"),
        (dt.date(2026, 5, 5), dt.date(2026, 5, 5), "5 May 2026"),
    ],
)
def test_span(first, last, said):
    assert wording.span(first, last) == said


@pytest.mark.parametrize(
    ("text", "folded"),
    [
        ("  Müller-Hayes ", "muller-hayes"),
        ("ZOË", "zoe"),
        ("Straße", "strasse"),
        ("Ibáñez  José", "ibanez jose"),
    ],
)
def test_fold(text, folded):
    assert wording.fold(text) == folded


@pytest.mark.parametrize(
    ("seconds", "said"),
    [
        (5, "just now"),
        (60, "1 minute ago"),
        (7200, "2 hours ago"),
        (86400 * 45, "1 month ago"),
        (86400 * 800, "2 years ago"),
    ],
)
def test_ago(seconds, said):
    assert wording.ago(seconds) == said


def test_joined():
    assert wording.joined(["a", "b", "c"]) == "a, b or c"
    assert wording.joined(["a"]) == "a"
