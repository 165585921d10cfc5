"""Journeys that had one start, by the database of before: they start as they did."""

import json

import pytest
import sqlalchemy as sa

from meadowrun.core.journeys.reading import from_json
from tests.store.carried import carried_from

BEFORE = """
INSERT INTO campaigns (name, kind, facts, tags, created_at, changed_at)
    VALUES ('Spring', 'other', '{}', '{}', now(), now());
INSERT INTO journeys (campaign_id, name, state, edition, draft, version, created_at, changed_at,
    started_at) SELECT id, 'First weeks', 'running', 1, 1, 1, now(), now(), now() FROM campaigns;
INSERT INTO journey_drafts (journey_id, number, itinerary, did, by, at)
    SELECT id, 1, CAST(:nothing AS jsonb), 'began', 'Ida', now() FROM journeys;
INSERT INTO journey_editions (journey_id, number, itinerary, by, at)
    SELECT id, 1, CAST(:bought AS jsonb), 'Ida', now() FROM journeys;
INSERT INTO journey_entries (journey_id, contact_id, began_at, step, arrived_at, phase)
    SELECT id, contact, now(), 's1', now(), 'waiting' FROM journeys, generate_series(1, 2) contact;
INSERT INTO journey_moves (entry_id, at, from_step, to_step, because)
    SELECT id, now(), '', 's1', CASE contact_id WHEN 1 THEN 'start' ELSE 'by_hand' END
    FROM journey_entries;
INSERT INTO journey_watches (journey_id, stamp, members, looked_at, seconds)
    SELECT id, 'abc', 'set', now(), 0.5 FROM journeys;
INSERT INTO journey_days (journey_id, zone, day) SELECT id, 'Asia/Tokyo', '2026-03-01' FROM journeys
"""
REST = {"steps": [], "goal": None, "exits": [], "again": "any", "again_days": 30, "ids": 4}
BOUGHT = {
    "how": "event",
    "event": "bought",
    "who": {"segment": 3, "lines": []},
    "date": "",
    "before": 0,
    "at": 540,
    "yearly": False,
    "subject": "night",
}
VALUES = {
    "nothing": json.dumps({"start": {"how": "", "event": "", "subject": ""}} | REST),
    "bought": json.dumps({"start": BOUGHT} | REST),
}


@pytest.fixture(scope="module")
def carried(cluster_url):
    with carried_from(cluster_url, "0062", BEFORE.strip().split(";\n"), VALUES) as database:
        yield database


def one(database, statement):
    with database.session() as session:
        return session.execute(sa.text(statement)).all()


def test_the_start_is_the_only_one_of_several(carried):
    [(walked,)] = one(carried, "SELECT itinerary FROM journey_editions")
    found = from_json(walked)
    assert (found.subject, found.again, found.ids) == ("night", "any", 4)
    [start] = found.starts
    assert (start.id, start.how, start.event, start.who.segment) == ("start", "event", "bought", 3)
    [(draft,)] = one(carried, "SELECT itinerary FROM journey_drafts")
    assert from_json(draft).starts == () and "start" not in draft


def test_whom_it_brought_in_and_what_it_saw_is_kept_by_start(carried):
    assert one(carried, "SELECT contact_id, start FROM journey_entries ORDER BY 1") == [
        (1, "start"),
        (2, ""),
    ]
    seen = one(carried, "SELECT start, stamp, convert_from(members, 'UTF8') FROM journey_seen")
    assert seen == [("start", "abc", "set")]
    assert one(carried, "SELECT start, zone, day::text FROM journey_days") == [
        ("start", "Asia/Tokyo", "2026-03-01")
    ]
    assert one(carried, "SELECT seconds, problem FROM journey_watches") == [(0.5, "")]
