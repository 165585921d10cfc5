"""Names of sends: suggested, held to a pattern, and told apart."""

import datetime as dt

import pytest
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.naming import PARTS, PatternError, check, dated, follows, nearest, suggested

PATTERN = "{campaign} · {subject} · {date}"


@pytest.mark.parametrize(
    ("pattern", "parts", "name"),
    [
        (
            PATTERN,
            {"campaign": "Winter", "subject": "Come back", "date": "2026-11-30"},
            "Winter · Come back · 2026-11-30",
        ),
        # What is not known takes its sign with it, wherever it stands.
        (PATTERN, {"campaign": "Winter", "date": "2026-11-30"}, "Winter · 2026-11-30"),
        (PATTERN, {"subject": "Come back"}, "Come back"),
        ("{date}_{kind}_{subject}", {"date": "2026-11-30", "kind": "letter"}, "2026-11-30_letter"),
        ("FH {subject}", {"subject": "Zürich – Διάλεξη"}, "FH Zürich – Διάλεξη"),
        (PATTERN, {}, ""),
    ],
)
def test_a_name_is_suggested(pattern, parts, name):
    assert suggested(pattern, parts) == name


def test_the_parts_of_a_day():
    assert dated(dt.date(2026, 3, 9)) == {"date": "2026-03-09", "month": "2026-03"}


@pytest.mark.parametrize(
    ("pattern", "name", "fits"),
    [
        ("", "whatever", True),
        (PATTERN, "Winter · Come back · 2026-11-30", True),
        (PATTERN, "winter · come back · 2026-11-30", True),
        (PATTERN, "Winter · Come back · 30 November", False),
        (PATTERN, "Winter, Come back, 2026-11-30", False),
        ("{month} {subject}", "2026-11 Diary", True),
        ("{month} {subject}", "2026-11-30 Diary", False),
        # Signs of patterns of other kinds are only signs.
        ("[{kind}] (.*) {subject}", "[letter] (.*) Diary", True),
        ("[{kind}] (.*) {subject}", "[letter] xx Diary", False),
    ],
)
def test_a_name_follows_a_pattern(pattern, name, fits):
    assert follows(pattern, name) is fits


@pytest.mark.parametrize(
    ("pattern", "says"),
    [
        ("{campain} {date}", "“{campain}” cannot be part"),
        ("Letter", "one part in braces"),
        ("{subject} {", "A brace is open"),
        ("{subject}}", "A brace is open"),
        ("{}", "“{}” cannot be part"),
    ],
)
def test_a_pattern_that_cannot_be(pattern, says):
    with pytest.raises(PatternError, match=says):
        check(pattern)


def test_a_pattern_is_taken_without_blanks_at_its_ends():
    assert check("  {kind}   {date} ") == "{kind} {date}"
    assert check("") == ""


NAMES = ("Sky diary, November 2026", "Winter renewals", "Open night: Perseids", "Café at the dome")


@pytest.mark.parametrize(
    ("name", "near"),
    [
        ("winter renewal", "Winter renewals"),
        ("Sky  Diary November 2026", "Sky diary, November 2026"),
        ("Cafe at the dome", "Café at the dome"),
        # Another month has another number; that is how they are told apart.
        ("Sky diary, November 2027", None),
        ("Open night: Leonids", None),
        ("Something else", None),
    ],
)
def test_names_that_are_easily_taken_for_each_other(name, near):
    assert nearest(name, NAMES) == near


@given(
    st.lists(st.sampled_from(sorted(PARTS)), min_size=1, unique=True),
    st.sampled_from([" · ", " - ", "_", " / "]),
    st.text("abc xyz", min_size=1).filter(str.strip),
)
def test_what_is_suggested_follows_the_pattern(parts, sign, word):
    pattern = sign.join(f"{{{part}}}" for part in parts)
    given_parts = {part: " ".join(word.split()) for part in parts} | {
        key: value for key, value in dated(dt.date(2026, 11, 30)).items() if key in parts
    }
    assert follows(check(pattern), suggested(pattern, given_parts))
