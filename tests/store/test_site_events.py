"""Events that the API and a website bring."""

import datetime as dt
import json
import re

import pytest
import sqlalchemy as sa

from meadowrun.base import clock, signing
from meadowrun.base.errors import Invalid
from meadowrun.people.duplicates import merge
from meadowrun.people.models import Consent, Contact
from meadowrun.tracking import taking
from tests.store.people import IDA
from tests.store.tracked import NOW, outcome


class TestEvents:
    AUTH = {"Authorization": "Bearer key_secret"}

    def post(self, sent, *events, headers=None):
        return sent[2].post(
            "/api/v1/events",
            json={"events": list(events)},
            headers=self.AUTH if headers is None else headers,
        )

    def test_a_batch_is_stored_once_by_id(self, database, settings, sent):
        one = {
            "event": "ticket_bought",
            "email": "ANN@post.example",
            "id": "t-1",
            "details": {"amount": 24},
        }
        assert self.post(sent, one, one, {**one, "id": "t-2"}).json == {
            "stored": 2,
            "known_before": 1,
            "newcomers": 0,
            "aside": [],
        }
        assert self.post(sent, one).json == {
            "stored": 0,
            "known_before": 1,
            "newcomers": 0,
            "aside": [],
        }
        found = outcome(database, sent)
        assert (found.converted, found.amount) == (1, 48.0)

    def test_ids_of_any_signs_are_kept_apart_and_counted_once(self, database, settings, sent):
        """What COPY would take for a cell's end, other scripts, and ids of which one begins the
        other."""
        ids = ["a", "a\tb", "a\nb", "a\\b", "a\\tb", "\\N", "\\.", "ключ", "a b", "'", "x" * 200]
        events = [{"event": "ticket_bought", "email": "ann@post.example", "id": i} for i in ids]
        assert self.post(sent, *events).json["stored"] == len(ids)
        assert self.post(sent, *reversed(events)).json == {
            "stored": 0,
            "known_before": len(ids),
            "newcomers": 0,
            "aside": [],
        }
        # One that is known among new ones, one without an id, one twice.
        mixed = [
            events[3],
            {**events[0], "id": "new"},
            {k: v for k, v in events[0].items() if k != "id"},
            {**events[0], "id": "new"},
        ]
        assert self.post(sent, *mixed).json == {
            "stored": 2,
            "known_before": 2,
            "newcomers": 0,
            "aside": [],
        }
        with database.session() as session:
            assert (
                session.execute(sa.text("SELECT count(*) FROM event_receipts")).scalar()
                == len(ids) + 1
            )
            taken = taking.take_events(session, NOW, "key:other", events)
            assert taken.stored == len(ids), "another sender's ids are their own"

    def test_success_counts_within_its_span_and_from_the_mail_on(self, database, settings, sent):
        early, late, last = (
            NOW - dt.timedelta(minutes=1),
            NOW + dt.timedelta(days=7, seconds=1),
            NOW + dt.timedelta(hours=20),
        )
        with clock.at(NOW + dt.timedelta(days=8)):
            for name, at in (("ann", early), ("ben", late), ("cleo", last)):
                assert (
                    self.post(
                        sent,
                        {
                            "event": "ticket_bought",
                            "email": f"{name}@post.example",
                            "at": at.isoformat(),
                        },
                    ).status_code
                    == 200
                )
        assert outcome(database, sent).converted == 1

    def test_unknown_kinds_details_and_people_are_taken_in_without_consent(
        self, database, settings, sent
    ):
        assert (
            self.post(
                sent,
                {"event": "kite_flown", "email": "new@post.example", "details": {"height": 30}},
            ).json["newcomers"]
            == 1
        )
        with database.session() as session:
            made = session.scalars(
                sa.select(Contact).where(Contact.email_key == "new@post.example")
            ).one()
            assert (
                session.scalars(sa.select(Consent).where(Consent.contact_id == made.id)).all() == []
            )

    @pytest.mark.parametrize(
        ("event", "where"),
        [
            ({"event": "Bad Name", "email": "a@b.example"}, "events[0].event"),
            ({"event": "x"}, "events[0]"),
            ({"event": "x", "email": "nope"}, "events[0].email"),
            ({"event": "x", "contact": 99}, "events[0].contact"),
            ({"event": "x", "contact": 10**30}, "events[0].contact"),
            ({"event": "x", "contact": -1}, "events[0].contact"),
            ({"event": "x", "contact": 1, "at": "yesterday"}, "events[0].at"),
            ({"event": "x", "contact": 1, "at": "2026-11-23"}, "events[0].at"),
            ({"event": "x", "contact": 1, "at": "2999-01-01T00:00:00Z"}, "events[0].at"),
            ({"event": "x", "contact": 1, "details": []}, None),
            ({"event": "x", "contact": 1, "id": ""}, "events[0].id"),
            ("x", "events[0]"),
            ({"event": "x", "contact": 1, "id": "a\0b"}, "events[0].id"),
            ({"event": "x", "contact": 1, "id": "\ud800"}, "events[0].id"),
            ({"event": "x", "contact": True}, "events[0]"),
            ({"event": "x", "contact": 1, "at": 7}, "events[0].at"),
            ({"event": "x", "contact": 1, "details": {"a": "\0"}}, "events[0].details"),
        ],
    )
    def test_rubbish_is_refused_with_its_place(self, settings, sent, event, where):
        answer = self.post(sent, event)
        if where is None:
            assert answer.status_code == 200
        else:
            assert (answer.status_code, answer.json["where"]) == (422, where)

    def test_a_batch_with_one_bad_event_leaves_nothing_behind(self, database, sent):
        """Also where the bad one is only found while the receipts of the others are being stored,
        or one of these was known."""
        good = [
            {"event": "ticket_bought", "contact": sent[1]["ann"], "id": f"g{n}"} for n in range(3)
        ]
        bad = {"event": "ticket_bought", "contact": sent[1]["ann"], "id": "bad", "at": "yesterday"}
        nobody = bad | {"at": None, "contact": 99}
        with database.session() as session:
            taking.take_events(session, NOW, "x", good[:1])
            for batch, why in (
                ([*good, bad], ".at"),
                ([*good[1:], bad], ".at"),
                ([*good[1:], nobody], ": there is no contact 99"),
            ):
                with pytest.raises(Invalid, match=rf"events\[{len(batch) - 1}\]{re.escape(why)}"):
                    taking.take_events(session, NOW, "x", batch)
            assert taking.take_events(session, NOW, "x", good) == taking.Taken(2, 1, 0)
            assert (
                session.execute(
                    sa.text("SELECT count(*) FROM event_receipts WHERE key = 'x/bad'")
                ).scalar()
                == 0
            )

    def test_an_event_of_a_contact_that_was_merged_is_the_others(self, database, sent):
        ann, ben = sent[1]["ann"], sent[1]["ben"]
        with database.session() as session:
            merge(session, IDA, NOW, ann, ben, set())
        assert (
            self.post(sent, {"event": "ticket_bought", "contact": ben, "id": "late"}).json["stored"]
            == 1
        )
        with database.session() as session:
            assert session.execute(sa.text("SELECT contact_id FROM events")).scalars().all() == [
                ann
            ]

    def test_without_a_key_nothing_is_taken(self, sent):
        for headers in ({}, {"Authorization": "Bearer wrong"}, {"Authorization": "Bearer site_x"}):
            assert self.post(sent, {"event": "x", "contact": 1}, headers=headers).status_code == 403

    def test_a_website_tells_only_of_visitors_that_carry_our_sign(self, database, settings, sent):
        ann = sent[1]["ann"]
        sign = signing.visitor(settings.secret, ann, NOW)

        def tell(
            origin="https://farrowhill.example",
            visitor=sign,
            key="site_x",
            event="ticket_bought",
            **details,
        ):
            return sent[2].post(
                "/site/events",
                data=json.dumps(
                    {
                        "key": key,
                        "visitor": visitor,
                        "event": event,
                        "details": details or {"amount": 8},
                    }
                ),
                headers={"Origin": origin},
            )

        told = tell().json
        assert (told["stored"], told["in_app"]) == (1, None)
        assert tell(event="page_viewed", visitor=told["visitor"]).status_code == 200, (
            "the browser is known by what it was given"
        )
        assert tell(origin="https://evil.example").status_code == 403
        assert tell(visitor=sign.replace(f"{ann}.", f"{sent[1]['ben']}.", 1)).status_code == 422
        assert tell(key="key_secret").status_code == 403
        assert tell(event="DROP TABLE").status_code == 422
        assert tell(event="never_heard_of").status_code == 422
        assert tell(event="page_viewed").status_code == 200
        assert tell(page="\ud800").status_code == tell(page="a\0b").status_code == 422
        assert outcome(database, sent).converted == 1
        # What money is counted by may be kept from websites: their visitors could make it up.
        with database.session() as session:
            session.execute(
                sa.text("UPDATE event_kinds SET by_website = false WHERE key = 'ticket_bought'")
            )
        refused = tell(amount=10**6)
        assert refused.status_code == 403 and "Send it by the API" in refused.json["error"]
        assert (
            tell(event="page_viewed").status_code == 200 and outcome(database, sent).converted == 1
        )

    def test_contacts_by_the_api(self, database, settings, sent):
        def put(**data):
            return sent[2].put("/api/v1/contacts", json=data, headers=self.AUTH)

        made = put(
            email="new@post.example", first_name="New", consent={"agreed": True, "how": "till"}
        )
        assert made.status_code == 201
        assert put(email="NEW@post.example", town="Farrow").json["first_name"] == "New"
        shown = sent[2].get(f"/api/v1/contacts/{made.json['id']}", headers=self.AUTH).json
        assert (shown["town"], shown["consent"][0]) == (
            "Farrow",
            {"channel": "email", "topic": "All email", "agreed": True, "how": "till"},
        )
        assert put(email="nope").status_code == 422
        assert put(email="x@post.example", consent={"agreed": True}).json["where"] == "consent.how"
