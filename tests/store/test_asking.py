"""Words inside a text that only some read, said in the sentences of segments: written, counted,
read, used, broken."""

import zoneinfo

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.core.content.document import empty
from meadowrun.core.content.lines import new_line
from meadowrun.messages import actions as messages
from meadowrun.messages import asking, queries, reading
from meadowrun.messages import shared as shared_parts
from meadowrun.messages.models import Condition, Message
from meadowrun.people import actions as people
from meadowrun.people import dictionary as fields
from meadowrun.people.models import Contact, Field, PeopleList
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary, uses_of_list
from meadowrun.segments import groupings
from meadowrun.segments.queries import users
from tests.conftest import NOW
from tests.store.people import IDA, add, kinds
from tests.store.sending import segment
from tests.store.web import words

LONDON = zoneinfo.ZoneInfo("Europe/London")


def town(name):
    return {"id": "a", "kind": "field", "field": "town", "op": "is", "value": [name]}


def says(key, then="Walk", other="Drive"):
    return f"<p>{{% if when.{key} %}}{then}{{% else %}}{other}{{% endif %}} up.</p>"


@pytest.fixture
def crowd(database):
    """Five people: two of Farrow of whom one bought a ticket, two of Tarnside, one of nowhere."""
    with clock.at(NOW), database.session() as session:
        kind = kinds(session)["ticket_bought"]
        people.add_field(session, IDA, NOW, "contact", "tier", "text", [])
        who = {
            name: add(session, NOW, f"{name}@post.example", first_name=name.title(), town=place).id
            for name, place in (
                ("ann", "Farrow"),
                ("ben", "Farrow"),
                ("cleo", "Tarnside"),
                ("dov", "Tarnside"),
                ("edda", None),
            )
        }
        session.execute(
            sa.text("INSERT INTO events (contact_id, at, kind_id) VALUES (:id, :now, :kind)"),
            {"id": who["ann"], "now": NOW, "kind": kind},
        )
    return who


def written(session, html, name="A mail", **more):
    line = new_line("text", html=html) | {"id": "t1"}
    return messages.create(
        session,
        IDA,
        NOW,
        name,
        messages.take(
            empty() | {"subject": "Up", "lines": [line, new_line("footer")], **more},
            dictionary(session),
        ),
    )


class TestByThePage:
    def test_said_saved_counted_and_read(self, web, database, crowd):
        lines = [
            town("Farrow"),
            {
                "id": "b",
                "kind": "event",
                "event": "ticket_bought",
                "did": False,
                "span": {"last": 30},
            },
        ]
        answer = web.post("/messages/conditions", json={"lines": lines}).json
        assert answer["said"].count("Farrow") == 1 and "buy a ticket" in answer["said"]
        assert web.post("/messages/conditions", json={"lines": lines}).json["key"] == answer["key"]
        assert web.get(f"/messages/conditions/{answer['key']}").json["lines"] == lines
        with clock.at(NOW), database.session() as session:
            ident = written(session, "<p>x</p>").id
        with database.session() as session:
            document = session.get_one(Message, ident).document
        document["lines"][0]["html"] = says(answer["key"])
        saved = web.post(
            f"/messages/{ident}/save", json={"document": document, "version": 1, "redraw": True}
        ).json
        assert "1 “Walk”" in words(saved["margin"]) and "4 everyone else" in words(saved["margin"])
        assert (
            "Walk (those " in saved["lines"] and f'data-if="when.{answer["key"]}"' in saved["lines"]
        )
        read = {
            name: web.get(f"/messages/{ident}/read?as={number}").json["text"]
            for name, number in crowd.items()
        }
        assert {name for name, text in read.items() if "Walk up." in text} == {"ben"}
        assert all("Drive up." in text for name, text in read.items() if name != "ben")
        checks = web.get(f"/messages/{ident}/checks").text
        assert "Line 1: “Walk”" in checks and "1 person; read as one of them" in checks

    @pytest.mark.parametrize(
        "lines",
        [
            [],
            "x",
            [{"id": "a", "kind": "field", "field": "shoe", "op": "is", "value": ["9"]}],
            [{"kind": "what"}],
            None,
        ],
    )
    def test_what_says_nothing_is_refused(self, web, lines):
        answer = web.post("/messages/conditions", json={"lines": lines})
        assert answer.status_code == 422 and "these words" in answer.json["error"]

    def test_what_nobody_said_is_refused_with_its_place(self, web, database, crowd):
        assert web.get("/messages/conditions/s0").status_code == 404
        with clock.at(NOW), database.session() as session:
            ident = written(session, "<p>x</p>").id
            document = session.get_one(Message, ident).document
        document["lines"][0]["html"] = says("s123456789abc")
        answer = web.post(f"/messages/{ident}/save", json={"document": document, "version": 1})
        assert (answer.status_code, answer.json["where"]) == (
            422,
            "t1:html",
        ) and "only for some" in answer.json["error"]

    def test_texts_and_notifications_have_them_too(self, web, database, crowd):
        key = web.post("/messages/conditions", json={"lines": [town("Tarnside")]}).json["key"]
        bare = says(key).replace("<p>", "").replace("</p>", "")
        for channel, page, data in (
            ("sms", "text", {"plain": bare}),
            ("push", "notification", {"subject": "Up", "plain": bare}),
        ):
            place = web.post(
                "/messages/new", data={"name": f"By {channel}", "channel": channel}
            ).headers["Location"]
            changes = [
                {"do": "set", "line": "", "slot": slot, "value": value}
                for slot, value in data.items()
            ]
            answer = web.post(
                f"{place}/{page}", json={"changes": changes, "version": 1, "redraw": True}
            ).json
            assert "2 “Walk”" in words(
                answer["margin"]
            ) and "those whose town is Tarnside" in words(answer["lines"])
            read = [
                web.get(f"{place}/{page}/read?as={crowd[name]}").json for name in ("cleo", "ann")
            ]
            assert [r.get("text", r.get("body")) for r in read] == ["Walk up.", "Drive up."]


class TestWhereUsed:
    def test_a_condition_in_words_is_a_use(self, database, crowd):
        with clock.at(NOW), database.session() as session:
            words = dictionary(session)
            chosen = segment(session)
            held = PeopleList(name="Guests", source="by hand", taken_at=NOW)
            session.add(held)
            parted = groupings.create(session, IDA, NOW, "Where")
            session.flush()
            groupings.change(
                session,
                IDA,
                NOW,
                words,
                parted,
                {"do": "set", "name": "Near", "lines": [town("Farrow")]},
            )
            words = dictionary(session)
            part = words.grouping(parted.id)[0]["key"]
            key = asking.keep(
                session,
                [
                    {"id": "a", "kind": "field", "field": "tier", "op": "is", "value": ["Patron"]},
                    {"id": "b", "kind": "segment", "segment": chosen.id},
                    {"id": "c", "kind": "list", "list": held.id},
                    {"id": "d", "kind": "grouping", "grouping": parted.id, "group": part},
                ],
                words,
            ).key
            written(session, says(key), "Asking")
            shared_parts.keep_part(
                session, IDA, NOW, "A row", [new_line("text", html=says(key))], words
            )
            both = ["the shared part “A row”", "the message “Asking”"]
            tier = session.scalars(sa.select(Field).where(Field.key == "tier")).one()
            assert fields.uses(session, tier) == sorted(both)
            assert users(session, chosen.id) == both
            assert uses_of_list(session, held.id) == both
            assert groupings.uses(session, parted.id) == both
            with pytest.raises(Conflict, match="Asking"):
                groupings.delete(session, IDA, NOW, parted)
            other = people.add_field(session, IDA, NOW, "contact", "level", "text", [])
            session.flush()
            with pytest.raises(Conflict, match="uses it"):
                fields.merge(session, IDA, tier, other)

    def test_so_is_one_of_a_whole_line(self, database, crowd):
        """And a field that a text fills in."""
        with clock.at(NOW), database.session() as session:
            only = new_line(
                "only",
                cases=[
                    {
                        "id": "c1",
                        "name": "",
                        "group": "",
                        "content": [],
                        "lines": [
                            {
                                "id": "a",
                                "kind": "field",
                                "field": "tier",
                                "op": "is",
                                "value": ["Patron"],
                            }
                        ],
                    }
                ],
            )
            written(session, "<p>x</p>", "By line", lines=[only])
            written(session, "<p>{{ contact.tier }}</p>", "By name")
            tier = session.scalars(sa.select(Field).where(Field.key == "tier")).one()
            assert fields.uses(session, tier) == ["the message “By line”", "the message “By name”"]


def test_what_cannot_be_worked_out_any_more_is_said_and_nobody_reads_it(database, crowd):
    with clock.at(NOW), database.session() as session:
        words = dictionary(session)
        held = PeopleList(name="Guests", source="by hand", taken_at=NOW)
        session.add(held)
        session.flush()
        words = dictionary(session)
        key = asking.keep(session, [{"id": "a", "kind": "list", "list": held.id}], words).key
        message = written(session, says(key))
        assert queries.broken(session, message.document, words) == {}
        # A list that is used cannot be deleted; this one is gone all the same, as after a restored
        # backup.
        session.delete(held)
        session.flush()
        words = dictionary(session)
        assert list(queries.broken(session, message.document, words)) == [key]
        person = session.get_one(Contact, crowd["ann"])
        mail, _ = reading.read_as(
            Moment(session, words, NOW, LONDON),
            message,
            message.document,
            person,
            "https://app.example",
        )
        assert "Drive up." in mail.text


def test_fields_and_sentences_in_one_question(database, crowd):
    """As an author of code may write it."""
    with clock.at(NOW), database.session() as session:
        words = dictionary(session)
        key = asking.keep(
            session,
            [{"id": "b", "kind": "event", "event": "ticket_bought", "span": {"last": 30}}],
            words,
        ).key
        html = (
            f'<p>{{% if when.{key} and contact.town == "Farrow" %}}A{{% elif contact.town == '
            f'"Farrow" or when.{key} %}}B{{% endif %}}</p>'
        )
        message = written(session, html)
        (found,) = reading.who_reads_words(Moment(session, words, NOW, LONDON), message.document)
        assert [(v.name, v.count, v.someone) for v in found.versions] == [
            ("“A”", 1, crowd["ann"]),
            ("“B”", 1, crowd["ben"]),
        ]
        assert (found.others.count, found.nothing) == (3, True)


def test_kept_once_and_never_changed(database, crowd):
    with clock.at(NOW), database.session() as session:
        words = dictionary(session)
        first, again = (
            asking.keep(session, [town("Farrow") | {"id": i}], words) for i in ("a", "b")
        )
        assert (
            first is again
            and session.scalar(sa.select(sa.func.count()).select_from(Condition)) == 1
        )
        with pytest.raises(Invalid, match="who reads these words"):
            asking.keep(session, [], words)


def test_turned_into_code_it_still_asks_what_its_lines_asked(web, database, crowd):
    with clock.at(NOW), database.session() as session:
        only = new_line(
            "only",
            otherwise=[new_line("text", html="<p>DRIVE</p>")],
            cases=[
                {
                    "id": "c1",
                    "name": "Near",
                    "group": "",
                    "lines": [town("Farrow")],
                    "content": [new_line("text", html="<p>WALK</p>")],
                }
            ],
        )
        ident = written(
            session, "<p>x</p>", "To code", lines=[only, new_line("footer", html="<p>Us</p>")]
        ).id
    said = web.post(f"/messages/{ident}/code", data={}, follow_redirects=True).text
    assert "It is code now" in said
    with clock.at(NOW), database.session() as session:
        message = session.get_one(Message, ident)
        (key,) = session.scalars(sa.select(Condition.key))
        assert (
            f"{{% if when.{key} %}}" in message.document["code"] and message.document["lines"] == []
        )
        for name, wanted in (("ann", "WALK"), ("cleo", "DRIVE")):
            mail, _ = reading.read_as(
                Moment(session, dictionary(session), NOW, LONDON),
                message,
                message.document,
                session.get_one(Contact, crowd[name]),
                "https://app.example",
            )
            assert (
                wanted in mail.html and {"WALK": "DRIVE", "DRIVE": "WALK"}[wanted] not in mail.html
            )
    # Taken along as MJML its sentences come back, too.
    web.post(f"/messages/{ident}/restore/1")
    source = web.get(f"/messages/{ident}/message.mjml").text
    place = web.post("/messages/new", data={"name": "Back", "code": source}).headers["Location"]
    assert "whose town is Farrow" in web.get(place).text and "Not taken" not in web.get(place).text


def test_a_version_nobody_reads_is_no_code(web, database, crowd):
    with clock.at(NOW), database.session() as session:
        only = new_line(
            "only", cases=[{"id": "c1", "name": "Near", "group": "", "lines": [], "content": []}]
        )
        ident = written(session, "<p>x</p>", "To code", lines=[only]).id
    answer = web.post(f"/messages/{ident}/code", data={}, headers={"Accept": "application/json"})
    assert answer.status_code == 422 and "has nobody yet" in answer.json["error"]
