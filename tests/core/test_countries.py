"""Of which country the telephone numbers of a file are, and what becomes of cells that cannot be
read."""

import pytest

from meadowrun.core import countries
from meadowrun.core import people_file as pf
from meadowrun.core import table_file as tf
from meadowrun.core.people_columns import guess_type

GERMAN = ["0171/6990876", "0221 4710123", "0151 23456789", "+43 1 5880010"]
BRITISH = ["020 7183 8750", "07400 123456", "0161 496 0123"]


@pytest.mark.parametrize(
    ("numbers", "zones", "languages", "headings", "home", "country"),
    [
        (GERMAN, ["Europe/Berlin"], [], ["Email", "Phone"], "GB", "DE"),
        (GERMAN, [], ["de"], ["Email", "Phone"], "GB", "DE"),
        (GERMAN, [], [], ["Vorname", "Nachname", "Telefon"], "GB", "DE"),
        (GERMAN, [], [], ["Email", "Phone"], "GB", ""),
        (BRITISH, [], [], ["Email", "Phone"], "GB", "GB"),
        (BRITISH, ["Europe/London"], ["en"], [], "DE", "GB"),
        (["07700 900001", "01632 960140"], [], [], [], "GB", "GB"),
        (["+49 171 6990876"], [], ["de"], [], "GB", ""),
        ([], [], [], [], "GB", ""),
        (["12", "extension 7", "ask Ida"], [], [], [], "GB", ""),
        (["0171/6990876", "020 7183 8750"], [], [], [], "GB", ""),
    ],
)
def test_the_country_is_guessed_from_the_file_and_never_wrongly(
    numbers, zones, languages, headings, home, country
):
    assert countries.guessed(numbers, zones, languages, headings, home) == country


@pytest.mark.parametrize(
    ("text", "code"),
    [
        ("DE", "DE"),
        ("de", "DE"),
        ("Germany", "DE"),
        ("Deutschland", "DE"),
        ("Österreich", "AT"),
        ("UK", "GB"),
        ("France", "FR"),
        ("Narnia", ""),
        ("", ""),
    ],
)
def test_countries_by_what_people_call_them(text, code):
    assert countries.called(text) == code


FILE = (
    "Email,Phone,Country,Born\nann@a.example,0171/6990876,Germany,3.5.1979\nbo@a.example,0161 "
    "496 0123,UK,yesterday\n"
    "no-at-sign,,,\ncy@a.example,12,,1.1.1990\n"
)


def read(bad_cells):
    plan = pf.Plan(("email", "phone", pf.COUNTRY, "own:born"), bad_cells=bad_cells)
    from meadowrun.core.audience.fields import FieldSpec

    own = {"born": FieldSpec("born", "born", "date")}
    return list(
        pf.read(
            FILE.encode(),
            tf.recognise(FILE.encode()),
            plan,
            own,
            ["Email", "Phone", "Country", "Born"],
        )
    )


def test_a_row_says_its_own_country_and_a_bad_cell_costs_only_itself():
    rows = read("leave_out")
    taken = [r for r in rows if isinstance(r, pf.Row)]
    assert [r.standard.get("phone") for r in taken] == ["+49 171 6990876", "+44 161 496 0123", None]
    assert [[column for column, _ in r.left_out] for r in taken] == [[], ["Born"], ["Phone"]]
    assert [r.number for r in rows if isinstance(r, pf.Refusal)] == [4], (
        "without an address nobody would know who it is"
    )
    assert [r.number for r in read("refuse") if isinstance(r, pf.Refusal)] == [3, 4, 5]


@pytest.mark.parametrize(
    ("cells", "kind"),
    [
        (
            [
                "Patron",
                "Student",
                "patron",
                "Student",
                "Single",
                "Single",
                "Patron",
                "Single",
                "Student",
            ],
            "choice",
        ),
        (["a", "b", "c"], "text"),
        (["3.5.1979", "", "12.11.2001"], "date"),
        (["12", "7,5"], "number"),
        (["yes", "no"], "yes_no"),
        (["", ""], "text"),
        (["44", "51", "n/a", "37", "29"], "number"),
        (["3.10.2025", "31.2.2025", "1.2.2025", "5.5.2025", "", "7.7.2025"], "date"),
        (["44", "n/a", "?"], "text"),
        (["01067", "50667"], "text"),
        (["0", "12"], "number"),
    ],
)
def test_what_a_new_column_would_be(cells, kind):
    assert guess_type(cells) == kind
