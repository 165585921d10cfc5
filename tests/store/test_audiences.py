"""Sixty audiences from practice, on a small world made by hand; who is in each was worked out on
paper.

Eight people live on five clocks. It is Monday, 23 November 2026, 14:00 UTC, unless a case says
otherwise: 14:00 in London, 03:00 on the 24th in Auckland, 06:00 in Los Angeles, 19:30 in Kolkata.
Each case is asked of all three evaluators.
"""

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.base.cache import forget
from meadowrun.core.audience import definition as d
from meadowrun.core.audience.nodes import Definition
from meadowrun.core.audience.persons import share_number
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.segments import queries, why
from meadowrun.segments.looking import look
from tests.conftest import NOW
from tests.store.audience_world import (
    EVERYONE,
    FEBRUARY,
    LATE,
    ZONE,
    at,
    build,
    event,
    field,
    group,
    mail,
    tagged,
)


@pytest.fixture(scope="module")
def world(cluster_url):
    """Built once for the module: the cases only look."""
    import uuid

    import psycopg

    from meadowrun.base.db import Database
    from meadowrun.base.testing import TEMPLATE

    name = f"t_{uuid.uuid4().hex[:12]}"
    with psycopg.connect(f"{cluster_url}/postgres", autocommit=True) as connection:
        connection.execute(f"CREATE DATABASE {name} TEMPLATE {TEMPLATE} STRATEGY FILE_COPY")
    database = Database(f"{cluster_url}/{name}")
    with clock.at(NOW), database.session() as session:
        build(session)
    forget()
    with database.session() as session:
        words = dictionary(session)
        yield (
            session,
            words,
            {n: i for i, n in session.execute(sa.text("SELECT id, first_name FROM contacts"))},
        )
    database.close()
    with psycopg.connect(f"{cluster_url}/postgres", autocommit=True) as connection:
        connection.execute(f"DROP DATABASE {name} WITH (FORCE)")


CASES = [
    # fields of the contact, each type with its comparisons
    ("town, capitals aside", NOW, [field("town", "is", ["farrow"])], "Ann Bo"),
    ("town, accents aside", NOW, [field("town", "is", ["farrow"], compare="loose")], "Ann Bo Eve"),
    ("town, exactly", NOW, [field("town", "is", ["Farrow"], compare="exact")], "Ann"),
    (
        "town is not, blank is no answer",
        NOW,
        [field("town", "is_not", ["Farrow"])],
        "Cy Eve Fay Gil Hal",
    ),
    ("town contains a percent sign", NOW, [field("town", "contains", "%")], "Hal"),
    ("town contains letters", NOW, [field("town", "contains", "TARN")], "Cy Fay Gil"),
    ("town ends with", NOW, [field("town", "ends", "SIDE")], "Cy Gil"),
    ("town does not contain", NOW, [field("town", "not_contains", "arr")], "Cy Fay Gil Hal Eve"),
    ("town begins", NOW, [field("town", "begins", "Up")], "Fay"),
    ("town blank", NOW, [field("town", "blank")], "Di"),
    (
        "one of a pasted list of 100,000",
        NOW,
        [
            field(
                "email",
                "is",
                [f"x{n}@post.example" for n in range(99_998)]
                + ["CY@post.example", "hal@post.example"],
            )
        ],
        "Cy",
    ),
    ("tier is", NOW, [field("tier", "is", ["Patron"])], "Ann Cy"),
    ("tier is not, blank left out", NOW, [field("tier", "is_not", ["Patron"])], "Bo Eve Fay"),
    ("several choices", NOW, [field("interests", "has", ["planets", "history"])], "Ann Bo Di"),
    ("choices without", NOW, [field("interests", "has_not", ["meteors"])], "Ann Di"),
    ("yes", NOW, [field("lends", "yes")], "Ann Eve"),
    ("no is not blank", NOW, [field("lends", "no")], "Bo Di Fay"),
    ("number at least", NOW, [field("score", "at_least", 10)], "Ann Di Fay"),
    (
        "number at most takes zero and below, not blank",
        NOW,
        [field("score", "at_most", 0)],
        "Bo Gil",
    ),
    ("number more than leaves the number out", NOW, [field("score", "more_than", 10)], "Di"),
    ("number less than leaves the number out", NOW, [field("score", "less_than", 2.5)], "Bo Gil"),
    ("number is not, blank left out", NOW, [field("score", "is_not", 10)], "Bo Cy Di Gil"),
    ("number between", NOW, [field("score", "between", [0, 10])], "Ann Bo Cy Fay"),
    # dates in the four ways, on each person's own clock
    ("exact day", NOW, [field("renewal", "on", "2026-11-23")], "Ann"),
    ("exact span", NOW, [field("renewal", "between", ["2026-11-22", "2026-11-24"])], "Ann Bo Cy"),
    (
        "in the next 0 days is today: the 24th in Auckland",
        NOW,
        [field("renewal", "in_next", 0)],
        "Ann Bo",
    ),
    ("in the next 39 days, up to New Year", NOW, [field("renewal", "in_next", 39)], "Ann Bo Eve"),
    ("in the last 1 day, today included", NOW, [field("renewal", "in_last", 1)], "Ann Bo Cy"),
    ("more than 300 days ago", NOW, [field("renewal", "ago", 300)], "Gil"),
    ("more than 39 days ahead", NOW, [field("renewal", "ahead", 38)], "Eve Fay"),
    ("birthday today in any year", NOW, [field("birthday", "yearly_next", 0)], "Ann"),
    (
        "birthday within 39 days, over New Year",
        NOW,
        [field("birthday", "yearly_next", 39)],
        "Ann Cy Di Fay",
    ),
    (
        "birthday in the last 30 days of any year",
        at("2026-12-30T12:00"),
        [field("birthday", "yearly_last", 30)],
        "Fay",
    ),
    (
        "on New Year's Eve it is New Year in Auckland only",
        LATE,
        [field("birthday", "yearly_next", 0)],
        "Cy",
    ),
    ("29 February comes round on the 28th", FEBRUARY, [field("birthday", "yearly_next", 0)], "Bo"),
    (
        "four hours on it is March in Auckland: nobody",
        at("2027-02-28T12:00"),
        [field("birthday", "yearly_next", 0)],
        "",
    ),
    (
        "and with the first of March within a day",
        FEBRUARY,
        [field("birthday", "yearly_next", 1)],
        "Bo Gil",
    ),
    (
        "day and month of any year, over New Year",
        NOW,
        [field("birthday", "day_month", ["12-24", "01-06"])],
        "Cy Di",
    ),
    (
        "day and month takes the 29th",
        NOW,
        [field("birthday", "day_month", ["02-29", "03-01"])],
        "Bo Gil",
    ),
    (
        "month end: the last day of November",
        NOW,
        [field("birthday", "day_month", ["11-30", "11-30"])],
        "Fay",
    ),
    # companies and who works with whom
    ("company's field", NOW, [field("company.kind", "is", ["School"])], "Ann Bo Fay"),
    ("company's date", NOW, [field("company.agreement_ends", "in_next", 8)], "Ann Bo Fay"),
    (
        "company's date a day earlier is reached in Auckland only",
        NOW,
        [field("company.agreement_ends", "in_next", 7)],
        "Bo",
    ),
    (
        "company's field blank, also without a company",
        NOW,
        [field("company.agreement_ends", "blank")],
        "Cy Di Eve Gil Hal",
    ),
    (
        "anyone of a company where somebody is a patron",
        NOW,
        [group("colleagues", field("tier", "is", ["Patron"]))],
        "Ann Bo Cy Eve Fay",
    ),
    (
        "of a company where one person both lends and bought",
        NOW,
        [group("colleagues", field("lends", "yes"), event("ticket_bought"))],
        "Ann Bo Fay",
    ),
    # events
    ("did, ever", NOW, [event("ticket_bought")], "Ann Cy Di Fay"),
    ("did not, ever", NOW, [event("ticket_bought", did=False)], "Bo Eve Gil Hal"),
    ("at least three times", NOW, [event("visited", times={"op": "at_least", "n": 3})], "Gil"),
    ("exactly twice", NOW, [event("ticket_bought", times={"op": "exactly", "n": 2})], "Ann"),
    ("in the last day, by each one's midnight", NOW, [event("visited", span={"last": 1})], "Bo"),
    ("in the last 2 days", NOW, [event("visited", span={"last": 2})], "Bo Eve"),
    (
        "in the last day a ticket: late on the 21st in Los Angeles is too early",
        NOW,
        [event("ticket_bought", span={"last": 1})],
        "Ann",
    ),
    (
        "on a fixed day, by each one's clock",
        NOW,
        [event("ticket_bought", span={"from": "2026-11-21", "to": "2026-11-21"})],
        "Cy",
    ),
    (
        "with a detail, capitals aside",
        NOW,
        [event("ticket_bought", where=[{"detail": "night", "op": "is", "value": ["Mars night"]}])],
        "Ann Fay",
    ),
    (
        "with amount at least 24",
        NOW,
        [event("ticket_bought", where=[{"detail": "amount", "op": "at_least", "value": 24}])],
        "Ann Cy Fay",
    ),
    (
        "amount at least 32 in total",
        NOW,
        [event("ticket_bought", total={"detail": "amount", "op": "at_least", "value": 32})],
        "Ann Cy Fay",
    ),
    (
        "amount more than 32 in total",
        NOW,
        [event("ticket_bought", total={"detail": "amount", "op": "more_than", "value": 32})],
        "Cy Fay",
    ),
    (
        "amount less than 32 in total",
        NOW,
        [event("ticket_bought", total={"detail": "amount", "op": "less_than", "value": 32})],
        "Di",
    ),
    (
        "amount at most 12 in total",
        NOW,
        [event("ticket_bought", total={"detail": "amount", "op": "at_most", "value": 12})],
        "Di",
    ),
    (
        "first ticket ever this November",
        NOW,
        [event("ticket_bought", which="first", span={"from": "2026-11-01"})],
        "Cy Di",
    ),
    (
        "latest visit before November",
        NOW,
        [event("visited", which="latest", span={"to": "2026-10-31"})],
        "Cy Fay",
    ),
    (
        "visited, then bought within a day",
        NOW,
        [event("visited", then={"event": "ticket_bought", "did": True, "days": 1})],
        "Di",
    ),
    (
        "visited, then did not buy within 2 days: Eve's time is not over",
        NOW,
        [event("visited", then={"event": "ticket_bought", "did": False, "days": 2})],
        "Ann Cy Fay Gil",
    ),
    # what we sent and the outcome
    ("was sent the message", NOW, [mail("sent", of={"message": 1})], "Ann Bo Eve Fay Gil"),
    ("opened by a person", NOW, [mail("opened", of={"message": 1})], "Ann Fay"),
    ("opened anything: a click counts", NOW, [mail("opened")], "Ann Bo Fay"),
    (
        "did not open it, of those sent it",
        NOW,
        [mail("opened", did=False, of={"message": 1})],
        "Bo Eve Gil",
    ),
    (
        "did not open it, never sent counts too",
        NOW,
        [mail("opened", did=False, of={"message": 1}, among="everyone")],
        "Bo Cy Di Eve Gil Hal",
    ),
    ("clicked one link", NOW, [mail("clicked", of={"message": 1}, link=0)], "Ann"),
    (
        "at least two mails with a tag",
        NOW,
        [mail("delivered", of={"tag": "night"}, times=2)],
        "Ann Bo",
    ),
    ("complained or bounced", NOW, [group("any", mail("complained"), mail("bounced"))], "Fay Gil"),
    ("unsubscribed from a campaign", NOW, [mail("unsubscribed", of={"campaign": 2})], "Di"),
    ("sent something in the last 30 days", NOW, [mail("sent", span={"last": 30})], "Ann Bo Di"),
    ("received any text message", NOW, [mail("delivered", of={"channel": "sms"})], "Ann Bo Di"),
    ("opened the last they were sent", NOW, [mail("opened", latest=1)], "Ann Bo Fay"),
    ("opened two of the last two", NOW, [mail("opened", latest=2, times=2)], "Ann"),
    ("opened none of the last two", NOW, [mail("opened", did=False, latest=2)], "Di Eve Gil"),
    ("clicked in the last with a tag", NOW, [mail("clicked", latest=1, of={"tag": "night"})], "Bo"),
    ("clicked in any mail", NOW, [mail("clicked", of={"channel": "email"})], "Ann"),
    ("was sent no mail", NOW, [mail("sent", did=False, of={"channel": "email"})], "Cy Di Hal"),
    (
        "was sent no text message in the last 10 days",
        NOW,
        [mail("sent", did=False, of={"channel": "sms"}, span={"last": 10})],
        "Ann Bo Cy Di Eve Fay Gil Hal",
    ),
    # consent, reach, sets, chance, nesting
    (
        "agreed to all email",
        NOW,
        [{"id": "c", "kind": "consent", "topic": 0, "state": "agreed"}],
        "Ann Bo Eve Fay Gil Hal",
    ),
    ("never asked", NOW, [{"id": "c", "kind": "consent", "topic": 0, "state": "unasked"}], "Di"),
    (
        "said no to a topic",
        NOW,
        [{"id": "c", "kind": "consent", "topic": 1, "state": "refused"}],
        "Eve",
    ),
    (
        "can get email: no suppressed, bounced, refused, unasked or missing address",
        NOW,
        [{"id": "r", "kind": "reach", "can": True}],
        "Ann Bo Eve",
    ),
    ("cannot", NOW, [{"id": "r", "kind": "reach", "can": False}], "Cy Di Fay Gil Hal"),
    (
        "agreed to text messages",
        NOW,
        [{"id": "c", "kind": "consent", "channel": "sms", "state": "agreed"}],
        "Ann Bo Cy Di Eve",
    ),
    (
        "never asked about text messages",
        NOW,
        [{"id": "c", "kind": "consent", "channel": "sms", "state": "unasked"}],
        "Gil Hal",
    ),
    (
        "said no to cards",
        NOW,
        [{"id": "c", "kind": "consent", "channel": "in_app", "state": "refused"}],
        "Hal",
    ),
    (
        "can get text messages: a number that is one, not suppressed, agreed",
        NOW,
        [{"id": "r", "kind": "reach", "channel": "sms"}],
        "Ann Bo",
    ),
    (
        "cannot get text messages",
        NOW,
        [{"id": "r", "kind": "reach", "channel": "sms", "can": False}],
        "Cy Di Eve Fay Gil Hal",
    ),
    (
        "can get push notifications: a device that is still there, agreed",
        NOW,
        [{"id": "r", "kind": "reach", "channel": "push"}],
        "Bo",
    ),
    (
        "can get in-app messages: everyone who did not say no",
        NOW,
        [{"id": "r", "kind": "reach", "channel": "in_app"}],
        "Ann Bo Cy Di Eve Fay Gil",
    ),
    (
        "on a list, not in a segment",
        NOW,
        [
            {"id": "l", "kind": "list", "list": 1},
            {"id": "s", "kind": "segment", "segment": 1, "inside": False},
        ],
        "Di",
    ),
    (
        "a part: the first that matches wins",
        NOW,
        [{"id": "p", "kind": "grouping", "grouping": 1, "group": "f"}],
        "Bo",
    ),
    (
        "everyone else",
        NOW,
        [{"id": "p", "kind": "grouping", "grouping": 1, "group": "else"}],
        "Di Eve Fay Gil Hal",
    ),
    ("a date and time on a day", NOW, [field("met", "on", "2026-11-23")], "Ann Bo"),
    ("a date and time within days", NOW, [field("met", "in_last", 1)], "Ann Bo Di"),
    # On Bo’s clock it is the 24th already.
    ("a date and time that comes round", NOW, [field("met", "yearly_next", 1)], "Ann Cy"),
    (
        "a date and time at hours, the last not taken in",
        NOW,
        [field("met", "hours", ["17:59", "18:00"])],
        "Bo",
    ),
    (
        "a date and time at hours over midnight",
        NOW,
        [field("met", "hours", ["23:00", "06:00"])],
        "Cy Di",
    ),
    ("no date and time", NOW, [field("met", "blank")], "Eve Fay Gil Hal"),
    ("the tag, or one under it", NOW, [tagged("club")], "Ann Bo Di"),
    ("only the tag within", NOW, [tagged("club/sky")], "Bo Di"),
    ("not the tag, nor one under it", NOW, [tagged("club", False)], "Cy Eve Fay Gil Hal"),
    ("a tag that only begins alike", NOW, [tagged("clubhouse")], "Cy"),
    ("a mail with a tag within", NOW, [mail("delivered", of={"tag": "night/dark"})], "Ann Bo Di"),
    (
        "a full share is everyone",
        NOW,
        [{"id": "h", "kind": "share", "percent": 100, "salt": "s"}],
        EVERYONE,
    ),
    (
        "none of two",
        NOW,
        [group("none", field("town", "blank"), field("tier", "is", ["Patron"]))],
        "Bo Eve Fay Gil Hal",
    ),
    (
        "a group within a group",
        NOW,
        [
            group(
                "any",
                field("town", "blank"),
                group("all", field("tier", "is", ["Single"]), field("lends", "no"), ident="g9"),
            )
        ],
        "Bo Di Fay",
    ),
    (
        "a line that is off does not count",
        NOW,
        [field("town", "is", ["farrow"]), {**field("lends", "yes"), "off": True}],
        "Ann Bo",
    ),
]


def test_there_are_sixty():
    assert len(CASES) >= 60


@pytest.mark.parametrize(("said", "now", "lines", "expected"), CASES, ids=[c[0] for c in CASES])
def test_an_audience(world, said, now, lines, expected):
    session, words, numbers = world
    definition = d.parse({"lines": lines}, words)
    names = {i: n for n, i in numbers.items()}
    forget()
    with clock.at(now):
        by_sets = look(Moment(session, words, now, ZONE), definition).sieve.members
        by_sql = queries.member_set(Moment(session, words, now, ZONE), definition)
        judge = why.judge(Moment(session, words, now, ZONE))
        by_judge = {i for i in names if judge.matches(definition, why.person(session, i, words))}
    wanted = set(expected.split())
    assert {names[i] for i in by_judge} == wanted
    assert {names[i] for i in by_sql} == wanted
    assert {names[i] for i in by_sets} == wanted


def test_why_somebody_is_in_or_out(world):
    session, words, numbers = world
    definition = d.parse(
        {
            "lines": [
                field("town", "is", ["farrow"]),
                event("visited", times={"op": "at_least", "n": 3}),
                group("any", field("lends", "yes"), field("renewal", "blank")),
            ]
        },
        words,
    )
    inside, answers = why.why(Moment(session, words, NOW, ZONE), definition, numbers["Bo"])
    assert not inside
    assert [(a.holds, a.value) for a in answers] == [
        (True, "FARROW"),
        (False, "2 times, the latest on 22 Nov 2026"),
        (False, ""),
    ]
    assert [(a.holds, a.value) for a in answers[2].inside] == [
        (False, "no"),
        (False, "24 Nov 2026"),
    ]


def test_a_share_stays_the_same_and_has_about_its_size(world):
    session, words, _ = world
    line = d.parse(
        {"lines": [{"id": "h", "kind": "share", "percent": 10, "salt": "abc"}]}, words
    ).lines
    drawn = [n for n in range(1, 20_001) if share_number(n, "abc") < 1000]
    # Binomial, n = 20,000, p = 0.1: mean 2,000, standard deviation 42; five of these either way.
    assert 1790 <= len(drawn) <= 2210
    assert queries.member_set(
        Moment(session, words, NOW, ZONE), Definition(line)
    ) == queries.member_set(Moment(session, words, NOW, ZONE), Definition(line))


def test_segments_never_go_in_circles(world):
    _, words, _ = world
    with pytest.raises(d.DefinitionError, match="circle"):
        d.parse({"lines": [{"id": "a", "kind": "segment", "segment": 1}]}, words, inside=(1,))
