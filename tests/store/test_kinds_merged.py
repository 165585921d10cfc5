"""Two kinds of event that are the same thing become one: events, conditions, successes, in-app
messages, and what still comes in."""

import datetime as dt

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.core.audience import definition as d
from meadowrun.messages.models import Message
from meadowrun.people import dictionary as dictionaries
from meadowrun.people.kinds import event_kind
from meadowrun.people.models import EventKind
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.segments import actions as segments
from meadowrun.segments import queries
from meadowrun.tracking.taking import take_events
from tests.conftest import NOW
from tests.store.people import IDA, add, kinds, ready_send
from tests.store.small_world import ZONE
from tests.store.web import words

BOUGHT = {"id": "a", "kind": "event", "event": "bought_ticket"}


@pytest.fixture
def world(database):
    """Ann bought a ticket as one source calls it, Bo as another; a segment, a send and an in-app
    message go by the second."""
    with clock.at(NOW), database.session() as session:
        kinds(session)
        session.add(
            EventKind(
                key="bought_ticket",
                did="bought a ticket",
                do="buy a ticket",
                details={"seat": {"label": "seat", "type": "text"}},
            )
        )
        people = {
            n: add(session, NOW, f"{n.lower()}@post.example", first_name=n).id
            for n in ("Ann", "Bo", "Cy")
        }
        session.flush()
        for name, key in (("Ann", "ticket_bought"), ("Bo", "bought_ticket")):
            session.execute(
                sa.text(
                    "INSERT INTO events (contact_id, at, kind_id) SELECT :c, :at, id FROM "
                    "event_kinds WHERE key = :k"
                ),
                {"c": people[name], "at": NOW - dt.timedelta(days=1), "k": key},
            )
        segments.save(
            session,
            IDA,
            NOW,
            dictionary(session),
            "Buyers",
            {
                "lines": [
                    {
                        **BOUGHT,
                        "then": {"event": "bought_ticket", "did": False, "days": 1},
                        "did": True,
                    },
                    BOUGHT | {"id": "b"},
                ]
            },
        )
        ready_send(session, NOW, {"in": [{"everyone": True}], "out": []}, success="bought_ticket")
        session.add(
            Message(
                name="InApp",
                channel="in_app",
                draft=1,
                created_at=NOW,
                changed_at=NOW,
                changed_by="Ida",
                document={
                    "lines": [],
                    "in_app": {
                        "event": "bought_ticket",
                        "unless": "bought_ticket",
                        "buttons": [{"event": "bought_ticket"}],
                    },
                },
            )
        )
    return people


def merge(session):
    return dictionaries.merge_kinds(
        session, IDA, event_kind(session, "bought_ticket"), event_kind(session, "ticket_bought")
    )


def test_everything_that_named_the_one_names_the_other(database, world):
    with clock.at(NOW), database.session() as session:
        kept = event_kind(session, "ticket_bought")
        assert dictionaries.duplicates_of_kind(session, kept) == [
            event_kind(session, "bought_ticket")
        ]
        assert merge(session) == 1
        assert (kept.aka, sorted(kept.details)) == (["bought_ticket"], ["amount", "night", "seat"])
        said = queries.segment(session, 1).definition["lines"]
        assert [said[0]["event"], said[0]["then"]["event"], said[1]["event"]] == [
            "ticket_bought"
        ] * 3
        assert (
            session.execute(sa.text("SELECT success_event FROM sends")).scalar() == "ticket_bought"
        )
        assert session.execute(
            sa.text("SELECT document->'in_app' FROM messages WHERE channel = 'in_app'")
        ).scalar() == {
            "event": "ticket_bought",
            "unless": "ticket_bought",
            "buttons": [{"event": "ticket_bought"}],
        }
        known = dictionary(session)
        both = d.parse({"lines": [BOUGHT]}, known)
        assert both.lines[0].event == "ticket_bought", (
            "what was written elsewhere under the old key is still understood"
        )
        assert queries.count(Moment(session, known, NOW, ZONE), both) == 2


def test_what_still_comes_in_under_the_old_key_is_of_the_kept_kind(database, world):
    with clock.at(NOW), database.session() as session:
        merge(session)
    with clock.at(NOW), database.session() as session:
        came = {
            "event": "bought_ticket",
            "contact": world["Cy"],
            "details": {"seat": "B4", "row": 3},
        }
        assert take_events(session, NOW, "test", [came]).stored == 1
    with database.session() as session:
        assert (
            session.execute(
                sa.text("SELECT count(*) FROM event_kinds WHERE key = 'bought_ticket'")
            ).scalar()
            == 0
        )
        kept = event_kind(session, "bought_ticket")
        assert kept.key == "ticket_bought" and "row" in kept.details
        assert (
            session.execute(
                sa.text("SELECT count(*) FROM events WHERE kind_id = :k"), {"k": kept.id}
            ).scalar()
            == 3
        )


def test_what_differs_stays_apart(database, world):
    with database.session() as session:
        gone = event_kind(session, "bought_ticket")
        gone.details = {"amount": {"label": "amount", "type": "text"}}
        with pytest.raises(Conflict, match="Both have the detail “amount”"):
            merge(session)
        with pytest.raises(Invalid, match="another kind"):
            dictionaries.merge_kinds(session, IDA, gone, gone)


def test_on_its_page(web, world, database):
    with database.session() as session:
        gone, kept = (
            event_kind(session, "bought_ticket").id,
            event_kind(session, "ticket_bought").id,
        )
    shown = words(web.get(f"/people/events/{gone}").text)
    assert "Possible duplicates bought a ticket ticket_bought" in shown
    itself = words(
        web.post(f"/people/events/{gone}/merge", data={"into": gone}, follow_redirects=True).text
    )
    assert "Choose another kind of event to merge it into." in itself
    done = words(
        web.post(f"/people/events/{gone}/merge", data={"into": kept}, follow_redirects=True).text
    )
    assert "Merged: 1 event moved here" in done and "Also received as bought_ticket" in done
    assert web.get(f"/people/events/{gone}").status_code == 404


def test_by_the_api(api, world):
    assert api("post", "/events/kinds/ticket_bought/merge", {"gone": "flew"})[0] == 404
    assert api("post", "/events/kinds/ticket_bought/merge", {"gone": "bought_ticket"})[1] == {
        "moved": 1,
        "event": "ticket_bought",
        "aka": ["bought_ticket"],
    }
    assert (
        api("put", "/events/kinds/bought_ticket", {"meaning": "paid for"})[1]["event"]
        == "ticket_bought"
    )
