"""For whom of a place's readers something is blank: in versions, in words by condition, by an own
field, in columns."""

import io
import itertools
import zoneinfo

import pytest
from pyroaring import BitMap

from meadowrun.base import clock
from meadowrun.core.content.document import empty, texts
from meadowrun.core.content.lines import new_line
from meadowrun.messages import actions, asking
from meadowrun.messages.gaps import Gap, counted, gaps_of
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from tests.conftest import NOW
from tests.store.people import IDA, add, kinds
from tests.store.web import words

LONDON = zoneinfo.ZoneInfo("Europe/London")


@pytest.fixture
def crowd(database):
    """Two of Farrow, one of them without a first name; two of Tarnside, neither with a last name;
    one of nowhere with nothing."""
    with clock.at(NOW), database.session() as session:
        kinds(session)
        return {
            name: add(session, NOW, f"{name}@post.example", **values).id
            for name, values in {
                "ann": {"first_name": "Ann", "last_name": "Abara", "town": "Farrow"},
                "ben": {"last_name": "Björk", "town": "Farrow"},
                "cleo": {"first_name": "Cleo", "town": "Tarnside"},
                "dov": {"first_name": "Dov", "town": "Tarnside"},
                "edda": {},
            }.items()
        }


def of(place):
    return [{"id": "a", "kind": "field", "field": "town", "op": "is", "value": [place]}]


def text(ident, html):
    return new_line("text", html=f"<p>{html}</p>") | {"id": ident}


NUMBERS = itertools.count(1)


def only(*cases, otherwise=()):
    return new_line(
        "only",
        cases=[
            {
                "id": f"{next(NUMBERS):04x}",
                "name": "",
                "lines": asked,
                "group": "",
                "content": content,
            }
            for asked, content in cases
        ],
        otherwise=list(otherwise),
    )


def found(session, lines, among=None, **head):
    document = actions.take(
        empty() | {"subject": "Up", "lines": [*lines, new_line("footer")], **head},
        dictionary(session),
    )
    with clock.at(NOW):
        gaps = gaps_of(
            Moment(session, dictionary(session), NOW, LONDON), document, texts(document), among
        )
    return {(gap.line, gap.ref.split(".")[1]): (gap.blank, gap.readers) for gap in gaps}, gaps


FIRST, LAST = "{{ contact.first_name }}", "{{ contact.last_name }}"


def test_outside_everyone_counts_and_inside_only_who_reads_it(database, crowd):
    with database.session() as session:
        counts, _ = found(
            session,
            [
                text("t0", FIRST),
                text("t1", LAST),
                only(
                    (of("Farrow"), [text("t2", FIRST + LAST)]),
                    (of("Tarnside"), [text("t3", FIRST + LAST)]),
                    otherwise=[text("t4", FIRST)],
                ),
            ],
        )
    # ben and edda have no first name, cleo, dov and edda no last name.
    assert counts == {
        ("t0", "first_name"): (2, 5),
        ("t1", "last_name"): (3, 5),
        ("t2", "first_name"): (1, 2),
        ("t3", "last_name"): (2, 2),
        ("t4", "first_name"): (1, 1),
    }


def test_versions_inside_versions_and_columns(database, crowd):
    deep = only(
        (
            of("Farrow"),
            [
                new_line(
                    "columns",
                    split=[6, 6],
                    columns=[[text("t1", FIRST)], [only((of("Tarnside"), [text("t2", FIRST)]))]],
                )
            ],
        )
    )
    with database.session() as session:
        # Nobody is of Farrow and of Tarnside: no gap, though edda and ben have no first name.
        assert found(session, [deep])[0] == {("t1", "first_name"): (1, 2)}


def test_among_the_people_of_a_send(database, crowd):
    with database.session() as session:
        among = BitMap([crowd["ann"], crowd["cleo"], crowd["edda"]])
        lines = [text("t0", FIRST + LAST), only((of("Tarnside"), [text("t1", LAST)]))]
        assert found(session, lines, among)[0] == {
            ("t0", "first_name"): (1, 3),
            ("t0", "last_name"): (2, 3),
            ("t1", "last_name"): (1, 1),
        }


def test_words_by_a_condition_of_segments(database, crowd):
    with database.session() as session:
        key = asking.keep(session, of("Farrow"), dictionary(session)).key
        html = f"{{% if when.{key} %}}{FIRST}{{% else %}}{LAST}{{% endif %}}"
        assert found(session, [text("t0", html)])[0] == {
            ("t0", "first_name"): (1, 2),
            ("t0", "last_name"): (3, 3),
        }
        inside = only((of("Tarnside"), [text("t1", html)]))
        assert found(session, [inside])[0] == {("t1", "last_name"): (2, 2)}


def test_a_field_that_was_asked_is_not_blank_where_it_decides(database, crowd):
    with database.session() as session:
        html = (
            f'{{% if contact.first_name == "Ann" %}}{FIRST}{LAST}{{% else %}}{FIRST}{{% endif %}}'
        )
        assert found(session, [text("t0", html)])[0] == {
            ("t0", "last_name"): (3, 5),
            ("t0", "first_name"): (2, 5),
        }
        assert (
            found(session, [text("t0", f"{{% if contact.first_name %}}{FIRST}{{% endif %}}")])[0]
            == {}
        )


def test_a_table_looked_up_counts_by_those_who_read_it(web, database, crowd):
    web.post(
        "/messages/tables",
        data={
            "key": "prices",
            "looked_up_by": "contact.town",
            "file": (io.BytesIO(b"Town,Ticket\nFarrow,9\n"), "p.csv"),
        },
    )
    ticket = "{{ table.prices.ticket }}"
    with database.session() as session:
        assert found(session, [only((of("Farrow"), [text("t0", ticket)]))])[1] == []
        outside = found(session, [text("t0", ticket)])[1]
        assert outside == [Gap("t0", "html", "table.prices.ticket", None, 3, 5)]
        made = actions.create(
            session,
            IDA,
            NOW,
            "Prices",
            actions.take(
                empty()
                | {
                    "subject": "Up",
                    "lines": [
                        only((of("Farrow"), [text("t0", ticket + FIRST)])),
                        new_line("footer"),
                    ],
                },
                dictionary(session),
            ),
        ).id
    page = words(web.get(f"/messages/{made}").text)
    assert (
        "1 person of 2 has no first name and would read a gap. Add a fallback." in page
        and "no ticket" not in page
    )


def test_what_has_a_fallback_is_no_finding_and_the_worst_place_counts():
    gaps = [
        Gap("", "plain", "contact.town", None, 3, 5),
        Gap("", "plain", "contact.town", None, 1, 2),
        Gap("", "plain", "contact.town", "here", 5, 5),
        Gap("t0", "html", "contact.town", "here", 4, 5),
    ]
    assert counted(gaps) == {("", "plain", "contact.town"): (3, 5)}
