"""People who are written to read the pages of their links in their own language."""

import gettext
import pathlib
import re

import pytest
import sqlalchemy as sa
from babel.messages.pofile import read_po

from meadowrun.base import jobs, signing
from meadowrun.people import actions as people
from meadowrun.people import reader_language
from meadowrun.people.actions import save_topic
from meadowrun.people.models import ConsentChange, Contact, Topic
from meadowrun.shell.language.units import units
from tests.conftest import NOW
from tests.store.people import IDA, add
from tests.store.web import sign_in

SRC = pathlib.Path(reader_language.__file__).parents[1]
CATALOGUES = sorted((SRC / "people" / "languages").glob("*.po"))


@pytest.fixture
def topics(database):
    """Two topics, one of them with German words."""
    german = {"name": "Himmelsbrief", "about": "was zu sehen ist", "often": "jeden Monat"}
    with database.session() as session:
        made = [
            save_topic(
                session, IDA, NOW, "Sky diary", "what to see", None, "monthly", {"de": german}
            ),
            save_topic(session, IDA, NOW, "Lectures", "in the library"),
        ]
        return [one.id for one in made]


@pytest.fixture
def heidi(database, topics):
    """Somebody who reads German, with one topic, a phone, and nothing agreed to in the other."""
    with database.session() as session:
        made = add(
            session,
            NOW,
            "heidi@post.example",
            None,
            phone="+441632960100",
            language="de-AT",
        )
        people.set_consent(session, NOW, made.id, topics[0], True, "test")
        people.set_consent(session, NOW, made.id, 0, True, "test", "sms")
        return made.id


def page_of(settings, contact, purpose="choose", number=0):
    address = {"choose": "p", "leave": "u"}[purpose]
    return f"/{address}/{signing.make(settings.secret, purpose, number, contact)}"


@pytest.mark.parametrize("path", CATALOGUES, ids=lambda path: path.stem)
def test_a_catalogue_is_whole_and_right(path):
    """Every text of the pages is there, with the same values and elements in it."""
    with path.open("rb") as file:
        read = read_po(file, locale=path.stem)
    assert [problem for message in read for problem in message.check(read)] == []
    texts = {
        unit.text
        for page in (SRC / "tracking" / "templates" / "tracking").glob("*.html")
        for unit in units(page.read_text())
    }
    assert texts - {message.id for message in read} == set()
    for message in read:
        for mark in ("<b>", "</b>"):
            for text in [message.string] if isinstance(message.string, str) else message.string:
                assert text.strip(), message.id
                one = message.id if isinstance(message.id, str) else message.id[0]
                assert one.count(mark) == text.count(mark)


class Missed(gettext.NullTranslations):
    """Remembers what a catalogue does not have."""

    def __init__(self):
        super().__init__()
        self.texts = set()

    def gettext(self, message):
        self.texts.add(message)
        return message

    def ngettext(self, one, many, count):
        self.texts.add(one)
        return one if count == 1 else many


def test_nothing_that_is_read_is_left_in_english(
    client, settings, job_context, keeper, topics, heidi, still
):
    missed = Missed()
    reader_language.catalogue("de").add_fallback(missed)
    try:
        page = page_of(settings, heidi)
        shown = client.get(page)
        asked = client.post(
            page,
            data={
                "topic": topics[0],
                "channel": "sms:0",
                "wish": topics[1],
                "often": "2",
                "pause": "1",
                "email": "new@post.example",
            },
        )
        wrong = client.post(page, data={"email": "nobody"})
        paused = client.get(page)
        jobs.run_here("tracking.ask")
        links = [re.search(r"/confirm/\S+", letter.text).group() for letter in keeper.letters]
        asks = [client.get(link) for link in links]
        confirmed = [client.post(link) for link in links]
        left = client.get(page_of(settings, heidi, "leave"))
        gone = client.post(page_of(settings, heidi, "leave"))
        german = {"Accept-Language": "de"}
        lost = client.get("/p/cut-off", headers=german)
        proofs = [client.get(f"/{way}", headers=german) for way in ("p/preview", "s/preview-0")]
        assert (shown.status_code, asked.status_code, wrong.status_code) == (200, 200, 422)
        assert len(links) == 2
        for answer in (shown, asked, wrong, paused, *asks, *confirmed, left, gone, lost, *proofs):
            assert '<html lang="de">' in answer.text
    finally:
        reader_language.catalogue.cache_clear()
    assert missed.texts == set()
    assert lost.status_code == 404 and [one.status_code for one in proofs] == [200, 200]


@pytest.mark.parametrize(
    ("code", "name"),
    [
        ("de", "German"),
        ("de-AT", "German (Austria)"),
        ("pt_BR", "Portuguese (Brazil)"),
        ("Deutsch", "Deutsch"),
        ("", ""),
        (None, ""),
    ],
)
def test_a_language_on_file_is_shown_by_its_name(code, name):
    assert reader_language.language_name(code) == name
    assert reader_language.language_names()["gv"] == "Manx"


def test_it_is_the_language_on_file_then_that_of_the_browser():
    chosen = reader_language.chosen
    assert chosen("de") == chosen("de-AT") == chosen("DE_ch") == "de"
    assert chosen("de", ["fr"]) == "de"
    assert chosen(None, ["tlh", "fr-CA", "de"]) == "fr"
    assert chosen("tlh", ["pl"]) == "pl"
    assert chosen("en", ["pl"]) == "en"
    assert chosen("", []) == chosen("tlh", ["tlh"]) == "en"


def test_what_was_written_of_a_topic_is_read_and_the_rest_stays(client, settings, topics, heidi):
    page = client.get(page_of(settings, heidi)).text
    assert "Himmelsbrief" in page
    assert "was zu sehen ist, jeden Monat" in page
    assert "Lectures" in page
    assert "Sky diary" not in page


def test_numbers_follow_the_rules_of_the_language():
    """Polish tells 1, 2 to 4, and 5 and more apart (CLDR, plural rules)."""
    polish = reader_language.catalogue("pl")
    one, many = "%(n)s month", "%(n)s months"
    assert [polish.ngettext(one, many, n) % {"n": n} for n in (1, 2, 3, 6)] == [
        "1 miesiąc",
        "2 miesiące",
        "3 miesiące",
        "6 miesięcy",
    ]


def test_the_address_is_asked_in_the_language_they_read(
    client, settings, database, job_context, keeper, topics, heidi, still
):
    page = page_of(settings, heidi)
    client.post(page, data={"topic": topics[0], "channel": "sms:0", "wish": topics[1]})
    jobs.run_here("tracking.ask")
    letter = keeper.letters[-1]
    assert letter.subject.startswith("Bitte bestätigen: ")
    assert "Jemand (hoffentlich Sie) hat für diese Adresse um Lectures gebeten" in letter.text
    assert "in 7 Tagen gelöscht" in letter.text
    client.post(re.search(r"/confirm/\S+", letter.text).group())
    with database.session() as session:
        how = session.scalars(
            sa.select(ConsentChange.how).where(ConsentChange.topic_id == topics[1])
        ).one()
    # What they read, word for word, is the evidence.
    assert "Per E-Mail erhalten Sie nicht: Lectures Kreuzen Sie an, was Sie möchten." in how


def test_topics_are_written_in_other_languages_on_their_page(client, database, topics):
    sign_in(client)
    page = client.get(f"/senders?topic={topics[0]}").text
    assert 'value="Himmelsbrief"' in page
    given = {"known": topics[0], "topic": "Sky diary", "about": "what to see", "often": "monthly"}
    client.post("/senders", data={**given, "name_fr": " Le  ciel ", "about_de": "", "name_xx": "?"})
    with database.session() as session:
        assert session.get_one(Topic, topics[0]).by_language == {"fr": {"name": "Le ciel"}}


def test_somebody_else_reads_as_before(client, database, settings, topics):
    with database.session() as session:
        ada = add(session, NOW, "ada@post.example").id
        assert session.get_one(Contact, ada).language is None
    page = client.get(page_of(settings, ada), headers={"Accept-Language": "en-GB"}).text
    assert '<html lang="en">' in page
    assert "What you get from us" in page
    page = client.get(page_of(settings, ada), headers={"Accept-Language": "nl, en;q=0.5"}).text
    assert "Wat u van ons krijgt" in page
