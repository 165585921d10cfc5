"""A small world of eight people on whom every kind of condition is tried, and short ways to write
conditions."""

import datetime as dt
import json
import zoneinfo

import sqlalchemy as sa

from meadowrun.people import actions as people
from meadowrun.people import keeping
from meadowrun.people.models import Topic
from meadowrun.people.queries import dictionary
from meadowrun.segments import actions
from meadowrun.segments.models import Grouping
from meadowrun.tags import actions as tagging
from tests.conftest import NOW
from tests.store.people import IDA, add, kinds
from tests.store.small_world import send_of
from tests.store.work import delivered, reacted

ZONE = zoneinfo.ZoneInfo("Europe/London")


NAMES = ("Ann", "Bo", "Cy", "Di", "Eve", "Fay", "Gil", "Hal")


def at(text):
    return dt.datetime.fromisoformat(text).replace(tzinfo=dt.UTC)


#: name → town, tier, renewal, birthday, score, lends, interests, company, zone, agreed to email
PEOPLE = {
    "Ann": (
        "Farrow",
        "Patron",
        "2026-11-23",
        "1990-11-23",
        10,
        "yes",
        "planets",
        "Tarn School",
        "Europe/London",
        True,
    ),
    "Bo": (
        "FARROW",
        "Single",
        "2026-11-24",
        "2000-02-29",
        0,
        "no",
        "planets;meteors",
        "Tarn School",
        "Pacific/Auckland",
        True,
    ),
    "Cy": (
        "Tarnside",
        "Patron",
        "2026-11-22",
        "1985-12-31",
        2.5,
        None,
        None,
        "Hill Club",
        "America/Los_Angeles",
        False,
    ),
    "Di": (None, None, None, "1999-01-01", 100, "no", "history", None, None, None),
    "Eve": (
        "Fárrow",
        "Single",
        "2027-01-01",
        None,
        None,
        "yes",
        None,
        "Hill Club",
        "Not/A_Zone",
        True,
    ),
    "Fay": (
        "Upper Tarn",
        "Single",
        "2028-02-29",
        "1970-11-30",
        10,
        "no",
        "meteors",
        "Tarn School",
        "Asia/Kolkata",
        True,
    ),
    "Gil": (
        "Tarnside",
        None,
        "2025-11-23",
        "1960-03-01",
        -5,
        None,
        None,
        None,
        "Europe/London",
        True,
    ),
    "Hal": ("50% Hill", None, None, None, None, None, None, None, None, True),
}


EVENTS = {
    "Ann": [
        ("ticket_bought", "2026-11-23T13:00", {"amount": 24, "night": "Moon night"}),
        ("ticket_bought", "2026-10-01T12:00", {"amount": 8, "night": "Mars night"}),
        ("visited", "2026-11-20T20:00", {}),
    ],
    # 23:30 on the 22nd and 00:30 on the 23rd by Auckland's clock
    "Bo": [("visited", "2026-11-22T10:30", {}), ("visited", "2026-11-22T11:30", {})],
    # 23:30 on the 21st in Los Angeles
    "Cy": [
        ("ticket_bought", "2026-11-22T07:30", {"amount": 36}),
        ("visited", "2026-08-01T12:00", {}),
    ],
    "Di": [
        ("visited", "2026-11-01T10:00", {}),
        ("ticket_bought", "2026-11-02T10:00", {"amount": 12, "night": "Moon night"}),
    ],
    "Eve": [("visited", "2026-11-21T15:00", {})],
    "Fay": [
        ("visited", "2026-09-01T12:00", {}),
        ("ticket_bought", "2026-09-10T12:00", {"amount": 48, "night": "mars NIGHT"}),
    ],
    "Gil": [("visited", f"2026-11-{day}T12:00", {}) for day in (10, 11, 12)],
}


def build(session):
    for label, kind, options in (
        ("tier", "choice", ["Single", "Patron"]),
        ("renewal", "date", []),
        ("birthday", "date", []),
        ("score", "number", []),
        ("lends", "yes_no", []),
        ("met", "datetime", []),
        ("interests", "choices", ["planets", "meteors", "history"]),
    ):
        people.add_field(session, IDA, NOW, "contact", label, kind, options)
    people.add_field(session, IDA, NOW, "company", "kind", "choice", ["School", "Club"])
    people.add_field(session, IDA, NOW, "company", "agreement ends", "date", [])
    ids = kinds(session)
    session.add(Topic(key="diary", name="Sky diary", about=""))
    session.flush()
    numbers = {}
    for name, (
        town,
        tier,
        renewal,
        birthday,
        score,
        lends,
        interests,
        company,
        zone,
        agreed,
    ) in PEOPLE.items():
        contact = add(
            session,
            NOW,
            None if name == "Hal" else f"{name.lower()}@post.example",
            agreed,
            first_name=name,
            town=town,
            tier=tier,
            renewal=renewal,
            birthday=birthday,
            score=score,
            lends=lends,
            interests=interests,
            company=company,
        )
        contact.timezone = zone
        numbers[name] = contact.id
        for kind, moment, details in EVENTS.get(name, []):
            session.execute(
                sa.text(
                    "INSERT INTO events (contact_id, at, kind_id, details) VALUES (:c, :at, :k, "
                    "CAST(:d AS jsonb))"
                ),
                {"c": contact.id, "at": at(moment), "k": ids[kind], "d": json.dumps(details)},
            )
    for name, moment in (
        ("Ann", "2026-11-23T18:00"),
        ("Bo", "2026-11-23T17:59"),
        ("Cy", "2025-11-24T23:30"),
        ("Di", "2026-11-22T05:59"),
    ):
        session.execute(
            sa.text(
                "UPDATE contacts SET attributes = attributes || jsonb_build_object('met', "
                "CAST(:m AS text)) WHERE id = :id"
            ),
            {"m": moment, "id": numbers[name]},
        )
    session.execute(
        sa.text("""UPDATE companies SET attributes = CASE name WHEN 'Tarn School'
THEN CAST('{"kind": "School",
        "agreement_ends": "2026-12-01"}' AS jsonb) ELSE CAST('{"kind": "Club"}' AS jsonb) END""")
    )
    people.set_consent(session, NOW, numbers["Eve"], 1, False, "test")
    people.set_consent(session, NOW, numbers["Ann"], 1, True, "test")
    keeping.suppress(session, NOW, "fay@post.example", "asked by letter", "desk")
    # Texts: Ann and Bo agreed; Cy has no number, Di's is none, Eve's is suppressed, Fay said no,
    # Gil was never asked.
    for name, phone, said in (
        ("Ann", "+44 7700 900101", True),
        ("Bo", "+44 (7700) 900-102", True),
        ("Cy", None, True),
        ("Di", "ask Ann", True),
        ("Eve", "+447700900105", True),
        ("Fay", "+447700900106", False),
        ("Gil", "+447700900107", None),
    ):
        session.execute(
            sa.text("UPDATE contacts SET phone = :phone WHERE id = :id"),
            {"phone": phone, "id": numbers[name]},
        )
        if said is not None:
            people.set_consent(session, NOW, numbers[name], 0, said, "test", "sms")
    keeping.suppress(session, NOW, "+447700900105", "asked by letter", "desk")
    # Push notifications: Bo has a phone, Cy's is gone, Di agreed without one, Eve has one and said
    # no. In-app messages:
    # only Hal said no.
    for name, said, gone in (
        ("Bo", True, None),
        ("Cy", True, NOW),
        ("Di", True, 0),
        ("Eve", False, None),
    ):
        people.set_consent(session, NOW, numbers[name], 0, said, "test", "push")
        if gone != 0:
            session.execute(
                sa.text(
                    "INSERT INTO push_devices (contact_id, kind, endpoint, p256dh, auth, since, "
                    "gone_at) VALUES (:c, 'ios', "
                    ":e, '', '', :now, :gone)"
                ),
                {"c": numbers[name], "e": f"token-{name}", "now": NOW, "gone": gone},
            )
    people.set_consent(session, NOW, numbers["Hal"], 0, False, "test", "in_app")
    session.execute(
        sa.text("UPDATE contacts SET bounced_at = :now WHERE first_name = 'Gil'"), {"now": NOW}
    )
    keeping.make_list(session, IDA, NOW, "Guests", "by hand", [numbers["Ann"], numbers["Di"]])
    mails(session, numbers)
    tags = dict(
        zip(
            ("club", "club/sky", "clubhouse"),
            tagging.numbers(session, NOW, ["club", "club/sky", "clubhouse"]),
            strict=True,
        )
    )
    for name, path in (
        ("Ann", "club"),
        ("Bo", "club/sky"),
        ("Di", "club"),
        ("Di", "club/sky"),
        ("Cy", "clubhouse"),
    ):
        session.execute(
            sa.text("INSERT INTO contact_tags VALUES (:c, :t)"),
            {"c": numbers[name], "t": tags[path]},
        )
    words = dictionary(session)
    actions.save(
        session, IDA, NOW, words, "Farrow people", {"lines": [field("town", "is", ["farrow"])]}
    )
    session.add(
        Grouping(
            name="Tiers",
            version=1,
            created_at=NOW,
            changed_at=NOW,
            changed_by="Ida",
            groups=[
                {"key": "p", "name": "Patrons", "lines": [field("tier", "is", ["Patron"])]},
                {
                    "key": "f",
                    "name": "Farrow",
                    "lines": [{"id": "a", "kind": "segment", "segment": 1}],
                },
            ],
        )
    )


def mails(session, numbers):
    """Send 1 (tag night) went 40 days ago, send 2 (tags night/dark, free) 20 days ago; success is a
    ticket within 3 days."""
    first, second = send_of(session, 1, ["night"]), send_of(session, 2, ["night/dark", "free"])
    rows = [
        (first, "Ann", "delivered", [("opened", 1, None, False), ("clicked", 1, 0, False)]),
        (first, "Bo", "delivered", [("opened", 0, None, True)]),
        (first, "Cy", "no_consent", []),
        (first, "Eve", "delivered", []),
        (first, "Gil", "bounced", []),
        (first, "Fay", "delivered", [("opened", 2, None, False), ("complained", 2, None, False)]),
        (second, "Ann", "delivered", [("opened", 0, None, False)]),
        (second, "Bo", "delivered", [("clicked", 3, 1, False)]),
        (second, "Di", "delivered", [("unsubscribed", 1, None, False)]),
    ]
    for send, name, outcome, reactions in rows:
        moment = None if outcome == "no_consent" else send.taken_at
        delivered(session, send, numbers[name], outcome, moment)
        for kind, days, link, machine in reactions:
            reacted(
                session,
                send,
                numbers[name],
                kind,
                send.taken_at + dt.timedelta(days=days),
                link,
                machine,
            )


def tagged(path, inside=True):
    return {"id": "t1", "kind": "tag", "tag": path, "inside": inside}


def field(ref, op, value=None, **more):
    return {
        "id": f"f{ref[:4].replace('.', '')}{op[:5].replace('_', '')}",
        "kind": "field",
        "field": ref,
        "op": op,
        "value": value,
        **more,
    }


def event(kind, **more):
    return {"id": "e1", "kind": "event", "event": kind, **more}


def mail(what, **more):
    return {"id": "m1", "kind": "mail", "what": what, **more}


def group(match, *lines, ident="g1"):
    return {
        "id": ident,
        "kind": "group",
        "match": match,
        "lines": [{**n, "id": f"{ident}{i}"} for i, n in enumerate(lines)],
    }


EVERYONE = " ".join(NAMES)


LATE = at("2026-12-31T23:30")  # still the old year in London, 1 January in Auckland


FEBRUARY = at("2027-02-28T08:00")  # in a year without a 29th; still the 28th in Auckland
