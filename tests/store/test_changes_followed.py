"""Who becomes one of certain people is found from what changed, and is who would be found by asking
about everybody, whatever changed and however late it is."""

import collections
import dataclasses
import datetime as dt

import pytest
import sqlalchemy as sa
from hypothesis import given
from hypothesis import strategies as st
from pyroaring import BitMap
from sqlalchemy import orm

from meadowrun.base.cache import forget
from meadowrun.core.journeys.steps import Span, Start, WaitStep, Who
from meadowrun.journeys import turned
from meadowrun.journeys.membership import everybody
from meadowrun.journeys.models import JourneySeen, JourneyWatch
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.segments import changes
from tests.conftest import NOW, own_database
from tests.luck import tries
from tests.store.conditions import nodes, numbered
from tests.store.journeys import advance
from tests.store.small_world import ZONE, build
from tests.store.starting import running

HOUR = dt.timedelta(hours=1)
#: What may change: a name, and the statement. :c is one of the contacts, :o another, :now the time.
CHANGES = {
    "town": "UPDATE contacts SET town = 'Farrow' WHERE id = :c",
    "clock": "UPDATE contacts SET timezone = 'Pacific/Auckland' WHERE id = :c",
    "bounced": "UPDATE contacts SET bounced_at = :now WHERE id = :c",
    "paused": "UPDATE contacts SET paused_until = CAST(:now AS timestamptz) + interval '9 days' "
    "WHERE id = :c",
    "renewal": "UPDATE contacts SET attributes = attributes || jsonb_build_object('renewal', "
    "to_char(CAST(:now AS timestamptz) + interval '1 day', 'YYYY-MM-DD')) WHERE id = :c",
    "moved": "UPDATE contacts SET company_id = (SELECT company_id FROM contacts WHERE id = :o) "
    "WHERE id = :c",
    "gone": "DELETE FROM contacts WHERE id = :c",
    "new": "INSERT INTO contacts (search_key, name_key, created_at, updated_at, town) "
    "VALUES ('', '', :now, :now, 'Farrow')",
    "company": 'UPDATE companies SET attributes = \'{"kind": "School"}\' '
    "WHERE id = (SELECT company_id FROM contacts WHERE id = :c)",
    "visited": "INSERT INTO events (contact_id, at, kind_id, details) "
    "SELECT :c, :now, id, '{}' FROM event_kinds WHERE key = 'visited'",
    "bought": "INSERT INTO events (contact_id, at, kind_id, details) "
    "SELECT :c, CAST(:now AS timestamptz) - interval '1 hour', id, '{\"amount\": 24}' "
    "FROM event_kinds WHERE key = 'ticket_bought'",
    "ahead": "INSERT INTO events (contact_id, at, kind_id, details) "
    "SELECT :c, CAST(:now AS timestamptz) + x * interval '5 hours', id, '{\"amount\": 8}' "
    "FROM event_kinds, generate_series(1, 3) x WHERE key = 'ticket_bought'",
    "not bought": "DELETE FROM events WHERE contact_id = :c",
    "events moved": "UPDATE events SET contact_id = :o WHERE contact_id = :c",
    "kinds merged": "UPDATE events e SET kind_id = k.id FROM event_kinds k "
    "WHERE k.key = 'visited' AND e.contact_id = :c",
    "opened": "INSERT INTO reactions (contact_id, at, dispatch_id, delivery, kind, machine, "
    "note) "
    "SELECT contact_id, :now, dispatch_id, number, 'opened', false, '' FROM deliveries "
    "WHERE contact_id = :c",
    "clicked": "INSERT INTO reactions (contact_id, at, dispatch_id, delivery, kind, machine, link, "
    "note) "
    "SELECT contact_id, :now, dispatch_id, number, 'clicked', false, 1, '' FROM deliveries "
    "WHERE contact_id = :c",
    "reactions gone": "DELETE FROM reactions WHERE contact_id = :c",
    "bounced late": "UPDATE deliveries SET outcome = 'bounced' WHERE contact_id = :c "
    "AND outcome = 'delivered'",
    "tagged message": "UPDATE messages SET tags = (SELECT array_agg(id) FROM tags)",
    "tagged campaign": "UPDATE campaigns SET tags = '{}'",
    "agreed": "UPDATE consents SET agreed = NOT agreed WHERE contact_id = :c",
    "forgot": "DELETE FROM consents WHERE contact_id = :c",
    "asked": "INSERT INTO consents (contact_id, channel, topic_id, agreed, at, how) "
    "VALUES (:c, 'email', 1, true, :now, 'test') ON CONFLICT DO NOTHING",
    "listed": "INSERT INTO list_members (list_id, contact_id) SELECT id, :c FROM lists "
    "ON CONFLICT DO NOTHING",
    "off the list": "DELETE FROM list_members WHERE contact_id = :c",
    "listed for another": "UPDATE list_members m SET contact_id = :o WHERE contact_id = :c "
    "AND NOT EXISTS (SELECT 1 FROM list_members x WHERE x.list_id = m.list_id "
    "AND x.contact_id = :o)",
    "tagged": "INSERT INTO contact_tags (contact_id, tag_id) SELECT :c, id FROM tags "
    "ON CONFLICT DO NOTHING",
    "not tagged": "DELETE FROM contact_tags WHERE contact_id = :c",
    "points": "INSERT INTO contact_scores (contact_id, score_id, points) SELECT :c, id, 20 "
    "FROM scores ON CONFLICT (contact_id, score_id) DO UPDATE SET points = 0",
    "no points": "DELETE FROM contact_scores WHERE contact_id = :c",
    "suppressed": "INSERT INTO suppressions (address_key, reason, source, at) "
    "SELECT email_key, 'complained', 'test', :now FROM contacts WHERE id = :c "
    "AND email_key IS NOT NULL ON CONFLICT DO NOTHING",
    "domain": "INSERT INTO suppressions (address_key, reason, source, at) "
    "VALUES ('@post.example', 'by hand', 'test', :now) ON CONFLICT DO NOTHING",
    "number": "INSERT INTO suppressions (address_key, reason, source, at) "
    "SELECT regexp_replace(phone, '[^0-9+]', '', 'g'), 'stopped', 'test', :now "
    "FROM contacts WHERE id = :c AND phone IS NOT NULL ON CONFLICT DO NOTHING",
    "not suppressed": "DELETE FROM suppressions",
    "no device": "UPDATE push_devices SET gone_at = :now WHERE contact_id = :c",
    "segment": 'UPDATE segments SET definition = \'{"format": 1, "lines": [{"id": "a", '
    '"kind": "field", "field": "town", "op": "not_blank"}]}\', version = version + 1',
}
#: How much later it is looked at again.
LATER = [dt.timedelta(0), dt.timedelta(seconds=5), HOUR, 11 * HOUR, 24 * HOUR, 48 * HOUR]
#: How often an answer was found in which way, printed at the end.
FOUND = collections.Counter()


@pytest.fixture(scope="module")
def forty(cluster_url):
    """The small world, built once: each try is undone."""
    with own_database(cluster_url) as database:
        with database.session() as session:
            persons = build(session)
            session.execute(
                sa.text(
                    "INSERT INTO journeys (campaign_id, name, state, version, draft, created_at, "
                    "changed_at) SELECT min(id), 'A journey', 'running', 1, 0, :now, :now "
                    "FROM campaigns"
                ),
                {"now": NOW},
            )
        yield database, sorted(persons)
    print(f"\nanswers found: {dict(FOUND)}")


@dataclasses.dataclass
class Watcher:
    """Looks again and again who some people are."""

    session: orm.Session
    start: Start
    now: dt.datetime = NOW

    def __post_init__(self):
        self.journey = self.session.execute(sa.text("SELECT id FROM journeys")).scalar_one()
        self.watch = JourneyWatch(journey_id=self.journey, seconds=0.0, sources=[])

    def look(self, may_count):
        """Who turned; None where everybody would have to be asked about and must not be."""
        forget()
        taken = changes.take(self.session, self.now)
        look = turned.Look.of(self.moment(), taken)
        look.begin(self.watch)
        look.may_count = may_count
        came = turned.turned(look, self.journey, self.start)
        look.end(self.watch)
        self.session.flush()
        changes.watch(self.session, self.watch.sources)
        return None if self.seen().owed else came

    def moment(self):
        return Moment(self.session, dictionary(self.session), self.now, ZONE)

    def seen(self):
        return self.session.get_one(JourneySeen, (self.journey, self.start.id))

    def known(self):
        return BitMap.deserialize(self.seen().members)

    def true(self):
        return everybody(self.moment(), self.start.who)

    def relied_on(self):
        """Looks until what changes is relied on to be noted."""
        for _ in range(3):
            self.look(True)


@dataclasses.dataclass
class Undone:
    """A session of which nothing is left."""

    database: object

    def __enter__(self):
        self.connection = self.database.engine.connect()
        self.connection.begin()
        self.session = orm.Session(self.connection, join_transaction_mode="create_savepoint")
        return self.session

    def __exit__(self, *_):
        self.session.close()
        self.connection.rollback()
        self.connection.close()


def start_of(lines, how="turns"):
    return Start(id="s1", how=how, who=Who(0, tuple(numbered(lines)["lines"])))


def change(session, name, now, contact, other):
    statement = sa.text(CHANGES[name].replace(': "', r'\: "').replace(": [", r"\: ["))
    values = {"c": contact, "o": other, "now": now}
    wanted = {key: value for key, value in values.items() if f":{key}" in CHANGES[name]}
    session.execute(statement, wanted)
    session.expire_all()


@tries(60)
@given(
    st.lists(nodes, min_size=1, max_size=3),
    st.lists(
        st.tuples(
            st.lists(
                st.tuples(st.sampled_from(sorted(CHANGES)), st.integers(0, 39), st.integers(0, 39)),
                max_size=4,
            ),
            st.sampled_from(LATER),
        ),
        min_size=1,
        max_size=5,
    ),
)
def test_who_is_found_from_what_changed_is_who_would_be_found_by_asking_all(forty, lines, looks):
    database, people = forty
    with Undone(database) as session:
        watcher = Watcher(session, start_of(lines))
        watcher.relied_on()
        gone = set()
        for made, later in looks:
            for name, one, other in made:
                if one != other and gone.isdisjoint((one, other)):
                    gone |= {one} if name == "gone" else set()
                    change(session, name, watcher.now, people[one], people[other])
            watcher.now += later
            before = watcher.known()
            came = watcher.look(False)
            FOUND["by what changed" if came is not None else "by asking all"] += 1
            if came is None:
                came = watcher.look(True)
            true = watcher.true()
            assert watcher.known() == true
            assert came == true - before


#: A change, a condition that it turns for somebody, and whether it was true of them before.
TURNED = [
    ("town", {"kind": "field", "field": "town", "op": "is", "value": ["farrow"]}),
    ("visited", {"kind": "event", "event": "visited", "span": {"last": 1}}),
    ("bought", {"kind": "event", "event": "ticket_bought", "span": {"last": 30}}),
    ("opened", {"kind": "mail", "what": "opened", "did": True}),
    ("bounced late", {"kind": "mail", "what": "bounced", "did": True}),
    ("asked", {"kind": "consent", "topic": 1, "state": "agreed"}),
    ("listed", {"kind": "list", "list": 1}),
    ("tagged", {"kind": "tag", "tag": "night"}),
    ("points", {"kind": "score", "score": 1, "op": "at_least", "value": 20}),
    ("suppressed", {"kind": "reach", "channel": "email", "can": False}),
    ("no device", {"kind": "reach", "channel": "push", "can": False}),
    ("company", {"kind": "field", "field": "company.kind", "op": "is", "value": ["School"]}),
]


@pytest.mark.parametrize(("name", "line"), TURNED, ids=[name for name, _ in TURNED])
def test_nobody_else_is_asked_about(forty, name, line):
    """Of somebody for whom it was not true before; nobody is, without the change."""
    database, people = forty
    found = False
    for contact in people:
        with Undone(database) as session:
            watcher = Watcher(session, start_of([line]))
            watcher.relied_on()
            assert watcher.look(False) == BitMap()
            before = watcher.known()
            change(session, name, watcher.now, contact, contact)
            watcher.now += dt.timedelta(seconds=5)
            came = watcher.look(False)
            assert came is not None, "everybody would have to be asked about"
            assert came == watcher.true() - before
            found = found or contact in came
        if found:
            return
    raise AssertionError("it turned for nobody")


def test_what_many_have_at_once_is_asked_of_all(forty):
    """So many that nobody notes them: it may be anybody."""
    database, _ = forty
    with Undone(database) as session:
        watcher = Watcher(session, start_of([TURNED[1][1]]))
        watcher.relied_on()
        many = sa.text(
            "INSERT INTO events (contact_id, at, kind_id, details) SELECT n, :now, k.id, '{}' "
            "FROM event_kinds k, generate_series(1, 20001) n WHERE key = 'visited'"
        )
        before = watcher.known()
        session.execute(many, {"now": NOW})
        assert watcher.look(False) is None
        came = watcher.look(True)
        assert came == watcher.true() - before and len(came) > 10


def test_what_began_before_it_was_watched_is_not_relied_on(forty):
    """Whoever began earlier may change somebody without a note: until they have ended, everybody
    is asked about."""
    database, people = forty
    with database.session() as earlier:
        earlier.execute(sa.text("SELECT 1"))
        with database.session() as session:
            watcher = Watcher(session, start_of([TURNED[0][1]]))
            watcher.relied_on()
            assert watcher.look(False) is None
            session.rollback()
    with database.session() as session:
        watcher = Watcher(session, start_of([TURNED[0][1]]))
        watcher.relied_on()
        assert watcher.look(False) == BitMap()
        session.rollback()


def test_a_new_day_has_everybody_asked_about_only_where_it_matters(forty):
    database, _ = forty
    for line, daily in ((TURNED[0][1], False), (TURNED[1][1], True)):
        with Undone(database) as session:
            watcher = Watcher(session, start_of([line]))
            watcher.relied_on()
            watcher.now += 24 * HOUR
            assert (watcher.look(False) is None) == daily


COLLEAGUES = {"id": "g", "kind": "group", "match": "colleagues", "lines": []}
COUNTED = "SELECT count(*) FROM journey_watches WHERE counted_at > :since"


def test_all_journeys_have_their_turn_where_asking_takes_long(database, given, monkeypatch):
    """Of what cannot be followed only one journey is asked about in a look."""
    monkeypatch.setattr(turned, "_ENOUGH", 1e-9)
    start = Start("turns", who=Who(0, (COLLEAGUES,)), id="start")
    for name in ("One", "Two", "Three"):
        running(database, given, start, WaitStep("", Span(1, "day")), name=name)
    for look, many in enumerate((1, 2, 3), start=1):
        advance(database, NOW + look * dt.timedelta(seconds=40))
        with database.session() as session:
            assert session.execute(sa.text(COUNTED), {"since": NOW}).scalar_one() == many
