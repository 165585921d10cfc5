"""The API of sends, of what keeps them from people, and of the calendar; and why a person got a
send or did not."""

import datetime as dt

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.people import actions as people
from meadowrun.people.models import Contact
from meadowrun.sends.models import Send
from meadowrun.tags import actions as tags
from tests.conftest import NOW
from tests.store.people import IDA, many, ready_send
from tests.store.sending import counts, run_all, segment
from tests.store.web import words

WEDNESDAY = "2026-11-25T09:00:00+00:00"


@pytest.fixture(autouse=True)
def then():
    """Requests are of that moment."""
    with clock.at(NOW):
        yield


@pytest.fixture
def ready(database):
    """A send to three people that could go: its number."""
    with database.session() as session:
        many(session, NOW, 3)
        return ready_send(session, NOW, {"in": [{"segment": segment(session).id}], "out": []}).id


def test_a_send_is_made_planned_and_read(api, ready, database):
    with database.session() as session:
        like = session.get_one(Send, ready)
        asked = {
            "campaign": like.campaign_id,
            "name": "Made by a program",
            "message": like.message_id,
            "sender": like.sender_id,
            "audience": {"in": [{"everyone": True}]},
            "leaves_at": "2026-11-25T09:00:00",
            "own_clock": True,
            "passed": "skip",
            "hours": {"from": "08:00", "to": "20:00", "days": [0, 1, 2, 3, 4]},
            "portion_size": 2,
            "portion_gap": 60,
            "again_rule": "message",
        }
    status, made = api("post", "/sends", asked)
    assert status == 201 and made["own_clock"] and made["leaves_at"] == "2026-11-25T09:00:00"
    looked = api("get", f"/sends/{made['id']}/estimate")[1]
    assert (looked["people"], looked["outcomes"]) == (3, {"go": 3})
    assert looked["arrivals"] == [
        {"at": "2026-11-25T09:00:00+00:00", "people": 2},
        {"at": "2026-11-25T10:00:00+00:00", "people": 1},
    ]
    status, started = api("post", f"/sends/{made['id']}/start", {"version": made["version"]})
    assert (status, started["state"], started["begins_at"]) == (200, "planned", WEDNESDAY)
    assert [one["id"] for one in api("get", "/sends")[1]["items"]] == [ready, made["id"]]
    found = api("get", "/calendar?from=2026-11-23&until=2026-12-01")[1]
    assert [(one["send"], one["people"]) for one in found["items"]] == [(made["id"], 3)]
    assert api("post", f"/sends/{made['id']}/unplan")[1]["state"] == "draft"


def test_a_send_that_repeats_says_its_dates(api, ready):
    version = api("get", f"/sends/{ready}")[1]["version"]
    given = {"version": version, "leaves_at": WEDNESDAY, "rhythm": "FREQ=WEEKLY;BYDAY=WE;COUNT=3"}
    assert api("put", f"/sends/{ready}", given)[0] == 200
    found = api("get", f"/sends/{ready}")[1]
    assert found["dates"] == [
        "2026-11-25T09:00:00+00:00",
        "2026-12-02T09:00:00+00:00",
        "2026-12-09T09:00:00+00:00",
    ]


@pytest.mark.parametrize(
    ("given", "where"),
    [
        ({"leaves_at": "2026-11-25T09:00:00"}, "leaves_at"),
        ({"leaves_at": WEDNESDAY, "own_clock": True}, "leaves_at"),
        ({"leaves_at": "soon"}, "leaves_at"),
        ({"rhythm": "FREQ=HOURLY"}, "rhythm"),
        ({"hours": {"from": "9 o’clock"}}, "hours"),
        ({"hours": {"days": []}}, "hours"),
        ({"hours": {"until": "9:00"}}, "hours"),
        ({"portion_gap": 7}, "portion_gap"),
        ({"consent_rule": "all"}, "consent_rule"),
        ({"audience": {"in": [{"people": 3}]}}, "audience.in.0"),
        ({"name": " "}, "name"),
    ],
)
def test_what_is_wrong_is_named(api, ready, given, where):
    status, refused = api("put", f"/sends/{ready}", {"version": 1, **given})
    assert status == 422 and refused["where"] == where, refused


def test_somebody_elses_change_is_not_overwritten(api, ready):
    status, refused = api("put", f"/sends/{ready}", {"version": 99, "name": "Mine"})
    assert status == 409 and "Somebody changed this send" in refused["error"]


def test_limits_are_set_at_once_and_read(api, database):
    with database.session() as session:
        tags.numbers(session, NOW, ["season"])
    asked = {
        "items": [
            {"most": 2, "unit": "week", "channel": "email"},
            {"most": 1, "unit": "day", "tag": "season"},
        ]
    }
    assert api("put", "/message-limits", asked)[1] == {"changed": 2}
    assert api("put", "/message-limits", asked)[1] == {"changed": 0}
    assert [one["words"] for one in api("get", "/message-limits")[1]["items"]] == [
        "at most 1 message with “season” a day",
        "at most 2 emails a week",
    ]
    wrong = {"items": [{"most": 1, "unit": "day", "tag": "nothing"}]}
    assert api("put", "/message-limits", wrong)[1]["where"] == "tag"


def test_quiet_hours_and_the_switch(api):
    given = {"from": "22:00", "to": "07:00", "does": "drop"}
    assert api("put", "/quiet-hours/email", given)[1]["words"] == "from 22:00 to 07:00"
    assert api("put", "/quiet-hours/email", given | {"to": "22:00"})[0] == 422
    assert api("delete", "/quiet-hours/email")[0] == 204
    assert [one["channel"] for one in api("get", "/quiet-hours")[1]["items"]] == ["sms"]
    api("post", "/sending/pause", {"service_too": True})
    found = api("get", "/sending")[1]
    assert found["service_too"] and found["paused_since"] == NOW.isoformat()
    api("post", "/sending/resume")
    assert api("get", "/sending")[1]["paused_since"] is None


def test_the_calendar_takes_days(api):
    for wrong in ("from=soon", "from=2026-11-23&until=2026-11-01", "until=2999-01-01"):
        assert api("get", f"/calendar?{wrong}")[0] == 422


class TestWhy:
    @pytest.fixture
    def five(self, database):
        """A send to four of five people, each another case: their numbers, and that of the send."""
        with database.session() as session:
            many(session, NOW, 5)
            found = session.scalars(sa.select(Contact).order_by(Contact.id)).all()
            found[0].town = "Farrow"
            chosen = {"in": [{"everyone": True}], "out": []}
            send = ready_send(session, NOW, chosen)
            people.set_consent(session, NOW, found[1].id, 0, False, "test")
            session.execute(
                sa.text("DELETE FROM consents WHERE contact_id = :id"), {"id": found[2].id}
            )
            found[3].email_usable = False
            return [one.id for one in found], send.id

    def test_before_it_goes(self, api, five):
        contacts, send = five
        said = [api("get", f"/sends/{send}/why/{one}")[1] for one in contacts]
        assert [(one["outcome"], one["because"]) for one in said] == [
            ("go", ""),
            ("no_consent", "said no to all email"),
            ("no_consent", "was never asked"),
            ("bad_address", "it cannot be written to as it stands"),
            ("go", ""),
        ]
        assert said[1]["facts"] == ["said no to all email"]
        assert said[2]["facts"] == [
            "was not asked about all email",
            "was not asked about this topic",
        ]

    def test_after_it_went_with_the_values_of_that_moment(
        self, api, five, database, settings, job_context, keeper
    ):
        contacts, ident = five
        version = api("get", f"/sends/{ident}")[1]["version"]
        api("post", f"/sends/{ident}/start", {"version": version})
        run_all(database, ident)
        with database.session() as session:
            # What they say later changes nothing of why.
            people.set_consent(session, NOW, contacts[1], 0, True, "test")
            newcomer = people.save_contact(session, IDA, NOW, {"email": "new@post.example"})
            new = newcomer.id
        said = [api("get", f"/sends/{ident}/why/{one}")[1] for one in [*contacts, new]]
        assert [one["outcome"] for one in said] == [
            "delivered",
            "no_consent",
            "no_consent",
            "bad_address",
            "delivered",
            "not_in",
        ]
        assert said[1]["because"] == "said no to all email"
        assert said[0]["at"] == NOW.isoformat()
        assert counts(database, ident)[0]["delivered"] == 2

    def test_the_page_finds_people_by_name(self, web, five):
        contacts, ident = five
        page = words(web.get(f"/sends/{ident}/why?who=first2").text)
        assert "First2 Last" in page and "said no to all email" in page
        assert "Nobody is found" in words(web.get(f"/sends/{ident}/why?who=nobody").text)
        everybody = words(web.get(f"/sends/{ident}/why?who=first").text)
        assert everybody.count("Would get it") == 2


def test_until_when_somebody_waits(api, ready, database, settings, job_context, keeper):
    version = api("get", f"/sends/{ready}")[1]["version"]
    given = {"version": version, "hours": {"from": "09:00", "to": "12:00"}}
    version = api("put", f"/sends/{ready}", given)[1]["version"]
    api("post", f"/sends/{ready}/start", {"version": version})
    run_all(database, ready)
    with database.session() as session:
        contact = session.scalar(sa.select(sa.func.min(Contact.id)))
    found = api("get", f"/sends/{ready}/why/{contact}")[1]
    assert found["outcome"] == "waiting"
    assert found["because"] == "it is outside the hours of this send"
    assert found["until"] == (NOW + dt.timedelta(hours=19)).isoformat()
