"""What was stored under older names is found under those of today."""

import datetime as dt
import json
import zoneinfo

import pytest
import sqlalchemy as sa

from meadowrun.core.audience import definition as d
from meadowrun.core.content.document import empty
from meadowrun.core.content.lines import new_line
from meadowrun.messages import queries as messages
from meadowrun.messages import reading
from meadowrun.messages.models import Message
from meadowrun.outgoing.queries import tally
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.segments import groupings, queries
from meadowrun.sends.models import Send
from tests.store.carried import carried_from

AT = dt.datetime.now(dt.UTC).replace(microsecond=0)
LONDON = zoneinfo.ZoneInfo("Europe/London")
TOWN = {"id": "a", "kind": "field", "field": "town", "op": "is", "value": ["Farrow"]}
#: Whoever writes such words keeps them, whatever they were names of.
SAID = 'A "row": of "part": seats, "kind": "part"'


def text(words, ident="t"):
    return new_line("text", id=ident, html=f"<p>{words}</p>")


ONLY = {
    "id": "o",
    "type": "only",
    "off": False,
    "partition": 1,
    "cases": [
        {"id": "c", "name": "", "part": "f", "lines": [], "content": [text("In Farrow", "i")]}
    ],
    "otherwise": [text("Elsewhere", "e")],
}
LETTER = empty() | {
    "subject": SAID,
    "preheader": "",
    "lines": [
        text('{% if part.p1 == "f" %}Near{% else %}Far{% endif %}'),
        ONLY,
        {"id": "k", "type": "kept", "off": False, "row": 1, "version": 1},
    ],
}
CARD = {
    **LETTER,
    "channel": "card",
    "lines": [text("Come")],
    "card": {"shape": "box", "buttons": []},
}
SEGMENT = {
    "format": 1,
    "lines": [
        {"id": "p", "kind": "part", "partition": 1, "part": "f", "inside": True},
        {"id": "r", "kind": "reach", "channel": "card", "can": True},
    ],
}
VALUES = {
    "at": AT,
    "parts": json.dumps([{"key": "f", "name": "Farrow", "lines": [TOWN]}]),
    "letter": json.dumps(LETTER),
    "card": json.dumps(CARD),
    "segment": json.dumps(SEGMENT),
    "kept": json.dumps([text("Up the quarry path", "q")]),
}
BEFORE = """
INSERT INTO contacts (email, email_key, email_usable, town, attributes, search_key, name_key,
created_at, updated_at) SELECT 'p' || n || '@post.example', 'p' || n || '@post.example', true,
    CASE n WHEN 1 THEN 'Farrow' END, '{}', '', '', :at, :at FROM generate_series(1, 3) n;
INSERT INTO partitions (name, version, parts, created_at, changed_at, changed_by)
VALUES ('Regions', 1, CAST(:parts AS jsonb), :at, :at, '');
INSERT INTO segments (name, definition, version, created_at, changed_at, changed_by)
VALUES ('Near', CAST(:segment AS jsonb), 1, :at, :at, '');
INSERT INTO kept_rows (name, version, lines, changed_at, changed_by)
VALUES ('The way', 1, CAST(:kept AS jsonb), :at, '');
INSERT INTO kept_row_versions (row_id, number, lines, changes, at, by)
VALUES (1, 1, CAST(:kept AS jsonb), '', :at, '');
INSERT INTO messages (name, channel, draft, document, created_at, changed_at, changed_by)
VALUES ('Letter', 'email', 1, CAST(:letter AS jsonb), :at, :at, ''),
    ('Card', 'card', 1, CAST(:card AS jsonb), :at, :at, '');
INSERT INTO consents (contact_id, channel, topic_id, agreed, at, how)
VALUES (1, 'card', 0, false, :at, 'test');
INSERT INTO campaigns (name, kind, created_at, changed_at) VALUES ('Stars', 'Other', :at, :at);
INSERT INTO editions (message_id, number, document, compiled, at, by)
VALUES (1, 1, CAST(:letter AS jsonb), '{}', :at, '');
INSERT INTO sends (campaign_id, name, state, audience, message_id, zone, created_at, changed_at,
ceiling, ceiling_rule, held)
VALUES (1, 'Stars', 'done', '{}', 1, 'UTC', :at, :at, 5, 'stop', '{"percent": 12.5}');
INSERT INTO dispatches (id, owner_kind, owner_id, name, channel, message_id, edition_id,
consent_rule, taken_at, state, size)
VALUES (7, 'send', 1, 'Stars', 'email', 1, 1, 'agreed', :at, 'running', 3);
INSERT INTO deliveries (contact_id, dispatch_id, taken_at, due, outcome, filled, held)
VALUES (1, 7, :at, :at, 'delivered', '{"part.p1": "f"}', false),
    (2, 7, :at, :at, 'held_back', NULL, true), (3, 7, :at, :at, 'over_ceiling', NULL, false);
UPDATE sends SET dispatch_id = 7, taken_at = :at;
INSERT INTO send_numbers (send_id, counted_at, numbers)
VALUES (1, :at, '{"held_back": 1, "held_converted": 0}');
INSERT INTO audit (at, who, did, object_kind, object_id, object_name, detail, request_id)
VALUES (:at, 'Ida', 'took along', 'partition', 1, 'Regions', '{}', '')
"""


@pytest.fixture
def carried(cluster_url):
    with carried_from(cluster_url, "0033", BEFORE.strip().split(";\n"), VALUES) as database:
        yield database


def test_groupings_and_the_conditions_on_them(carried):
    with carried.session() as session:
        words = dictionary(session)
        definition = d.parse(queries.segment(session, 1).definition, words)
        assert [node.kind for node in definition.lines] == ["grouping", "reach"]
        # The first of the three is in Farrow, and said no to messages on the website.
        assert queries.count(Moment(session, words, AT, LONDON), definition) == 0
        (only,) = d.parse({"lines": [d.dump_node(definition.lines[0])]}, words).lines
        assert queries.count(Moment(session, words, AT, LONDON), d.Definition((only,))) == 1
        assert groupings.uses(session, 1) == ["the segment “Near”", "the message “Letter”"]


@pytest.mark.parametrize(("person", "says"), [(1, "Near In Farrow"), (2, "Far Elsewhere")])
def test_messages_read_as_before(carried, person, says):
    with carried.session() as session:
        message = session.get_one(Message, 1)
        one = session.get_one(reading.Contact, person)
        mail, _ = reading.read_as(
            Moment(session, dictionary(session), AT, LONDON),
            message,
            message.document,
            one,
            "http://m",
        )
        assert " ".join(mail.text.split()).startswith(f"{says} Up the quarry path")
        assert mail.subject == SAID, "what somebody wrote is nobody's name"
        assert [m.name for m, _ in messages.users_of_part(session, 1)] == ["Letter"]
        card = session.get_one(Message, 2)
        assert (card.channel, card.document["channel"]) == ("in_app", "in_app")
        assert card.document["in_app"]["shape"] == "box"


def test_what_was_sent_and_counted(carried):
    with carried.session() as session:
        send = session.get_one(Send, 1)
        assert (send.audience_limit, send.limit_rule, send.control) == (
            5,
            "stop",
            {"percent": 12.5},
        )
        assert tally(session, 7) == {"delivered": 1, "control": 1, "over_limit": 1}
        rows = session.execute(
            sa.text("SELECT filled, control FROM deliveries ORDER BY contact_id")
        ).all()
        assert rows == [({"group.g1": "f"}, False), (None, True), (None, False)]
        assert session.scalar(sa.text("SELECT numbers FROM send_numbers")) == {
            "control": 1,
            "control_converted": 0,
        }
        assert session.execute(sa.text("SELECT did, object_kind FROM audit")).all() == [
            ("downloaded", "grouping")
        ]
