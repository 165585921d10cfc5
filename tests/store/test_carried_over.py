"""What was sent before dispatches were told apart from sends stays what it was."""

import base64
import datetime as dt
import struct

import pytest
import sqlalchemy as sa

from meadowrun.base import signing
from meadowrun.outgoing.queries import numbered, tally
from meadowrun.people import duplicates
from meadowrun.sends.models import Send
from tests.store.carried import carried_from
from tests.store.people import IDA

TAKEN = dt.datetime.now(dt.UTC).replace(microsecond=0) - dt.timedelta(days=3)
SECRET = "s" * 40
#: Two sends as they were kept before: the fifth is done, and one person of it in doubt; the seventh
#: still runs.
BEFORE = """
INSERT INTO contacts (id, email, email_key, email_usable, attributes, search_key, name_key,
created_at, updated_at)
    SELECT n, 'p' || n || '@post.example', 'p' || n || '@post.example', true, '{}', '', '', :at,
    :at FROM generate_series(1, 3) n;
SELECT setval(pg_get_serial_sequence('contacts', 'id'), 3);
INSERT INTO campaigns (id, name, kind, created_at, changed_at)
VALUES (1, 'Stars', 'Other', :at, :at);
INSERT INTO messages (id, name, channel, draft, document, created_at, changed_at, changed_by)
VALUES (1, 'News', 'card', 1, '{}', :at, :at, '');
INSERT INTO editions (id, message_id, number, document, compiled, at, by)
VALUES (1, 1, 1, '{}', '{}', :at, '');
INSERT INTO sends (id, campaign_id, name, state, audience, message_id, edition_id, zone,
created_at, changed_at, facts)
    VALUES (5, 1, 'Fifth', 'running', '{}', 1, 1, 'UTC', :at, :at, '{"venue": "dome"}'),
    (7, 1, 'Seventh', 'running', '{}', 1, 1, 'UTC', :at, :at, '{}');
INSERT INTO sends (id, campaign_id, name, state, audience, zone, created_at, changed_at)
VALUES (8, 1, 'Draft', 'draft', '{}', 'UTC', :at, :at);
INSERT INTO deliveries (contact_id, send_id, taken_at, chunk, outcome, at, not_before,
filled) VALUES
    (1, 5, :at, 0, 'delivered', :at, NULL, '{"contact.first_name": "Ann"}'), (2, 5, :at, 0,
    'in_doubt', :at, NULL, NULL),
    (1, 7, :at, 0, 'waiting', NULL, NULL, NULL), (2, 7, :at, 0, 'deferred', NULL, :later, NULL),
    (3, 7, :at, 0, 'delivered', :at, NULL, NULL);
UPDATE sends SET taken_at = :at, audience_size = CASE id WHEN 5 THEN 2
ELSE 3 END, sealed = TRUE, open = TRUE WHERE id IN (5, 7);
UPDATE sends SET state = 'done' WHERE id = 5;
INSERT INTO reactions (contact_id, at, send_id, kind, link, machine, note)
VALUES (1, :at, 5, 'clicked', 0, FALSE, '');
INSERT INTO short_codes (code, send_id, contact_id, at) VALUES ('abcdefgh', 5, 1, :at);
INSERT INTO card_places (contact_id, send_id, laid_at, times) VALUES (1, 5, :at, 2);
"""
#: Contact 4 was merged into contact 1: what moved, as a merge remembered it.
MERGED = """
INSERT INTO merges (kept_id, gone_id, at, by, undo) VALUES (1, 4, now(), 'Ida', jsonb_build_object(
    'kept', (SELECT to_jsonb(c) FROM contacts c WHERE id = 1),
    'gone', (SELECT to_jsonb(c) || jsonb_build_object(
        'id', 4, 'email', 'four@post.example', 'email_key', 'four@post.example')
        FROM contacts c WHERE id = 1),
    'moved', jsonb_build_object(
        'deliveries', (SELECT jsonb_agg(to_jsonb(d)) FROM deliveries d WHERE send_id = 5
        AND contact_id = 1),
        'reactions', (SELECT jsonb_agg(to_jsonb(r))
        FROM reactions r), 'short_codes', (SELECT jsonb_agg(to_jsonb(k)) FROM short_codes k),
        'card_places', '[]'::jsonb),
    'left', '[]'::jsonb, 'left_tags', '[]'::jsonb,
    'left_cards', (SELECT jsonb_agg(to_jsonb(p) || '{"contact_id": 4}') FROM card_places p),
    'consents', '{"kept": [], "gone": []}'::jsonb))
"""


@pytest.fixture
def carried(cluster_url):
    """A database that held two sends before and was brought to today's state."""
    statements = (*BEFORE.strip().split(";\n"), MERGED)
    later = TAKEN + dt.timedelta(days=9)
    with carried_from(cluster_url, "0032", statements, {"at": TAKEN, "later": later}) as database:
        yield database


def test_what_left_keeps_its_tally_and_its_state(carried):
    with carried.session() as session:
        done, runs, draft = (session.get_one(Send, ident) for ident in (5, 7, 8))
        assert tally(session, done.dispatch_id) == {"in_doubt": 1, "delivered": 1} and (
            done.state,
            done.audience_size,
        ) == ("done", 2)
        assert tally(session, runs.dispatch_id) == {"waiting": 1, "deferred": 1, "delivered": 1}
        assert (runs.state, runs.audience_size) == ("running", 3)
        assert (done.dispatch.channel, done.dispatch.facts, done.dispatch.unsettled) == (
            "in_app",
            {"venue": "dome"},
            True,
        )
        assert draft.dispatch_id is None
        due = session.execute(
            sa.text("SELECT contact_id, due FROM deliveries WHERE dispatch_id = 7 ORDER BY 1")
        ).all()
        assert due == [(1, TAKEN), (2, TAKEN + dt.timedelta(days=9)), (3, None)]


def test_new_numbers_lie_beyond_the_old(carried):
    with carried.session() as session:
        assert session.execute(
            sa.text("SELECT nextval('delivery_numbers') > max(number) FROM deliveries")
        ).scalar()
        made = session.execute(
            sa.text(
                "INSERT INTO dispatches (owner_kind, owner_id, name, channel, message_id, "
                "edition_id, consent_rule, taken_at, state) "
                "VALUES ('send', 9, '', 'card', 1, 1, 'agreed', now(), 'running') RETURNING id"
            )
        ).scalar_one()
        assert made > 7


@pytest.mark.parametrize("purpose", signing.PURPOSES)
def test_a_link_that_left_before_leads_to_the_delivery_of_its_send(carried, purpose):
    body = struct.pack(">IQ", 5, 1)
    place = signing.PURPOSES.index(purpose) * 8
    token = (
        base64.urlsafe_b64encode(body + signing._macs(SECRET, body)[place : place + 8])
        .rstrip(b"=")
        .decode()
    )
    found = signing.read(SECRET, purpose, token)
    assert found is not None and found[1] == 1
    with carried.session() as session:
        sent = numbered(session, *found)
        assert (sent.dispatch_id, sent.filled) == (5, {"contact.first_name": "Ann"})
        for table in ("reactions", "short_codes", "in_app_places"):
            assert (
                session.execute(
                    sa.text(f"SELECT delivery FROM {table} WHERE contact_id = 1")
                ).scalar_one()
                == sent.number
            )


def test_a_merge_of_before_is_still_undone(carried):
    with carried.session() as session:
        duplicates.undo(
            session,
            IDA,
            dt.datetime.now(dt.UTC),
            session.execute(sa.text("SELECT id FROM merges")).scalar_one(),
        )
    with carried.session() as session:
        for table in ("deliveries", "reactions", "short_codes", "in_app_places"):
            assert (
                session.execute(
                    sa.text(f"SELECT count(*) FROM {table} WHERE contact_id = 4")
                ).scalar_one()
                == 1
            ), table
