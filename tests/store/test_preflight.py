"""The one list before a message goes, and who reads words by condition, counted by hand."""

import datetime as dt
import zoneinfo

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.core.content import spam
from meadowrun.core.content.compiled import CompileError
from meadowrun.core.content.findings import COULD, MUST, SHOULD, Check
from meadowrun.core.content.lines import new_line
from meadowrun.core.content.rendering import NoVersion, Rendered
from meadowrun.gateways.filters import Judgement
from meadowrun.messages import actions as messages
from meadowrun.messages import preflight, reading
from meadowrun.messages.reading import Readers, Version
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.results.queries import subjects
from meadowrun.sends import actions as sends
from meadowrun.sends.models import Send
from tests.conftest import NOW
from tests.store.people import IDA, add
from tests.store.sending import run_all, started
from tests.store.work import reacted

MAIL = Rendered("A", "<p>B</p>", "B")


def test_checks_of_writing():
    said = [
        (i.state, i.said)
        for i in preflight.checked(
            [Check(MUST, "No subject."), Check(SHOULD, "No preheader."), Check(COULD, "Long.")]
        )
    ]
    assert said == [("failed", "No subject."), ("open", "No preheader.")]
    assert [i.state for i in preflight.checked([])] == ["passed", "passed"]


def test_alternatives_are_read_as_one_of_their_readers():
    place = Readers(
        "a",
        "3",
        (Version("Patrons", 2, 7, "x"), Version("Students", 0, None, "y")),
        Version("everyone else", 1, 9, ""),
        False,
    )
    words = Readers(
        "", "subject", (Version("“Dear”", 3, 8, ""),), Version("everyone else", 0, None, ""), True
    )
    items = preflight.alternatives([place, words], {7: MAIL, 9: ValueError("no town"), 8: MAIL})
    assert [(i.state, i.what, i.someone) for i in items] == [
        ("passed", "Line 3: Patrons", 7),
        ("open", "Line 3: Students", None),
        ("failed", "Line 3: everyone else", 9),
        ("passed", "Subject: “Dear”", 8),
        ("passed", "Subject: everyone else", None),
    ]
    assert items[2].said == "1 person; it cannot be filled in: no town"


def test_reading_all_keeps_what_went_wrong():
    def read(person):
        if person == 2:
            raise NoVersion("none for “x”")
        if person == 3:
            raise CompileError("lost")
        return MAIL

    found = preflight.read_all([1, 2, 3], read)
    assert (
        found[1] is MAIL and isinstance(found[2], NoVersion) and isinstance(found[3], CompileError)
    )
    assert [preflight.default(found[n], ()).state for n in (1, 2, 3)] == [
        "passed",
        "open",
        "failed",
    ]
    assert (
        preflight.default(MAIL, {"town", "age"}).said
        == "Reads a gap for age, town; add a fallback."
    )


def test_gaps_are_those_of_whoever_matches_nothing():
    only = new_line(
        "only",
        cases=[
            {
                "id": "c",
                "name": "Patrons",
                "lines": [],
                "group": "",
                "content": [new_line("text", html="<p>{{ contact.lounge }}</p>")],
            }
        ],
        otherwise=[new_line("text", html="<p>{{ contact.bus }}</p>")],
    )
    columns = new_line(
        "columns", columns=[[new_line("text", html="<p>{{ contact.left }}</p>")], []]
    )
    document = {
        "subject": '{{ contact.first_name | default("friend", true) }}',
        "preheader": "",
        "lines": [
            only,
            columns,
            new_line(
                "text",
                html=(
                    '<p>{% if contact.town == "Farrow" %}{{ contact.street }}{% else %}{{ '
                    "contact.county }}{% endif %}</p>"
                ),
            ),
        ],
    }
    assert preflight.gaps(document) == {"contact.bus", "contact.left", "contact.county"}


@pytest.mark.parametrize(
    "html, code, state",
    [
        ('<table width="800">', True, "failed"),
        ('<table width="600">', True, "open"),
        ('<table width="100%">', True, "passed"),
        ('<img src="x" width="1200px">', True, "failed"),
        ('<table width="800">', False, "passed"),
    ],
)
def test_devices(html, code, state):
    assert preflight.devices(html, code).state == state


def test_filters_words_and_readers():
    over = [spam.Finding("shouting", spam.LIMIT, 1.0, "because", "less")]
    assert [i.state for i in preflight.filters(over, None)] == ["failed", "passed", "open"]
    assert [i.state for i in preflight.filters([], Judgement(6.0, 5.0, ()))] == [
        "passed",
        "passed",
        "failed",
    ]
    assert (
        preflight.spelling([], []).state == "passed"
        and preflight.spelling(["teh"], []).state == "open"
    )
    assert preflight.spelling([], ["cheap"]).state == "failed"
    assert preflight.readers_of_mail({}, 20).state == "passed"
    assert preflight.readers_of_mail(
        {"shadows are missing": ["One", "Two"], "floats": ["One"]}, 20
    ).said.startswith("2 of them")
    items = [preflight.spelling([], []), preflight.spelling(["teh"], [])]
    assert preflight.counted(items) == {"passed": 1, "failed": 0, "open": 1}


@pytest.fixture
def town(database):
    """Seven people in three towns, one of them without any."""
    with clock.at(NOW), database.session() as session:
        for n, place in enumerate(
            ("Farrow", "Farrow", "Farrow", "Tarnside", "Tarnside", "Ossenmere", None)
        ):
            add(session, NOW, f"p{n}@post.example", first_name=f"P{n}", town=place)


TEXT = (
    '<p>{% if contact.town == "Farrow" %}<b>Walk</b> up{% elif contact.town == "Tarnside" or '
    'contact.town == "Ossenmere" %}Drive up{% endif %} '
    '{% if contact.town != "Farrow" and contact.first_name == "P6" %}, P6{% else %}, all{% endif '
    "%}</p>"
)


def test_who_reads_words_by_condition(database, town):
    with clock.at(NOW), database.session() as session:
        words = dictionary(session)
        line = new_line("text", html=TEXT)
        document = {
            "subject": '{% if contact.town == "Nowhere" %}Lost{% else %}Found{% endif %}',
            "preheader": "",
            "plain": None,
            "code": None,
            "lines": [new_line("space"), line],
        }
        found = reading.who_reads_words(
            Moment(session, words, NOW, zoneinfo.ZoneInfo("Europe/London")), document
        )
        said = [
            (r.place, [(v.name, v.count) for v in r.versions], r.others.count, r.nothing)
            for r in found
        ]
        assert said == [
            ("subject", [("“Lost”", 0)], 7, False),
            ("2", [("“Walk up”", 3), ("“Drive up”", 3)], 1, True),
            ("2", [("“, P6”", 1)], 6, False),
        ]
        for place in found:
            for version in (*place.versions, place.others):
                assert (version.someone is None) == (version.count == 0)
        names = dict(session.execute(sa.text("SELECT id, first_name FROM contacts")).tuples().all())
        assert names[found[2].versions[0].someone] == "P6" and names[
            found[1].versions[1].someone
        ] in ("P3", "P4", "P5")


def test_the_page_lists_all_and_sees_a_proof(web, database, town):
    with clock.at(NOW), database.session() as session:
        document = messages.take(
            {
                "subject": "Come up",
                "preheader": "A clear night",
                "lines": [
                    {"id": "a", "type": "text", "html": TEXT.replace("all", "recieve")},
                    {"id": "f", "type": "footer", "html": "<p>Farrow Hill</p>"},
                ],
            },
            dictionary(session),
        )
        ident = messages.create(session, IDA, NOW, "Checked", document).id
        short = messages.take(
            {"plain": "Hello {{ contact.first_name }} STOP ends these"}, {}, "sms"
        )
        text = messages.create(session, IDA, NOW, "A text", short, "sms").id
    page = web.get(f"/messages/{ident}/checks").text
    for words in (
        "Line 1: “Walk up”",
        "3 people; read as one of them",
        "Not in the dictionary: recieve",
        "This draft was not sent to anybody yet",
        "20 mail apps",
        "Filters of private mailboxes",
        "It fits both",
    ):
        assert words in page, words
    with clock.at(NOW), database.session() as session:
        sends.save_sender(session, IDA, NOW, "The desk", "desk@farrowhill.example", "")
    web.post(f"/messages/{ident}/proof", data={"to": "colleague@post.example"})
    assert "sent this draft to colleague@post.example" in web.get(f"/messages/{ident}/checks").text
    page = web.get(f"/messages/{text}/checks").text
    assert "Reads a gap for first name" in page and "mail apps" not in page


def test_subjects_are_judged_by_emails_whose_opening_has_settled(
    database, settings, job_context, keeper
):
    ident = started(database, settings, 4)
    run_all(database, ident)
    with database.session() as session:
        first, second, third = session.scalars(
            sa.text("SELECT contact_id FROM deliveries ORDER BY 1 LIMIT 3")
        )
        for contact, machine in ((first, False), (first, False), (second, True), (third, False)):
            reacted(session, session.get_one(Send, ident), contact, "opened", NOW, machine=machine)
        assert subjects(session, NOW + dt.timedelta(days=3)) == []
        found = subjects(session, NOW + dt.timedelta(days=3, seconds=1))
        assert [(p.delivered, p.opened) for p in found] == [
            (4, 2)
        ] and "contact.first_name" in found[0].subject
        # What goes by another channel has no subject that anybody opens.
        session.execute(sa.text("UPDATE messages SET channel = 'card'"))
        assert subjects(session, NOW + dt.timedelta(days=9)) == []


def test_style_sheets_of_code_are_no_words(web, database):
    code = (
        "<html><head><style>@media (max-width:600px){.a{width:100%}} "
        "a:hover{color:red}</style></head>"
        '<body><p>Come and see the rinng. <a href="{{ unsubscribe }}">Leave</a></p></body></html>'
    )
    with clock.at(NOW), database.session() as session:
        made = messages.take(
            {"subject": "Come up", "preheader": "", "lines": [], "code": code}, dictionary(session)
        )
        ident = messages.create(session, IDA, NOW, "Pasted", made).id
    page = web.get(f"/messages/{ident}/checks").text
    assert "Not in the dictionary: rinng" in page
    assert "no unsubscribe link" not in page
