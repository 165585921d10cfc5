import datetime as dt

import pytest

from meadowrun.core import values


@pytest.mark.parametrize(
    ("text", "value"),
    [
        ("1234.5", 1234.5),
        ("1,234.5", 1234.5),
        ("1.234,5", 1234.5),
        ("12,5", 12.5),
        ("£ 30", 30),
        ("−4", -4),
        ("1 000", 1000),
        ("2'500", 2500),
        ("7", 7),
    ],
)
def test_number(text, value):
    assert values.number(text) == value


@pytest.mark.parametrize("text", ["", "abc", "1,2,3", "12.3.4", "1e5", "٣"])
def test_what_is_no_number(text):
    with pytest.raises(values.ValueProblem):
        values.number(text)


@pytest.mark.parametrize(
    ("text", "day"),
    [
        ("2026-11-23", dt.date(2026, 11, 23)),
        ("23.11.2026", dt.date(2026, 11, 23)),
        ("3/5/2024", dt.date(2024, 5, 3)),
        ("29 February 2024", dt.date(2024, 2, 29)),
        ("1. März 2025", dt.date(2025, 3, 1)),
        ("May 7, 2024", dt.date(2024, 5, 7)),
        ("45000", dt.date(2023, 3, 15)),
        ("2026-11-23T10:00:00", dt.date(2026, 11, 23)),
        ("1.2.49", dt.date(2049, 2, 1)),
        ("1.2.51", dt.date(1951, 2, 1)),
    ],
)
def test_date(text, day):
    assert values.date(text) == day


def test_date_with_the_month_first():
    assert values.date("3/5/2024", day_first=False) == dt.date(2024, 3, 5)
    assert values.date("3.5.2024", day_first=False) == dt.date(2024, 5, 3)


@pytest.mark.parametrize("text", ["29.2.2025", "31/4/2024", "soon", "2026-13-01", "12 Smarch 2024"])
def test_what_is_no_date(text):
    with pytest.raises(values.ValueProblem, match="is not a date"):
        values.date(text)


@pytest.mark.parametrize(
    ("text", "moment"),
    [
        ("2026-11-23 14:05", "2026-11-23T14:05"),
        ("2026-11-23T14:05:59.123", "2026-11-23T14:05"),
        ("23.11.2026, 9.30", "2026-11-23T09:30"),
        ("3/5/2024 12:10 am", "2024-05-03T00:10"),
        ("3 May 2024 12:00 PM", "2024-05-03T12:00"),
        ("3 May 2024 9:30 p.m.", "2024-05-03T21:30"),
        ("29 February 2024 23:59", "2024-02-29T23:59"),
    ],
)
def test_a_date_and_time(text, moment):
    assert values.typed("datetime", text) == moment == values.typed("datetime", moment)


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("2026-11-23", "is not a date and time like"),
        ("14:05", "is not a date and time"),
        ("2026-11-23 24:00", "is not a date and time"),
        ("2026-11-23 13:00 pm", "is not a date and time"),
        ("29.2.2025 10:00", "is not a date and time"),
        ("soon 10:00", "is not a date and time"),
        ("2026-11-23T14:05Z", "names a zone"),
        ("2026-11-23T14:05+01:00", "names a zone"),
    ],
)
def test_what_is_no_date_and_time(text, says):
    with pytest.raises(values.ValueProblem, match=says):
        values.typed("datetime", text)


@pytest.mark.parametrize(
    ("kind", "value", "options", "stored"),
    [
        ("datetime", dt.datetime(2026, 1, 2, 3, 4, 5), (), "2026-01-02T03:04"),  # noqa: DTZ001
        ("datetime", "", (), None),
        ("choice", "HOUSEHOLD ", ("Household", "Patron"), "Household"),
        ("choices", "b; a ;b", (), ["a", "b"]),
        ("yes_no", "Ja", (), True),
        ("yes_no", "0", (), False),
        ("text", "  a  b ", (), "a b"),
        ("text", "", (), None),
        ("number", 3.0, (), 3.0),
        ("date", dt.datetime(2026, 1, 2, 3, 4), (), "2026-01-02"),  # noqa: DTZ001
        ("text", 12.0, (), "12"),
        ("date", None, (), None),
    ],
)
def test_typed(kind, value, options, stored):
    assert values.typed(kind, value, options) == stored


def test_a_choice_that_is_none_of_the_options_is_refused():
    with pytest.raises(values.ValueProblem, match="not one of Single or Patron"):
        values.typed("choice", "Emperor", ("Single", "Patron"))


@pytest.mark.parametrize(
    "address",
    [
        "a@b.example",
        "First.Last+tag@sub.post.example",
        "o'dell@post.example",
        "ü@post.example",
        " A@B.EXAMPLE ",
    ],
)
def test_usable_addresses(address):
    assert values.email_problem(address) is None


@pytest.mark.parametrize(
    ("address", "why"),
    [
        ("nobody", "has no @"),
        ("ann@@a.example", "has more than one @"),
        ("ann@work@a.example", "has more than one @"),
        ("@post.example", "not a complete"),
        ("a@", "not a complete"),
        ("a@localhost", "not a domain"),
        ("a@-bad-.example", "not a domain"),
        ("a b@post.example", "not an address"),
        ("a..b@post.example", "not an address"),
        ("x" * 70 + "@post.example", "not an address"),
    ],
)
def test_unusable_addresses(address, why):
    assert why in (values.email_problem(address) or "")


def test_phone_and_zone():
    assert (
        values.phone("07700 900123", "GB") == values.phone("0044 7700 900123") == "+44 7700 900123"
    )
    assert values.timezone("Europe/London") == "Europe/London"
    with pytest.raises(values.ValueProblem):
        values.phone("call me")
    for text, region in (("0171/6990876", ""), ("0221 4710123", "GB")):
        with pytest.raises(values.ValueProblem, match="country"):
            values.phone(text, region)
    assert values.phone("0171/6990876", "DE") == "+49 171 6990876"
    with pytest.raises(values.ValueProblem):
        values.timezone("../../etc/passwd")
