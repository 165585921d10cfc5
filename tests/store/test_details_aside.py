"""Details of events that do not fit their type: kept aside at the door, asked for without harm, put
back when somebody says what they mean."""

import datetime as dt
import json

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.core.audience import definition as d
from meadowrun.people import duplicates, wholly
from meadowrun.people.kinds import event_kind
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.segments import queries
from meadowrun.tracking.taking import take_events
from tests.conftest import NOW
from tests.store.people import IDA, add, kinds
from tests.store.small_world import ZONE
from tests.store.web import words

#: what a shop's programs send where a number is meant
ODD = ["forty", "", True, [], {"a": 1}, "4,5", "٤٠", "NaN", "1e400", "0x10"]


@pytest.fixture
def ann(database):
    with clock.at(NOW), database.session() as session:
        kinds(session)
        return add(session, NOW, "ann@post.example", first_name="Ann").id


def taken(session, who, *amounts):
    return take_events(
        session,
        NOW,
        "shop",
        [
            {
                "event": "ticket_bought",
                "contact": who,
                "id": f"n-{n}",
                "at": (NOW - dt.timedelta(hours=n)).isoformat(),
                "details": {"amount": amount},
            }
            for n, amount in enumerate(amounts)
        ],
    )


def kept(session):
    return [
        row.details
        for row in session.execute(sa.text("SELECT details FROM events ORDER BY at DESC"))
    ]


def spent_more_than(session, number):
    lines = d.parse(
        {
            "lines": [
                {
                    "id": "a",
                    "kind": "event",
                    "event": "ticket_bought",
                    "did": True,
                    "where": [{"detail": "amount", "op": "more_than", "value": number}],
                }
            ]
        },
        dictionary(session),
    )
    return queries.count(Moment(session, dictionary(session), NOW, ZONE), lines)


class TestAtTheDoor:
    @pytest.mark.parametrize("amount", ODD)
    def test_what_is_no_number_is_kept_aside_and_the_event_stored_without(
        self, database, ann, amount
    ):
        with clock.at(NOW), database.session() as session:
            found = taken(session, ann, amount, 12)
            assert found.stored == 2 and [
                (one.place, one.detail, one.value) for one in found.aside
            ] == [(0, "amount", amount)]
            assert kept(session) == [{}, {"amount": 12}]
            assert session.execute(sa.text("SELECT value FROM details_aside")).scalars().all() == [
                amount
            ]

    @pytest.mark.parametrize(("amount", "held"), [("24.00", 24.0), ("7", 7), (-3, -3)])
    def test_a_number_in_quotes_is_taken_as_the_number(self, database, ann, amount, held):
        with clock.at(NOW), database.session() as session:
            assert taken(session, ann, amount).aside == ()
            assert kept(session) == [{"amount": held}]

    def test_null_is_as_if_left_out_and_gives_a_new_detail_no_type(self, database, ann):
        with clock.at(NOW), database.session() as session:
            assert taken(session, ann, None).aside == ()
            assert kept(session) == [{}]
            found = take_events(
                session,
                NOW,
                "shop",
                [
                    {"event": "kite_flown", "contact": ann, "details": {"height": one}}
                    for one in (None, 30)
                ],
            )
            assert (found.stored, found.aside) == (2, ())
            assert event_kind(session, "kite_flown").details["height"]["type"] == "number"

    def test_details_are_read_on_the_contacts_page_whatever_their_type(self, web, database, ann):
        with clock.at(NOW), database.session() as session:
            add_event = sa.text(
                "INSERT INTO events (contact_id, at, kind_id, details) VALUES (:c, :at, 1, "
                "CAST(:d AS jsonb))"
            )
            session.execute(
                add_event,
                {
                    "c": ann,
                    "at": NOW,
                    "d": (
                        '{"amount": null, "member": true, "nights": ["Mars", "Moon"], "price": '
                        "1200.5}"
                    ),
                },
            )
        page = web.get(f"/people/{ann}").text
        assert "price 1,200.5, member yes, nights Mars, Moon" in page and "None" not in page

    def test_the_same_batch_again_keeps_nothing_twice(self, database, ann):
        for _ in range(2):
            with clock.at(NOW), database.session() as session:
                taken(session, ann, "forty")
        with database.session() as session:
            assert session.scalar(sa.text("SELECT count(*) FROM details_aside")) == 1

    def test_the_first_value_of_a_new_detail_gives_its_type_to_the_rest_of_the_batch(
        self, database, ann
    ):
        with clock.at(NOW), database.session() as session:
            found = take_events(
                session,
                NOW,
                "shop",
                [
                    {"event": "kite_flown", "contact": ann, "details": {"height": height}}
                    for height in (30, "very high", 31)
                ],
            )
            assert [one.value for one in found.aside] == ["very high"]
            assert event_kind(session, "kite_flown").details["height"]["type"] == "number"

    def test_the_answer_of_the_api_names_the_event_the_detail_and_the_reason(self, api, database):
        with clock.at(NOW), database.session() as session:
            kinds(session)
        status, got = api(
            "post",
            "/events",
            {
                "events": [
                    {
                        "event": "ticket_bought",
                        "email": "bo@post.example",
                        "details": {"amount": "forty"},
                    }
                ]
            },
        )
        assert (status, got["stored"]) == (200, 1)
        assert got["aside"] == [
            {
                "event": 0,
                "detail": "amount",
                "value": "forty",
                "why": "amount is not a number; it is kept aside, to be fixed",
            }
        ]


class TestPuttingBack:
    def test_a_marketer_types_what_it_should_say(self, database, ann, web):
        with clock.at(NOW), database.session() as session:
            taken(session, ann, "forty", "forty", 3, "cheap")
            kind = event_kind(session, "ticket_bought").id
        page = words(web.get(f"/people/events/{kind}").text)
        assert "“forty” is not a number 2" in page and "“cheap” is not a number 1" in page

        def post(value, **more):
            return words(
                web.post(
                    f"/people/events/{kind}/details",
                    data={"detail": "amount", "value": json.dumps(value), **more},
                    follow_redirects=True,
                ).text
            )

        assert "“dear” is not a number" in post("forty", given="dear")
        assert "Put back in 2 events." in post("forty", given="40")
        assert "Left out: 1 value." in post("cheap", out="yes")
        with database.session() as session:
            assert kept(session) == [{"amount": 40}, {"amount": 40}, {"amount": 3}, {}]
            assert spent_more_than(session, 39) == 1
            assert session.scalar(sa.text("SELECT count(*) FROM details_aside")) == 0

    def test_a_record_taken_along_shows_them_a_merge_moves_them_and_erasing_removes_them(
        self, database, ann
    ):
        with clock.at(NOW), database.session() as session:
            taken(session, ann, "forty")
            bo = add(session, NOW, "bo@post.example", first_name="Bo").id
            assert wholly.everything(session, ann)["details_kept_aside"][0]["value"] == "forty"
            duplicates.merge(session, IDA, NOW, bo, ann, set())
            assert session.scalars(sa.text("SELECT contact_id FROM details_aside")).all() == [bo]
            wholly.erase(session, IDA, NOW, bo)
            assert session.scalar(sa.text("SELECT count(*) FROM details_aside")) == 0
