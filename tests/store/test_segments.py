"""Three evaluators, one answer: compiled SQL, sets per line, and plain Python as the judge."""

import datetime as dt
import json
import random
import zoneinfo

import pytest
import sqlalchemy as sa
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.base import clock
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.core.audience import definition as d
from meadowrun.core.guardrails.verdict import verdict
from meadowrun.people import actions as people
from meadowrun.people import keeping
from meadowrun.people.models import Topic
from meadowrun.people.queries import dictionary
from meadowrun.segments import actions, queries, why
from meadowrun.segments.fetching import id_sets
from meadowrun.segments.looking import look
from meadowrun.segments.models import Partition
from meadowrun.sends.models import Send
from meadowrun.tags import actions as tagging
from tests.conftest import NOW
from tests.luck import tries
from tests.store.people import IDA, add, kinds
from tests.store.work import delivered, dispatched, reacted

ZONE = zoneinfo.ZoneInfo("Europe/London")
TODAY = dt.date(2026, 11, 23)

#: What senders put where a number belongs.
ODD = ["forty", "", True, [], {}, "4,5", "٤٠", "NaN", "1e5", None, " 5"]


def build(session):
    """Forty people with blanks, leap days, odd capitals and far clocks; companies with several people, some without; mails.

    Returns them as the plain evaluator sees them, by number.
    """
    for label, kind, options in (("tier", "choice", ["Single", "Patron"]), ("renewal", "date", []), ("score", "number", []),
                                 ("member", "yes_no", []), ("met", "datetime", []), ("interests", "choices", ["sky", "sea", "rock"])):
        people.add_field(session, IDA, NOW, "contact", label, kind, options)
    people.add_field(session, IDA, NOW, "company", "kind", "choice", ["School", "Club"])
    people.add_field(session, IDA, NOW, "company", "agreement ends", "date", [])
    ids = kinds(session)
    session.add(Topic(key="diary", name="Sky diary", about=""))
    session.flush()
    dice = random.Random(7)
    days = ["2026-11-23", "2026-11-24", "2027-01-01", "2024-02-29", "1990-12-31", "2026-11-22", "2026-10-25"]
    zones = [None, "Europe/London", "Pacific/Auckland", "America/Los_Angeles", "Not/A_Zone"]
    sends = [send_of(session, n, tags) for n, tags in ((1, ["night"]), (2, ["night/dark", "free"]), (3, []))]
    borne = tagging.numbers(session, NOW, ["free", "free/family", "night", "nightly"])
    session.execute(sa.text("UPDATE messages SET tags = :tags WHERE id = 3"), {"tags": borne[1:2]})
    made = []
    for n in range(40):
        given = {"town": dice.choice(["Farrow", "Tarnside", "FARROW", "Fárrow ", None]), "first_name": dice.choice(["Zoë", "Ann_", "50%", None]),
                 "tier": dice.choice(["Single", "Patron", None]), "renewal": dice.choice([*days, None]),
                 "score": dice.choice([0, 1, 2.5, 100, None]), "member": dice.choice(["yes", "no", None]),
                 "met": dice.choice([None, *(f"{day} {hour}" for day in days[:4] for hour in ("00:00", "17:59", "18:00", "23:30"))]),
                 "interests": dice.choice(["sky", "sky;sea", "rock", None]), "company": dice.choice(["School One", "Club Two", None]),
                 "timezone": dice.choice(zones)}
        contact = add(session, NOW, dice.choice([f"p{n}@post.example", f"p{n}@post.example", None]),
                      dice.choice([True, True, False, None]), **{k: v for k, v in given.items() if k != "timezone"}, last_name=f"P{n}")
        contact.timezone = given["timezone"]
        if n % 8 == 3:
            contact.email = contact.email_key = "shared@post.example"
            contact.email_usable = True
        made.append(contact.id)
        if dice.random() < 0.3:
            people.set_consent(session, NOW, contact.id, 1, dice.random() < 0.5, "test")
        for channel in ("sms", "push", "card"):
            for topic in (0, 1):
                if dice.random() < 0.6:
                    people.set_consent(session, NOW, contact.id, topic, dice.random() < 0.7, "test", channel)
        contact.phone = dice.choice([f"+44 7700 9001{n:02}", f"+44 7700 9001{n:02}", "+44 7700 900555", "extension 12", None])
        if dice.random() < 0.5:
            session.execute(sa.text("INSERT INTO push_devices (contact_id, kind, endpoint, p256dh, auth, since, gone_at) VALUES "
                                    "(:c, 'ios', :e, '', '', :now, :gone)"),
                            {"c": contact.id, "e": f"token-{n:08}", "now": NOW, "gone": dice.choice([NOW, None, None])})
        for _ in range(dice.randrange(6)):
            # A clock elsewhere may run ahead of ours.
            at = NOW - dt.timedelta(days=dice.choice([0, 1, 2, 29, 30, 31, 90]), hours=dice.randrange(-20, 24))
            details = dice.choice([{"amount": 24}, {"amount": 8, "night": "Moon night"}, {}, {"amount": "24.00"}, {"amount": dice.choice(ODD)}])
            session.execute(sa.text("INSERT INTO events (contact_id, at, kind_id, details) VALUES (:c, :at, :k, CAST(:d AS jsonb))"),
                            {"c": contact.id, "at": at, "k": ids[dice.choice(list(ids))], "d": json.dumps(details)})
        for tag in borne:
            if dice.random() < 0.3:
                session.execute(sa.text("INSERT INTO contact_tags VALUES (:c, :t)"), {"c": contact.id, "t": tag})
        for send in sends:
            if dice.random() < 0.6:
                mailed(session, dice, contact.id, send)
    session.execute(sa.text("UPDATE companies SET attributes = CASE name WHEN 'School One' THEN CAST('{\"kind\": \"School\", "
                            "\"agreement_ends\": \"2026-11-23\"}' AS jsonb) ELSE CAST('{\"kind\": \"Club\"}' AS jsonb) END"))
    session.execute(sa.text("UPDATE contacts SET bounced_at = :now WHERE id % 9 = 0"), {"now": NOW})
    keeping.suppress(session, NOW, "shared@post.example", "asked by letter", "desk")
    keeping.suppress(session, NOW, "+447700900555", "asked by letter", "desk")
    for channel in ("sms", "push", "card"):
        session.execute(sa.text("INSERT INTO messages (name, channel, draft, document, created_at, changed_at, changed_by) VALUES "
                                "(:n, :n, 1, '{}', :now, :now, '')"), {"n": channel, "now": NOW})
    keeping.make_list(session, IDA, NOW, "Guests", "by hand", made[::3])
    words = dictionary(session)
    actions.save(session, IDA, NOW, words, "Farrow", {"lines": [{"id": "a", "kind": "field", "field": "town", "op": "is", "value": ["farrow"]}]})
    session.add(Partition(name="Tiers", version=1, created_at=NOW, changed_at=NOW, changed_by="Ida", parts=[
        {"key": "p", "name": "Patrons", "lines": [{"id": "a", "kind": "field", "field": "tier", "op": "is", "value": ["Patron"]}]},
        {"key": "f", "name": "Farrow", "lines": [{"id": "a", "kind": "segment", "segment": 1}]}]))
    session.flush()
    words = dictionary(session)
    return {number: why.person(session, number, words) for number in made}


def send_of(session, number, tags):
    """A send that went out 40, 20 or 0 days ago; success is buying a ticket within 3 days."""
    ident = session.execute(sa.text(
        "INSERT INTO campaigns (name, kind, tags, created_at, changed_at) VALUES (:n, 'Other', :tags, :now, :now) RETURNING id"),
        {"n": f"Campaign {number}", "tags": tagging.numbers(session, NOW, sorted(tags)), "now": NOW}).scalar_one()
    message = session.execute(sa.text(
        "INSERT INTO messages (name, channel, draft, document, created_at, changed_at, changed_by) VALUES (:n, :ch, 1, '{}', :now, :now, '') "
        "RETURNING id"), {"n": f"Message {number}", "now": NOW, "ch": "sms" if number == 2 else "email"}).scalar_one()
    taken = NOW - dt.timedelta(days={1: 40, 2: 20, 3: 0}[number], hours=3)
    send = Send(campaign_id=ident, message_id=message, name=f"Send {number}", state="done", audience={}, zone="UTC", success_event="ticket_bought",
                success_days=3, created_at=taken, changed_at=taken, consent_rule="agreed")
    session.add(send)
    session.flush()
    dispatched(session, send, taken)
    return send


def mailed(session, dice, contact, send):
    outcome = dice.choice(["delivered", "delivered", "delivered", "bounced", "no_consent", "in_doubt"])
    at = None if outcome == "no_consent" else send.taken_at + dt.timedelta(minutes=dice.randrange(50))
    delivered(session, send, contact, outcome, at)
    if outcome == "delivered":
        for kind, machine in (("opened", True), ("opened", False), ("clicked", False), ("unsubscribed", False), ("complained", False)):
            if dice.random() < 0.35:
                reacted(session, send, contact, kind, at + dt.timedelta(hours=dice.randrange(30)),
                        dice.randrange(2) if kind == "clicked" else None, machine)


@pytest.fixture
def people_and_words(database):
    with clock.at(NOW), database.session() as session:
        persons = build(session)
        yield session, persons, dictionary(session)


days = st.sampled_from(["2026-11-22", "2026-11-23", "2027-01-01", "2024-02-29"])
field_lines = st.one_of(
    st.tuples(st.just("town"), st.sampled_from(["is", "is_not"]), st.lists(st.sampled_from(["farrow", "Tarnside", "farrow "]), min_size=1)),
    st.tuples(st.sampled_from(["first_name", "email", "town"]), st.sampled_from(["contains", "not_contains", "begins", "ends"]),
              st.sampled_from(["zoë", "ZOE", "_", "%", "p1", "50%", "fárrow"])),
    st.tuples(st.just("tier"), st.sampled_from(["is", "is_not"]), st.lists(st.sampled_from(["Single", "Patron"]), min_size=1)),
    st.tuples(st.just("score"), st.sampled_from(["is", "is_not", "more_than", "at_least", "less_than", "at_most"]), st.sampled_from([0, 1, 2.5, 99])),
    st.tuples(st.just("score"), st.just("between"), st.just([1, 50])),
    st.tuples(st.sampled_from(["renewal", "company.agreement_ends"]), st.sampled_from(
        ["in_next", "in_last", "ahead", "ago", "yearly_next", "yearly_last"]), st.sampled_from([0, 1, 40, 400])),
    st.tuples(st.just("renewal"), st.just("day_month"), st.sampled_from([["12-20", "01-06"], ["02-28", "02-29"], ["11-23", "11-23"]])),
    st.tuples(st.just("renewal"), st.sampled_from(["on", "before", "after"]), days),
    st.tuples(st.just("renewal"), st.just("between"), st.just(["2024-02-29", "2026-11-23"])),
    st.tuples(st.just("met"), st.sampled_from(["in_next", "in_last", "ahead", "ago", "yearly_next", "yearly_last"]), st.sampled_from([0, 1, 40])),
    st.tuples(st.just("met"), st.sampled_from(["on", "before", "after"]), days),
    st.tuples(st.just("met"), st.just("hours"), st.sampled_from([["18:00", "23:30"], ["23:00", "06:00"], ["18:00", "18:00"]])),
    st.tuples(st.just("member"), st.sampled_from(["yes", "no"]), st.none()),
    st.tuples(st.just("interests"), st.sampled_from(["has", "has_not"]), st.lists(st.sampled_from(["sky", "sea"]), min_size=1)),
    st.tuples(st.just("company.kind"), st.sampled_from(["is", "is_not"]), st.just(["School"])),
    st.tuples(st.sampled_from(["town", "tier", "score", "renewal", "member", "met", "interests", "company.kind", "company.name"]),
              st.sampled_from(["blank", "not_blank"]), st.none()),
).flatmap(lambda t: st.sampled_from(["letters", "loose", "exact"]).map(
    lambda compare: {"kind": "field", "field": t[0], "op": t[1], "value": t[2], "compare": compare}))
spans = st.sampled_from([{}, {"last": 0}, {"last": 1}, {"last": 30}, {"from": "2026-10-01", "to": "2026-11-22"}, {"from": "2026-11-23"}])
event_lines = st.fixed_dictionaries({
    "kind": st.just("event"), "event": st.sampled_from(["ticket_bought", "visited"]), "did": st.booleans(),
    "times": st.sampled_from([{"op": "at_least", "n": 1}, {"op": "at_least", "n": 2}, {"op": "exactly", "n": 1},
                              {"op": "exactly", "n": 0}, {"op": "at_most", "n": 1}]),
    "span": spans, "where": st.sampled_from([[], [{"detail": "amount", "op": "at_least", "value": 20}],
                                             [{"detail": "night", "op": "is", "value": ["moon night"]}]])})
picked_events = st.fixed_dictionaries({"kind": st.just("event"), "event": st.just("ticket_bought"), "span": spans,
                                       "which": st.sampled_from(["first", "latest"])})
totals = st.fixed_dictionaries({"kind": st.just("event"), "event": st.just("ticket_bought"), "span": spans, "total": st.fixed_dictionaries(
    {"detail": st.just("amount"), "op": st.sampled_from(list(d.TOTALS)), "value": st.sampled_from([8, 24, 32.5])})})
followed = st.fixed_dictionaries({"kind": st.just("event"), "event": st.just("visited"), "span": spans, "then": st.fixed_dictionaries(
    {"event": st.just("ticket_bought"), "did": st.booleans(), "days": st.sampled_from([1, 2, 30])})})
mail_lines = st.fixed_dictionaries({
    "kind": st.just("mail"), "did": st.booleans(), "span": spans, "among": st.sampled_from(["sent", "everyone"]),
    "what": st.sampled_from(["sent", "delivered", "opened", "clicked", "bounced", "complained", "unsubscribed", "converted"]),
    "times": st.sampled_from([1, 1, 2]), "of": st.sampled_from([{}, {"message": 1}, {"campaign": 2}, {"send": 3}, {"tag": "night"}, {"tag": "free"},
                                                           {"channel": "email"}, {"channel": "sms"}])})
last_ones = st.integers(1, 3).flatmap(lambda most: st.fixed_dictionaries({
    "kind": st.just("mail"), "did": st.booleans(), "latest": st.just(most), "times": st.integers(1, most),
    "what": st.sampled_from(["delivered", "opened", "clicked", "bounced", "converted"]),
    "of": st.sampled_from([{}, {"message": 1}, {"channel": "sms"}])}))
clicks = st.fixed_dictionaries({"kind": st.just("mail"), "what": st.just("clicked"), "did": st.booleans(), "of": st.just({"message": 1}),
                                "link": st.sampled_from([0, 1])})
others = st.sampled_from([
    *({"kind": "consent", "topic": t, "state": state} for t in (0, 1) for state in ("agreed", "refused", "unasked")),
    *({"kind": "consent", "channel": channel, "topic": topic, "state": state} for channel in ("sms", "push", "card") for topic in (0, 1)
      for state in ("agreed", "refused", "unasked")),
    *({"kind": "reach", "channel": channel, "can": can} for channel in ("email", "sms", "push", "card") for can in (True, False)),
    *({"kind": "list", "list": 1, "inside": i} for i in (True, False)),
    *({"kind": "segment", "segment": 1, "inside": i} for i in (True, False)),
    *({"kind": "part", "partition": 1, "part": part, "inside": i} for part in ("p", "f", "else") for i in (True, False)),
    *({"kind": "tag", "tag": path, "inside": i} for path in ("free", "free/family", "night", "night/dark") for i in (True, False)),
    {"kind": "share", "percent": 30, "salt": "abc"}, {"kind": "share", "percent": 0.5, "salt": "x1"}])
leaves = st.one_of(field_lines, event_lines, picked_events, totals, followed, mail_lines, last_ones, clicks, others)
nodes = st.recursive(leaves, lambda inner: st.fixed_dictionaries({
    "kind": st.just("group"), "match": st.sampled_from(["all", "any", "none", "colleagues"]), "lines": st.lists(inner, max_size=3)}), max_leaves=5)


def numbered(lines, off=()):
    counter = iter(range(1000))

    def walk(node):
        made = {**node, "id": f"n{next(counter)}"}
        if "lines" in node:
            made["lines"] = [walk(n) for n in node["lines"]]
        return made

    return {"lines": [walk(n) for n in lines]}


def expected_by_judge(session, persons, words, definition):
    """Who is in it by the plain evaluator."""
    judge = why.judge(session, words, NOW, ZONE)
    judge.colleagues = lambda one: [p for p in persons.values() if p.company == one.company]
    return {ident for ident, person in persons.items() if judge.matches(definition, person)}


@tries(150)
@given(st.lists(nodes, max_size=4))
def test_three_evaluators_agree(people_and_words, lines):
    session, persons, words = people_and_words
    definition = d.parse(numbered(lines), words)
    expected = expected_by_judge(session, persons, words, definition)
    looked = look(session, definition, words, NOW, ZONE)
    assert set(looked.sieve.members) == expected
    assert queries.count(session, definition, words, NOW, ZONE) == len(expected)
    assert list(looked.reach) == ["email", "sms", "push", "card"]
    assert all(sum(outcomes.values()) == len(expected) for outcomes in looked.reach.values())
    assert {channel: outcomes.get("go", 0) for channel, outcomes in looked.reach.items()} == {
        channel: sum(verdict(persons[ident].reach[channel]).goes for ident in expected) for channel in looked.reach}
    assert d.parse(d.dump(definition), words) == definition


def one(**line):
    return {"lines": [{"id": "x", **line}]}


@pytest.mark.parametrize(("line", "expected"), [
    ({"kind": "field", "field": "town", "op": "is", "value": ["Tarnside"]}, {2}),
    ({"kind": "field", "field": "town", "op": "is_not", "value": ["Tarnside"]}, {1}),
    ({"kind": "field", "field": "town", "op": "blank"}, {3}),
    ({"kind": "field", "field": "company.name", "op": "contains", "value": "tarn"}, {1, 2}),
    ({"kind": "event", "event": "visited", "times": {"op": "at_least", "n": 2}, "span": {"last": 1}}, {2}),
    ({"kind": "event", "event": "visited", "did": False}, {1, 3})])
def test_by_hand_on_three_people(database, line, expected):
    """Ann of Farrow and Ben of Tarnside share a company; Cleo has no town. Ben visited today and late yesterday evening."""
    with clock.at(NOW), database.session() as session:
        ids = kinds(session)
        found = [add(session, NOW, f"{n}@a.example", first_name=n, town=t, company=c).id for n, t, c in (
            ("Ann", "farrow", "Tarn School"), ("Ben", "TARNSIDE", "Tarn School"), ("Cleo", None, None))]
        for at in (NOW, dt.datetime(2026, 11, 22, 0, 5, tzinfo=dt.UTC), dt.datetime(2026, 11, 21, 23, 55, tzinfo=dt.UTC)):
            session.execute(sa.text("INSERT INTO events (contact_id, at, kind_id) VALUES (:c, :at, :k)"),
                            {"c": found[1], "at": at, "k": ids["visited"]})
        words = dictionary(session)
        looked = look(session, d.parse(one(**line), words), words, NOW, ZONE)
        assert {found.index(i) + 1 for i in looked.sieve.members} == expected


class TestSaving:
    LINES = {"lines": [{"id": "a", "kind": "field", "field": "town", "op": "not_blank"}]}

    def test_every_version_is_kept_and_nobody_overwrites_anybody(self, database, still):
        with database.session() as session:
            words = dictionary(session)
            saved = actions.save(session, IDA, NOW, words, "With a town", self.LINES)
            actions.save(session, IDA, NOW, words, "With a town", {"lines": []}, saved, based_on=1)
            with pytest.raises(Conflict, match="saved this segment while you were editing"):
                actions.save(session, IDA, NOW, words, "With a town", self.LINES, saved, based_on=1)
            assert [v.version for v in queries.versions(session, saved.id)] == [2, 1]
            assert queries.versions(session, saved.id)[1].definition["lines"][0]["field"] == "town"

    def test_names_are_needed_and_single(self, database, still):
        with database.session() as session:
            words = dictionary(session)
            actions.save(session, IDA, NOW, words, "One", self.LINES)
            with pytest.raises(Conflict, match="called “One” already"):
                actions.save(session, IDA, NOW, words, " One ", self.LINES)
            with pytest.raises(Invalid, match="Give the segment a name"):
                actions.save(session, IDA, NOW, words, " ", self.LINES)

    def test_a_used_one_is_not_deleted(self, database, still):
        with database.session() as session:
            saved = actions.save(session, IDA, NOW, dictionary(session), "One", self.LINES)
            with pytest.raises(Conflict, match="is used by the send “Letter”"):
                actions.delete(session, IDA, NOW, saved, ["the send “Letter”"])


def test_lines_shared_out_to_two_connections_give_what_each_gives_alone(database):
    """Also where this transaction has written what no other can see yet: then nothing is shared out."""
    predicates = ["c.town = 'Farrow'", "c.id IN (SELECT contact_id FROM consents WHERE agreed) IS TRUE", "TRUE", "c.email LIKE :who",
                  "c.id % 3 = 0", "FALSE", "EXISTS (SELECT 1 FROM consents x WHERE x.contact_id = c.id AND x.channel = 'sms') IS TRUE"]
    values = {"who": "p1%"}
    with database.session() as session:
        for n in range(40):
            add(session, NOW, f"p{n}@post.example", town="Farrow" if n % 2 else None, agreed=n % 5 == 0)
        unseen = id_sets(session, predicates, values)
        assert len(unseen[2]) == 40, "what was only just written is there"
    with database.session() as session:
        shared = id_sets(session, predicates, values)
        assert shared == unseen == [id_sets(session, [p], values)[0] for p in predicates]
        assert [len(s) for s in shared] == [20, 8, 40, 11, 13, 0, 0]
