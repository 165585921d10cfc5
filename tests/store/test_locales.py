"""Numbers, days and times are written as in the place that the reader's browser names; what is kept
and what programs are told stays as it is."""

import datetime as dt

import pytest

from meadowrun.base import clock
from meadowrun.core import language, wording
from meadowrun.core.content.formats import FILTERS, in_words
from meadowrun.core.language import Wording, in_language
from meadowrun.people.models import Contact
from meadowrun.shell.language import formats
from tests.conftest import NOW
from tests.store.people import many
from tests.store.web import sign_in, words

#: What is written, and how it reads in Britain, the United States, Germany and France: from the
#: tables of Unicode CLDR.
WRITTEN = [
    (wording.number(1234567.5), "1,234,567.5", "1,234,567.5", "1.234.567,5", "1 234 567,5"),
    (wording.number(-3), "−3", "-3", "-3", "-3"),
    (wording.percent(12.34), "12.3%", "12.3%", "12,3 %", "12,3 %"),
    (wording.percent(7, 0), "7%", "7%", "7 %", "7 %"),
    (wording.decimal(1234.5, 2), "1,234.50", "1,234.50", "1.234,50", "1 234,50"),
    (wording.signed(2.46), "+2.5", "+2.5", "+2,5", "+2,5"),
    (wording.signed(-1234.5, 2), "−1,234.50", "-1,234.50", "-1.234,50", "-1 234,50"),
    (wording.day(dt.date(2026, 12, 4)), "4 Dec 2026", "Dec 4, 2026", "4. Dez. 2026", "4 déc. 2026"),
    (wording.day_month("02-29"), "29 Feb", "Feb 29", "29. Feb.", "29 févr."),
    (wording.weekday(dt.date(2026, 12, 4)), "Fri", "Fri", "Fr", "ven."),
    (
        wording.long_month(dt.date(2026, 12, 4)),
        "December 2026",
        "December 2026",
        "Dezember 2026",
        "décembre 2026",
    ),
    (wording.time(dt.time(14, 5)), "14:05", "2:05 PM", "14:05", "14:05"),
    (wording.share(1, 100_000), "under 0.1%", "under 0.1%", "under 0,1 %", "under 0,1 %"),
]


def read(text, locale):
    """A text as it is printed for somebody, with plain spaces."""
    try:
        language.read_by(None, formats.of(locale))
        return in_language(text).replace("\u202f", " ").replace("\xa0", " ")
    finally:
        language.read_by(None)


@pytest.mark.parametrize(("text", "britain", "america", "germany", "france"), WRITTEN)
def test_each_is_written_as_the_reader_does(text, britain, america, germany, france):
    said = [read(text, locale) for locale in ("en_GB", "en_US", "de_DE", "fr_FR")]
    assert said == [britain, america, germany, france]
    # Code sees one and the same.
    assert text == britain and f"{text}" == britain


def test_a_figure_inside_of_a_sentence_is_written_so_too():
    said = Wording(
        "%(people)s since %(day)s", people=wording.people(1200), day=wording.day(NOW.date())
    )
    assert read(said, "en_US") == "1,200 people since Nov 23, 2026"
    assert read(said, "de_DE") == "1.200 people since 23. Nov. 2026"
    assert said == "1,200 people since 23 Nov 2026"


def test_what_a_message_says_is_the_same_wherever_it_is_previewed():
    for text, said in (
        (FILTERS["number"](12345), "12,345"),
        (FILTERS["day"]("2026-12-04"), "4 Dec 2026"),
        (in_words("2026-12-04T18:30"), "4 Dec 2026, 18:30"),
    ):
        assert text == said and type(text) is str and read(text, "de_DE") == said


def test_the_next_request_is_nobodys(client):
    client.get("/sign-in", headers={"Accept-Language": "fr-FR,en-US"})
    assert in_language(wording.number(12345)) == "12,345"


@pytest.mark.parametrize(
    ("accepted", "locale"),
    [
        ([], "en_GB"),
        (["en"], "en_GB"),
        (["en-US", "en"], "en_US"),
        (["de-AT", "en-AU"], "en_AU"),
        (["en-XX", "en-CA"], "en_CA"),
        (["tlh-QQ"], "en_GB"),
        (["e n-/..", "en_US;q"], "en_GB"),
    ],
)
def test_the_place_is_the_first_that_goes_with_the_language_of_the_page(accepted, locale):
    assert formats.chosen("en", accepted) == locale


def test_a_page_is_written_for_the_browser_that_asks(client, database):
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 1)
        session.get(Contact, 1).attributes = {}
    sign_in(client)
    with clock.at(NOW + dt.timedelta(days=9)):
        at_home = words(client.get("/people/1").text)
        there = client.get("/people/1", headers={"Accept-Language": "en-US,en;q=0.8"})
    assert "23 Nov 2026, 14:00" in at_home
    assert "Nov 23, 2026, 2:00 PM" in words(there.text).replace("\u202f", " ")
    assert 'data-locale="en-US"' in there.text
