"""Campaigns, sends and results over HTTP: every word of the sheet, the last look, steering,
files."""

import csv
import datetime as dt
import io
import re

import openpyxl
import pytest
import sqlalchemy as sa

from meadowrun.base import clock, jobs
from meadowrun.sends.models import Send
from meadowrun.tracking import actions as tracking
from tests.conftest import NOW
from tests.store.web import sign_in, word, words
from tests.store.work import number_of, work


class TestSheet:
    def test_it_says_who_would_get_it_and_why_not(self, web, ready, still):
        shown = words(web.get(f"/sends/{ready}").text)
        assert (
            "2 would get it" in shown
            and "Hello Ann" in shown
            and "Hello Bo" in shown
            and "Hello Cy" not in shown
        )

    def test_everyone_needs_no_segment(self, web, ready, database, still):
        word(web, ready, "in", database, who=["everyone"])
        shown = words(web.get(f"/sends/{ready}").text)
        assert (
            "to everyone , leaving out nobody" in shown
            and "2 would get it" in shown
            and "No consent for email" in shown
        ), shown
        assert 'value="everyone" checked' in web.get(f"/sends/{ready}/word/in").text

    def test_who_may_get_it_is_asked_anew_for_another_channel(self, web, ready, database, still):
        with database.session() as session:
            for channel in ("email", "push"):
                session.execute(
                    sa.text(
                        "INSERT INTO messages (name, channel, draft, document, created_at, "
                        "changed_at, changed_by) SELECT :ch, :ch, "
                        "1, document, :now, :now, '' FROM messages ORDER BY id LIMIT 1"
                    ),
                    {"ch": channel, "now": NOW},
                )
            numbers = dict(
                session.execute(
                    sa.text("SELECT name, id FROM messages WHERE name IN ('email', 'push')")
                )
                .tuples()
                .all()
            )

        def rule(**form):
            word(web, ready, "message" if "message" in form else "consent", database, **form)
            with database.session() as session:
                return session.get_one(Send, ready).consent_rule

        assert rule(rule="service") == "service"
        assert rule(message=numbers["email"]) == "service"
        assert rule(message=numbers["push"]) == "agreed"
        assert rule(message=numbers["email"]) == "agreed"

    def test_who_may_get_it_is_chosen_and_said(self, web, ready, database, still):
        assert "for everyone who agreed to email" in words(web.get(f"/sends/{ready}").text)
        word(web, ready, "consent", database, rule="not_refused")
        shown = words(web.get(f"/sends/{ready}").text)
        assert "for everyone who did not say no to email" in shown and "3 would get it" in shown
        assert "It may go to everyone who did not say no to email ." in words(
            web.get(f"/sends/{ready}/look").text
        )
        word(web, ready, "consent", database, rule="whatever")
        assert "2 would get it" in words(web.get(f"/sends/{ready}").text)

    @pytest.mark.parametrize(
        ("slot", "shows"),
        [
            ("in", "Everybody"),
            ("consent", "everyone who did not say no to email"),
            ("out", "Everybody"),
            ("message", "Message"),
            ("from", "The desk"),
            ("topic", "Sky diary"),
            ("name", "A send"),
            ("leaves", "Europe/London"),
            ("success", "bought a ticket"),
        ],
    )
    def test_every_word_opens(self, web, ready, slot, shows):
        assert shows in web.get(f"/sends/{ready}/word/{slot}").text

    @pytest.mark.parametrize(
        ("minutes", "offered"), [(0, "15:00"), (44, "15:00"), (45, "16:00"), (59, "16:00")]
    )
    def test_the_hour_it_offers_leaves_time_to_look(self, web, ready, minutes, offered):
        """A quarter of an hour at least, where no moment is chosen yet; NOW is 14:00 there."""
        with clock.at(NOW + dt.timedelta(minutes=minutes)):
            shown = web.get(f"/sends/{ready}/word/leaves").text
        assert f'value="{offered}"' in shown

    @pytest.mark.parametrize(
        ("slot", "form", "column", "value"),
        [
            ("name", {"name": " A  better name "}, "name", "A better name"),
            ("topic", {"topic": "1"}, "topic_id", 1),
            ("success", {"event": "visited", "days": "3"}, "success_event", "visited"),
            ("success", {"event": ""}, "success_event", None),
            ("in", {"who": ["everyone"]}, "audience", {"in": [{"everyone": True}], "out": []}),
            ("out", {"who": ["everyone"]}, "audience", {"in": [{"segment": 1}], "out": []}),
            (
                "out",
                {"who": ["segment:1", "nonsense"]},
                "audience",
                {"in": [{"segment": 1}], "out": [{"segment": 1}]},
            ),
            (
                "leaves",
                {"when": "at", "day": "2026-12-01", "time": "18:30", "zone": "Europe/Berlin"},
                "leaves_at",
                dt.datetime(2026, 12, 1, 17, 30, tzinfo=dt.UTC),
            ),
            # On the night the clocks go forward 02:30 does not exist: it is taken on the old
            # offset, an hour later by the new.
            (
                "leaves",
                {"when": "at", "day": "2027-03-28", "time": "02:30", "zone": "Europe/Berlin"},
                "leaves_at",
                dt.datetime(2027, 3, 28, 1, 30, tzinfo=dt.UTC),
            ),
            ("leaves", {"when": "now"}, "leaves_at", None),
        ],
    )
    def test_answers_are_kept(self, web, ready, database, still, slot, form, column, value):
        assert word(web, ready, slot, database, **form).status_code == 303
        with database.session() as session:
            assert getattr(session.get_one(Send, ready), column) == value

    @pytest.mark.parametrize(
        ("slot", "form", "says"),
        [
            ("name", {"name": " "}, "Give the send a name"),
            ("success", {"event": "visited", "days": "0"}, "1 to 90 days"),
            (
                "leaves",
                {"when": "at", "day": "2026-11-22", "time": "10:00", "zone": "UTC"},
                "has passed",
            ),
            ("leaves", {"when": "at", "day": "", "time": "10:00", "zone": "UTC"}, "Give the day"),
            (
                "leaves",
                {"when": "at", "day": "2026-12-01", "time": "10:00", "zone": "Mars/Dome"},
                "zone",
            ),
            ("from", {"sender": "x"}, "number"),
            ("spell", {}, "no such word"),
        ],
    )
    def test_what_cannot_be_is_told_on_the_sheet(
        self, web, ready, database, still, slot, form, says
    ):
        answer = word(web, ready, slot, database, **form)
        assert answer.status_code == 422 and says in words(answer.text) and "A send" in answer.text

    @pytest.mark.parametrize(
        ("slot", "form"),
        [("message", {"message": "99"}), ("from", {"sender": "99"}), ("topic", {"topic": "99"})],
    )
    def test_what_is_not_there_is_told_on_the_sheet(self, web, ready, database, still, slot, form):
        answer = word(web, ready, slot, database, **form)
        assert (
            answer.status_code == 404
            and "does not exist any more" in words(answer.text)
            and "A send" in answer.text
        )

    def test_two_authors_never_overwrite_each_other(self, web, ready, database):
        with database.session() as session:
            version = session.get_one(Send, ready).version
        assert (
            web.post(
                f"/sends/{ready}/word/name", data={"version": version, "name": "B"}
            ).status_code
            == 303
        )
        late = web.post(f"/sends/{ready}/word/name", data={"version": version, "name": "C"})
        assert late.status_code == 409 and "Save my change anyway Keep it as it is" in words(
            late.text
        )
        # Its change goes with it, for the sheet as it is now.
        fields = dict(
            re.findall(r'<input type="hidden" name="(version|name)" value="([^"]*)">', late.text)
        )
        assert fields == {"version": str(version + 1), "name": "C"}
        assert web.post(f"/sends/{ready}/word/name", data=fields).status_code == 303
        with database.session() as session:
            assert session.get_one(Send, ready).name == "C"

    def test_what_stands_in_the_way(self, web, ready, database, still):
        word(web, ready, "in", database)
        shown = words(web.get(f"/sends/{ready}").text)
        assert "Nobody is chosen yet" in shown
        assert "Nobody is chosen yet" in words(web.get(f"/sends/{ready}/look").text)


class TestGoing:
    def start(self, web, database, ready, going=2):
        with database.session() as session:
            version = session.get_one(Send, ready).version
        return web.post(f"/sends/{ready}/start", data={"version": version, "going": going})

    def test_last_look_start_and_result(self, web, ready, database):
        with clock.at(NOW):
            shown = words(web.get(f"/sends/{ready}/look").text)
            assert "2" in shown and "Ann" in shown
            assert "Dear Ann" in web.get(f"/sends/{ready}/as/1.html").text
            assert self.start(web, database, ready).status_code == 303
            assert web.get(f"/results/{ready}").status_code == 303
            jobs.run_here("sends.take", send_id=ready)
            work(database)
        with clock.at(NOW + dt.timedelta(minutes=5)), database.session() as session:
            first, second = number_of(database, ready, 1), number_of(database, ready, 2)
            tracking.react(session, NOW + dt.timedelta(minutes=4), first, 1, "opened")
            tracking.react(session, NOW + dt.timedelta(minutes=5), first, 1, "clicked", link=0)
            tracking.react(
                session, NOW + dt.timedelta(minutes=1), second, 2, "opened", machine=True
            )
        with clock.at(NOW + dt.timedelta(hours=1)):
            text = words(web.get(f"/results/{ready}").text)
            assert "delivered" in text.lower() and "Audience 3" in text
            assert (
                "Ann" in web.get(f"/results/{ready}/people/clicked").text
                and "Bo" not in web.get(f"/results/{ready}/people/clicked").text
            )
            assert "Bo" in web.get(f"/results/{ready}/people/machine_only").text
            assert "Cy" in web.get(f"/results/{ready}/people/no_consent").text
            assert "Clicked “Book”" in words(web.get(f"/results/{ready}/people/link0").text)
            assert web.get(f"/results/{ready}/people/nonsense").status_code == 404
            assert "Dear Ann" in web.get(f"/sends/{ready}/mail/1.html").text
            self.files(web, ready)

    def files(self, web, ready):
        rows = list(csv.reader(io.StringIO(web.get(f"/results/{ready}.csv").text.lstrip("\ufeff"))))
        found = {row[0]: row[1] for row in rows if len(row) == 4}
        assert (
            found["Audience"],
            found["Opened"],
            found["Clicked"],
            found["Opened by a machine only"],
        ) == ("3", "1", "1", "1")
        book = openpyxl.load_workbook(io.BytesIO(web.get(f"/results/{ready}.xlsx").data))
        assert book.sheetnames == ["Summary", "Links", "Over time", "People"]
        assert [r[1].value for r in book["People"].iter_rows(min_row=2)] == ["Ann", "Bo", "Cy"]
        # Taking people along is noted; whoever may only look gets the numbers alone.
        assert "downloaded send" in words(web.get("/changes").text)
        sign_in(web, "viewer")
        book = openpyxl.load_workbook(io.BytesIO(web.get(f"/results/{ready}.xlsx").data))
        assert book.sheetnames == ["Summary", "Links", "Over time"]
        sign_in(web)

    def test_a_number_that_changed_while_looking(self, web, ready, database, still):
        answer = self.start(web, database, ready, going=3)
        assert answer.status_code == 422 and "changed from 3 to 2 people" in words(answer.text)

    def test_planned_then_taken_back(self, web, ready, database, still):
        word(web, ready, "leaves", database, when="at", day="2026-12-01", time="10:00", zone="UTC")
        assert self.start(web, database, ready).status_code == 303
        assert "It goes out Tue 1 Dec 2026 at 10:00" in words(web.get(f"/sends/{ready}").text)
        assert "A send" in web.get("/calendar?month=2026-12").text
        with database.session() as session:
            first = session.get_one(Send, ready).message_id
        assert (
            "is used by the send"
            in web.post(f"/messages/{first}/delete", follow_redirects=True).text
        )
        web.post(f"/sends/{ready}/unplan")
        with database.session() as session:
            assert session.get_one(Send, ready).state == "draft"
        # What it would have gone with is free again once another message is chosen.
        word(web, ready, "message", database, new_message="Instead", channel="email")
        assert web.post(f"/messages/{first}/delete").location == "/messages"

    def test_one_begun_by_mistake_is_deleted_one_that_went_is_not(
        self, web, ready, database, still
    ):
        assert "goes on in the send" in web.post("/campaigns/1/delete", follow_redirects=True).text
        place = web.post("/campaigns/1/send", data={"name": "By mistake"}).location
        assert web.post(f"{place}/delete").location == "/campaigns/1"
        with database.session() as session:
            session.get_one(Send, ready).state = "done"
        assert (
            "what was sent stays on record"
            in web.post(f"/sends/{ready}/delete", follow_redirects=True).text
        )
        web.post("/campaigns/new", data={"name": "Empty", "kind": "Offer"})
        assert web.post("/campaigns/2/delete").location == "/campaigns"
        with database.session() as session:
            assert session.execute(
                sa.text("SELECT (SELECT count(*) FROM sends), (SELECT count(*) FROM campaigns)")
            ).one() == (1, 1)

    def test_authors_write_and_approvers_start(self, client, ready, database, still):
        sign_in(client, "author")
        assert self.start(client, database, ready).status_code == 403

    def test_a_running_send_is_steered(self, web, ready, database, still):
        self.start(web, database, ready)
        jobs.run_here("sends.take", send_id=ready)
        for verb, state in (("pause", "paused"), ("resume", "running"), ("stop", "stopped")):
            assert web.post(f"/sends/{ready}/{verb}").status_code == 303
            with database.session() as session:
                assert session.get_one(Send, ready).state == state
        assert web.get(f"/sends/{ready}/progress?shown=stopped").text.count("data-finished") == 1
        assert (
            "it cannot be resumed now"
            in web.post(f"/sends/{ready}/resume", follow_redirects=True).text
        )

    def test_a_message_that_was_sent_stays(self, web, ready, database, still):
        self.start(web, database, ready)
        with database.session() as session:
            message = session.get_one(Send, ready).message_id
        assert (
            "Change those first"
            in web.post(f"/messages/{message}/delete", follow_redirects=True).text
        )
        jobs.run_here("sends.take", send_id=ready)
        assert (
            "What was sent stays on record"
            in web.post(f"/messages/{message}/delete", follow_redirects=True).text
        )

    def test_its_page_is_asked_for_again_when_what_can_be_done_has_changed(
        self, web, ready, database, still
    ):
        self.start(web, database, ready)
        assert "Unschedule" in web.get(f"/sends/{ready}").text
        assert "Working out the audience" in web.get(f"/sends/{ready}/progress?shown=taking").text
        jobs.run_here("sends.take", send_id=ready)
        assert (
            web.get(f"/sends/{ready}/progress?shown=taking").text == "<span data-finished></span>"
        )
        going = web.get(f"/sends/{ready}/progress?shown=running").text
        assert "dealt with" in going and "data-finished" not in going


class TestCampaigns:
    FORM = {
        "name": "Leonids",
        "kind": "Open night",
        "tags": "night, Meteors",
        "starts": "2026-11-17",
        "ends": "2026-11-18",
        "fact": ["venue", "doors open"],
        "fact_value": ["the dome", "19:00"],
    }

    def test_made_shown_and_changed(self, web):
        assert web.post("/campaigns/new", data=self.FORM).location == "/campaigns/1"
        shown = words(web.get("/campaigns/1").text)
        assert all(x in shown for x in ("Leonids", "Open night", "the dome", "doors open", "night"))
        assert "19:00" in web.get("/campaigns/1/edit").text
        web.post("/campaigns/1/edit", data={**self.FORM, "name": "Geminids"})
        assert "Geminids" in web.get("/campaigns").text
        assert web.post("/campaigns/1/send", data={"name": "Invitation"}).location == "/sends/1"

    def test_a_kind_of_their_own_is_offered_again(self, web):
        web.post("/campaigns/new", data={**self.FORM, "kind": " Harvest   supper "})
        assert "Harvest supper" in words(web.get("/campaigns/1").text)
        page = web.get("/campaigns/new").text
        assert '<option value="Harvest supper">' in page and '<option value="Newsletter">' in page

    @pytest.mark.parametrize(
        ("change", "says"),
        [
            ({"name": ""}, "name"),
            ({"starts": "soon"}, "“soon” is not a date"),
            ({"fact": ["venue", "Venue"]}, "is listed twice"),
            ({"kind": "x" * 41}, "at most 40 characters"),
            ({"fact": ["1st", "x"]}, "begins with a letter"),
            ({"ends": "2026-11-01"}, "end"),
        ],
    )
    def test_what_is_refused_keeps_what_was_typed(self, web, change, says):
        answer = web.post("/campaigns/new", data={**self.FORM, **change})
        assert (
            answer.status_code == 422 and says in words(answer.text) and "the dome" in answer.text
        )


class TestMadeOnTheSpot:
    def test_an_audience_that_is_said_becomes_a_segment(self, web, ready, database, still):
        word(web, ready, "in", database, who=["segment:1"], sentence="first name is Ann")
        with database.session() as session:
            assert session.get_one(Send, ready).audience["in"] == [{"segment": 1}, {"segment": 2}]
        assert "First name is Ann" in words(
            web.get("/segments").text
        ) and "First name is Ann" in words(web.get(f"/sends/{ready}").text)
        word(web, ready, "out", database, sentence="first name is Ann")
        assert "leaving out First name is Ann 2" in words(web.get(f"/sends/{ready}").text)

    def test_what_is_not_understood_is_quoted_and_changes_nothing(
        self, web, ready, database, still
    ):
        answer = word(web, ready, "in", database, who=["segment:1"], sentence="qwertz uiop")
        assert answer.status_code == 422 and "“qwertz uiop” was not understood" in words(
            answer.text
        )
        assert [s for s in ("qwertz",) if s in words(web.get("/segments").text)] == []

    @pytest.mark.parametrize(
        ("channel", "place"),
        [
            ("email", "Email"),
            ("sms", "Text message"),
            ("push", "Push notification"),
            ("in_app", "In-app message"),
        ],
    )
    def test_a_message_is_begun(self, web, ready, database, still, channel, place):
        word(web, ready, "message", database, new_message="Made here", channel=channel)
        with database.session() as session:
            number = session.get_one(Send, ready).message_id
        assert f"Messages / {place}" in words(
            web.get(f"/messages/{number}", follow_redirects=True).text
        )
        assert "already" in words(
            word(web, ready, "message", database, new_message="Made here", channel=channel).text
        )
        assert (
            word(web, ready, "message", database, new_message="Other", channel="pigeon").status_code
            == 422
        )

    def test_a_sender_is_added_by_an_administrator(self, web, client, ready, database, still):
        word(
            web, ready, "from", database, sender_name="The mill", address="mill@farrowhill.example"
        )
        assert "The mill (mill@farrowhill.example" in words(web.get(f"/sends/{ready}").text)
        assert "has no @" in words(
            word(web, ready, "from", database, sender_name="The mill", address="nowhere").text
        )
        sign_in(client, "author")
        assert "or add one here" not in client.get(f"/sends/{ready}/word/from").text
        assert (
            word(
                client, ready, "from", database, sender_name="Me", address="me@farrowhill.example"
            ).status_code
            == 403
        )

    def test_what_was_used_lately_stands_first_in_a_long_list(self, web, ready, database, still):
        for number in range(9):
            web.post(
                "/segments/save", json={"name": f"Segment {number}", "definition": {"lines": []}}
            )
        other = web.post("/campaigns/1/send", data={"name": "Another"}).location.rsplit("/", 1)[1]
        shown = words(web.get(f"/sends/{other}/word/in").text)
        assert "recently used Everybody segments" in shown and shown.count("Everybody") == 1
        assert "recently used" not in words(web.get(f"/sends/{ready}/word/in").text)
