"""The message's page over HTTP: writing, drafts, reading as somebody, fill-ins, proofs; and what
the editor shows."""

import datetime as dt
import re
import threading
from concurrent.futures import ThreadPoolExecutor

import pytest
import sqlalchemy as sa

from meadowrun.base.errors import Conflict
from meadowrun.core.content import document as doc
from meadowrun.messages import actions, editable
from meadowrun.messages.models import Draft, Message
from meadowrun.people.queries import dictionary
from tests.conftest import NOW
from tests.store.letters import LETTER, changed
from tests.store.people import IDA
from tests.store.web import sign_in, words


class TestDrafts:
    @pytest.mark.parametrize(
        ("seconds", "kept"),
        [
            # Without a pause a draft every three minutes; after a pause of a minute a new one at
            # once.
            (range(0, 360, 20), ["Good evening", "8", "17"]),
            ([0, 20, 90, 100], ["Good evening", "1", "3"]),
        ],
    )
    def test_drafts_are_steps_worth_going_back_to(self, database, letter, seconds, kept):
        with database.session() as session:
            message = session.get_one(Message, letter)
            for number, after in enumerate(seconds):
                actions.save(
                    session,
                    IDA,
                    NOW + dt.timedelta(seconds=after),
                    message,
                    changed(h={"text": str(number)}),
                    message.version,
                    dictionary(session),
                )
            texts = [
                d.document["lines"][0]["text"]
                for d in session.scalars(sa.select(Draft).order_by(Draft.number))
            ]
            assert texts == kept

    def test_what_has_a_name_or_was_much_more_stays(self, database, letter):
        with database.session() as session:
            message, moment = session.get_one(Message, letter), NOW

            def save(document, **more):
                nonlocal moment
                moment += dt.timedelta(seconds=5)
                actions.save(
                    session,
                    IDA,
                    moment,
                    message,
                    document,
                    message.version,
                    dictionary(session),
                    **more,
                )
                return message.draft

            assert save(changed(h={"text": "One"})) == 2
            actions.name_draft(session, IDA, moment, message, 2, "  For the trustees ")
            assert save(changed(h={"text": "Two"})) == 3, "a named draft is kept as it is"
            assert save({**LETTER, "lines": LETTER["lines"][-1:]}) == 4, (
                "so is one of which much was taken out"
            )
            assert save(changed(h={"text": "Code"}), apart=True) == 5, (
                "and one before a step that is asked to stand apart"
            )
            assert session.get_one(Draft, (letter, 2)).name == "For the trustees"

    def test_nobody_overwrites_what_they_have_not_seen(self, database, letter):
        """Two people, or one in two windows, save within the time in which saves share a draft."""
        with database.session() as session:
            message = session.get_one(Message, letter)
            seen = message.version
            actions.save(
                session,
                IDA,
                NOW,
                message,
                changed(h={"text": "First window"}),
                seen,
                dictionary(session),
            )
            with pytest.raises(Conflict) as told:
                actions.save(
                    session,
                    IDA,
                    NOW,
                    message,
                    changed(h={"text": "Second window"}),
                    seen,
                    dictionary(session),
                )
            assert told.value.newest == message.version
            assert message.document["lines"][0]["text"] == "First window"
            # Whoever was told may save theirs after it; the other stays among the drafts.
            actions.save(
                session,
                IDA,
                NOW,
                message,
                changed(h={"text": "Second window"}),
                told.value.newest,
                dictionary(session),
                apart=True,
            )
            texts = [
                d.document["lines"][0]["text"]
                for d in session.scalars(sa.select(Draft).order_by(Draft.number))
            ]
            assert texts == ["Good evening", "First window", "Second window"]

    def test_a_draft_is_restored_without_losing_the_newer(self, web, letter):
        web.post(
            f"/messages/{letter}/save",
            json={"document": changed(h={"text": "Newer"}), "version": 1},
        )
        assert web.post(f"/messages/{letter}/restore/1").status_code == 303
        shown = words(web.get(f"/messages/{letter}/drafts").text)
        assert "draft 1 restored" in shown
        assert "Newer" in web.get(f"/messages/{letter}/drafts/2.html").text
        assert "Good evening" in web.get(f"/messages/{letter}/read.html").text
        assert web.get(f"/messages/{letter}/drafts/9.html").status_code == 404

    def test_somebody_else_s_newer_draft_is_not_overwritten(self, client, letter):
        sign_in(client, "admin")
        assert (
            client.post(
                f"/messages/{letter}/save",
                json={"document": changed(h={"text": "Mine"}), "version": 1},
            ).status_code
            == 200
        )
        sign_in(client, "author")
        answer = client.post(
            f"/messages/{letter}/save",
            json={"document": changed(h={"text": "Theirs"}), "version": 1},
        )
        assert (
            answer.status_code == 409
            and "Admin changed this message" in answer.json["error"]
            and answer.json["newest"] == 2
        )
        assert "Mine" in client.get(f"/messages/{letter}/read.html").text

    def test_an_edition_is_made_only_when_something_changed(self, database, letter):
        with database.session() as session:
            message = session.get_one(Message, letter)
            first = actions.make_edition(session, IDA, NOW, message, "http://m")
            assert actions.make_edition(session, IDA, NOW, message, "http://m").id == first.id
            actions.save(
                session, IDA, NOW, message, changed(h={"text": "Other"}), 1, dictionary(session)
            )
            second = actions.make_edition(session, IDA, NOW, message, "http://m")
            assert (first.number, second.number) == (1, 2)
            assert first.document["lines"][0]["text"] == "Good evening"

    def test_several_who_need_the_first_edition_at_once_get_the_same(self, database, letter):
        """As the workers do that come to the first message of a journey together."""
        together = threading.Barrier(4)

        def made(_):
            with database.session() as session:
                message = session.get_one(Message, letter)
                together.wait()
                return actions.make_edition(session, IDA, NOW, message, "http://m").number

        with ThreadPoolExecutor(4) as pool:
            assert list(pool.map(made, range(4))) == [1, 1, 1, 1]

    @pytest.mark.parametrize(
        ("lines", "where", "says"),
        [
            ([{"id": "x", "type": "spell"}], "x:", "no type that exists"),
            (
                [{"id": "t", "type": "text", "html": "<p>{{ contact.first_name </p>"}],
                "t:html",
                "stray “{{”",
            ),
            ([{"id": "d", "type": "space", "height": "tall"}], "d:height", "not a whole number"),
        ],
    )
    def test_what_cannot_be_saved_names_line_and_slot(self, web, letter, lines, where, says):
        answer = web.post(
            f"/messages/{letter}/save", json={"document": {**LETTER, "lines": lines}, "version": 1}
        )
        assert (
            answer.status_code == 422
            and answer.json["where"] == where
            and says in answer.json["error"]
        )
        assert "Good evening" in web.get(f"/messages/{letter}/read.html").text


class TestReading:
    def test_as_a_person_and_as_one_with_blanks(self, web, letter):
        as_ann = web.get(f"/messages/{letter}/read?as=1").json
        assert (
            as_ann["subject"] == "Stars for Ann"
            and as_ann["name"] == "Ann"
            and "Dear Ann of Farrow" in as_ann["text"]
        )
        as_bo = web.get(f"/messages/{letter}/read?as=2").json
        assert as_bo["subject"] == "Stars for you" and "Dear friend of" in as_bo["text"]

    def test_next_previous_and_found_by_search(self, web, letter):
        assert web.get(f"/messages/{letter}/people?from=1&go=on").json == {"id": 2}
        assert web.get(f"/messages/{letter}/people?from=2&go=back").json == {"id": 1}
        assert web.get(f"/messages/{letter}/people?from=2&go=on").json == {"id": None}
        found = web.post(f"/messages/{letter}/people", json={"q": "ann"}).json["people"]
        assert [(p["id"], p["name"]) for p in found] == [(1, "Ann")]

    def test_next_of_a_segment(self, web, letter):
        web.post(
            "/segments/save",
            json={
                "name": "Blank towns",
                "definition": {
                    "lines": [{"id": "a", "kind": "field", "field": "town", "op": "blank"}]
                },
            },
        )
        assert web.get(f"/messages/{letter}/people?from=0&segment=1").json == {"id": 2}

    def test_fill_ins_on_offer(self, web, letter):
        offered = web.get(f"/messages/{letter}/fills").json
        assert (
            "contact.first_name" in [f["ref"] for f in offered["fields"]] and offered["facts"] == []
        )

    def test_checks_count_those_who_would_read_a_gap(self, web, letter):
        shown = words(web.get(f"/messages/{letter}").text)
        assert "1 person of 2 has no town" in shown

    def test_a_new_line_of_each_kind(self, web, letter):
        for number, kind in enumerate(doc.LINE_TYPES, 1):
            answer = web.post(
                f"/messages/{letter}/save",
                json={"version": number, "changes": [{"do": "add", "type": kind, "into": ""}]},
            ).json
            assert f'data-id="{answer["touched"]}" data-type="{kind}"' in answer["lines"]
        wrong = web.post(
            f"/messages/{letter}/save",
            json={"version": number + 1, "changes": [{"do": "add", "type": "spell"}]},
        )
        assert wrong.status_code == 422 and "no line of the type" in wrong.json["error"]

    def test_what_is_typed_draws_nothing_anew(self, web, letter):
        typed = {"do": "set", "line": "h", "slot": "text", "value": "Come early"}
        answer = web.post(f"/messages/{letter}/save", json={"version": 1, "changes": [typed]}).json
        assert "lines" not in answer and answer["document"]["lines"][0]["text"] == "Come early"
        assert "Come early" in web.get(f"/messages/{letter}/read.html").text

    @pytest.mark.parametrize(
        ("posted", "says"),
        [
            ({"changes": ["x"]}, "each an object"),
            ({"changes": [{"do": "fly"}]}, "not a change that can be made"),
            ({"changes": [{"do": "remove", "line": "gone"}]}, "no longer there"),
            ({"version": "one"}, "must be a number"),
            ({"document": []}, "not an object"),
        ],
    )
    def test_changes_that_cannot_be_made_are_refused(self, web, letter, posted, says):
        answer = web.post(f"/messages/{letter}/save", json={"version": 1, **posted})
        assert answer.status_code == 422 and says in answer.json["error"]
        assert "Good evening" in web.get(f"/messages/{letter}/read.html").text

    def test_changes_of_two_windows_both_stay(self, web, letter):
        """The later window's changes apply to what it saw, as a draft of its own."""

        def typed(slot, value):
            return {"do": "set", "line": "", "slot": slot, "value": value}

        seen = web.post(f"/messages/{letter}/save", json={"version": 1}).json["document"]
        first = {"version": 1, "changes": [typed("subject", "First window")]}
        assert web.post(f"/messages/{letter}/save", json=first).status_code == 200
        second = {"version": 1, "changes": [typed("preheader", "Second window")]}
        told = web.post(f"/messages/{letter}/save", json=second)
        assert told.status_code == 409
        mine = second | {"version": told.json["newest"], "document": seen, "apart": True}
        document = web.post(f"/messages/{letter}/save", json=mine).json["document"]
        assert document["preheader"] == "Second window"
        assert document["subject"] != "First window"
        assert "First window" in words(web.get(f"/messages/{letter}/drafts").text)


class TestProofs:
    @pytest.mark.parametrize(
        ("to", "says"),
        [
            ("", "at least one address"),
            ("nobody", "has no @"),
            (",".join(f"p{n}@post.example" for n in range(21)), "at most 20"),
        ],
    )
    def test_bad_addresses(self, web, letter, to, says):
        answer = web.post(
            f"/messages/{letter}/proof", data={"to": to}, headers={"Accept": "application/json"}
        )
        assert answer.status_code == 422 and says in answer.json["error"]

    def test_it_goes_marked_and_is_never_counted(self, web, letter, database, monkeypatch):
        from meadowrun.gateways.smtp import NullGateway

        letters = []
        monkeypatch.setattr(
            NullGateway,
            "hand_over",
            lambda self, given, real=NullGateway.hand_over: real(
                self, letters.extend(given := list(given)) or given
            ),
        )
        web.post(
            f"/messages/{letter}/proof",
            data={"to": "ida@farrowhill.example; noor@farrowhill.example", "as": "1"},
        )
        assert [x.to for x in letters] == ["ida@farrowhill.example", "noor@farrowhill.example"]
        assert {x.subject for x in letters} == {"[Proof] Stars for Ann"} and "/c/" not in letters[
            0
        ].html
        assert "as Ann, was sent to 2 of 2 addresses" in web.get(f"/messages/{letter}").text
        with database.session() as session:
            assert session.execute(sa.text("SELECT count(*) FROM deliveries")).scalar() == 0

    def proofs(self, database):
        with database.session() as session:
            return session.execute(
                sa.text("SELECT sent_to, read_as, outcome, note FROM proofs ORDER BY id")
            ).all()

    def test_each_is_kept_with_what_became_of_it(self, web, letter, database):
        web.post(
            f"/messages/{letter}/proof",
            data={"to": "ida@farrowhill.example", "as": "1", "also": "bo@post.example"},
        )
        assert [tuple(row)[:3] for row in self.proofs(database)] == [
            ("ida@farrowhill.example", 1, "delivered"),
            ("ida@farrowhill.example", 2, "delivered"),
        ]
        shown = words(web.get(f"/messages/{letter}/checks").text)
        assert "sent this draft to ida@farrowhill.example." in shown
        web.post(
            f"/messages/{letter}/save",
            json={
                "version": 1,
                "changes": [{"do": "set", "line": "", "slot": "subject", "value": "Newer"}],
            },
        )
        shown = words(web.get(f"/messages/{letter}/checks").text)
        assert "This draft was not sent to anybody yet" in shown

    def test_one_of_which_nothing_was_heard_is_seen(self, web, letter, database, monkeypatch):
        """The web server is killed after it handed the proof over."""
        from meadowrun.gateways.smtp import NullGateway

        def killed(self, given):
            raise SystemExit

        monkeypatch.setattr(NullGateway, "hand_over", killed)
        with pytest.raises(SystemExit):
            web.post(f"/messages/{letter}/proof", data={"to": "ida@farrowhill.example"})
        assert [row.outcome for row in self.proofs(database)] == ["in_hand"]
        shown = words(web.get(f"/messages/{letter}/checks").text)
        assert "It is not known whether a proof reached ida@farrowhill.example." in shown

    def test_a_mail_server_that_is_away_is_told(self, web, letter, monkeypatch):
        from meadowrun.base.errors import GatewayUnavailable
        from meadowrun.gateways.smtp import NullGateway

        def away(self, given):
            raise GatewayUnavailable("it sleeps")

        monkeypatch.setattr(NullGateway, "hand_over", away)
        web.post(f"/messages/{letter}/proof", data={"to": "ida@farrowhill.example"})
        assert "The proof was not sent: it sleeps" in words(web.get(f"/messages/{letter}").text)


class TestNames:
    def test_begun_from_another_renamed_and_never_twice(self, web, letter):
        assert (
            web.post("/messages/new", data={"name": "Second", "from": str(letter)}).location
            == "/messages/2"
        )
        assert "Good evening" in web.get("/messages/2/read.html").text
        answer = web.post("/messages/new", data={"name": "Second"})
        assert answer.status_code == 409 and "Second" in answer.text
        web.post("/messages/2/rename", data={"name": "Third"})
        assert "Third" in web.get("/messages").text


class TestCopies:
    def test_the_same_as_a_text_a_notification_and_a_in_app(self, web, letter):
        for channel, number, has in (
            ("sms", 2, "Good evening. https://farrowhill.example/book"),
            ("push", 3, "https://farrowhill.example/book"),
            ("in_app", 4, "Good evening"),
        ):
            place = web.post(f"/messages/{letter}/also", data={"channel": channel}).location
            assert place == f"/messages/{number}"
            page = web.get(place, follow_redirects=True).text
            assert has in page and "Started from “A letter”." in page
        assert "Not copied: the salutation" not in words(web.get("/messages").text)
        table = words(web.get("/messages").text)
        assert all(
            name in table
            for name in (
                "A letter, text message",
                "A letter, push notification",
                "A letter, in-app message",
            )
        )

    def test_a_copy_and_another(self, web, letter, database):
        for number in (2, 3):
            assert (
                web.post(f"/messages/{letter}/also", data={"channel": "email"}).location
                == f"/messages/{number}"
            )
        with database.session() as session:
            assert session.scalars(sa.select(Message.name).order_by(Message.id)).all() == [
                "A letter",
                "A letter, copy",
                "A letter, copy 2",
            ]
            first, copy = session.scalars(
                sa.select(Message.document).order_by(Message.id).limit(2)
            ).all()
        assert [line["type"] for line in copy["lines"]] == [
            line["type"] for line in first["lines"]
        ] and copy["subject"] == first["subject"]
        assert not {line["id"] for line in copy["lines"]} & {line["id"] for line in first["lines"]}

    def test_words_for_some_go_along_as_kept_conditions(self, web, letter, database):
        only = {
            "id": "o",
            "type": "only",
            "cases": [
                {
                    "id": "v",
                    "name": "Of Farrow",
                    "lines": [
                        {
                            "id": "a",
                            "kind": "field",
                            "field": "town",
                            "op": "is",
                            "value": ["Farrow"],
                        }
                    ],
                    "content": [{"id": "y", "type": "text", "html": "<p>Walk up the hill.</p>"}],
                }
            ],
            "otherwise": [{"id": "x", "type": "text", "html": "<p>Take the bus.</p>"}],
        }
        with database.session() as session:
            message = session.get(Message, letter)
            actions.save(
                session,
                IDA,
                NOW,
                message,
                {**LETTER, "lines": [only]},
                message.version,
                dictionary(session),
            )
        place = web.post(f"/messages/{letter}/also", data={"channel": "sms"}).location
        text = f"/messages/{place.rsplit('/', 1)[1]}/text"
        for person, reads in ((1, "Walk up the hill."), (2, "Take the bus.")):
            assert reads in web.get(f"{text}/read?as={person}").json["text"]

    def test_begun_with_the_words_of_another_channel(self, web, letter):
        place = web.post(
            "/messages/new",
            data={
                "name": "By text",
                "channel": "sms",
                "words_of": str(letter),
                "from": "newsletter",
            },
        ).location
        assert "Good evening. https://" in web.get(place, follow_redirects=True).text
        answer = web.post("/messages/new", data={"name": "X", "channel": "pigeon"})
        assert answer.status_code == 422 and "no such channel" in answer.text

    def test_what_is_refused_is_said_in_red_on_its_own_page(self, web, letter):
        page = web.post(
            f"/messages/{letter}/also", data={"channel": "pigeon"}, follow_redirects=True
        ).text
        assert re.search(
            r'<p class="note bad"\s+role="alert">\s*There is no such channel\.\s*</p>', page
        )

    def test_deleted_when_nothing_uses_it(self, web, letter, database):
        web.post(f"/messages/{letter}/also", data={"channel": "push"})
        with database.session() as session:
            notification = session.get(Message, 2)
            document = notification.document | {
                "push": notification.document["push"] | {"tap": "page", "page": letter}
            }
            actions.save(
                session, IDA, NOW, notification, document, notification.version, dictionary(session)
            )
        assert (
            "is used by the message “A letter, push notification”"
            in web.post(f"/messages/{letter}/delete", follow_redirects=True).text
        )
        assert web.post("/messages/2/delete").location == "/messages"
        assert web.post(f"/messages/{letter}/delete").location == "/messages"
        with database.session() as session:
            assert (
                session.scalars(sa.select(Message.id)).all() == []
                and session.scalars(sa.select(Draft)).all() == []
            )


@pytest.mark.parametrize(
    ("source", "shown"),
    [
        (
            "Hi {{ contact.first_name }}",
            'Hi <span class="fill" contenteditable="false" data-fill="{{ contact.first_name }}" '
            'data-ref="contact.first_name" data-fallback="" data-format="" data-label="first '
            'name">first name</span>',
        ),
        (
            "{{ fact.venue }} & co",
            '<span class="fill fact" contenteditable="false" data-fill="{{ fact.venue }}" '
            'data-ref="fact.venue" '
            'data-fallback="" data-format="" data-label="venue">venue</span> &amp; co',
        ),
    ],
)
def test_fill_ins_are_words_in_the_editor(source, shown):
    assert editable.plain(source, {"contact.first_name": "first name"}) == shown


def test_fill_ins_inside_an_address_stay_as_they_are():
    html = '<p><a href="https://x.example/?w={{ contact.town }}">{{ contact.town }}</a></p>'
    shown = str(editable.rich(html, {"contact.town": "town"}))
    assert 'href="https://x.example/?w={{ contact.town }}"' in shown and shown.count("<span") == 1
