"""What each of 1,000 people got, against an independent reading of a message's rules; a message
chosen by a field, and the signature of a person's own desk contact."""

import datetime as dt
import json
import random
import re

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.core.content.document import empty
from meadowrun.core.content.lines import new_line
from meadowrun.gateways import smtp
from meadowrun.messages import actions as messages
from meadowrun.messages import asking, keeping, queries, reading
from meadowrun.messages import shared as shared_parts
from meadowrun.messages.models import Message
from meadowrun.people import actions as people
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.segments import groupings
from meadowrun.sends import actions as sends
from meadowrun.sends.models import Send
from tests.conftest import NOW
from tests.store.people import IDA, kinds, ready_send
from tests.store.sending import Keeper, counts, run_all, segment, start
from tests.store.web import flat

TOWNS = ("Farrow", "Tarnside", "Ossenmere", None)
TIERS = ("Patron", "Student", "Single", None)
ZONES = ("Europe/London", "Asia/Tokyo", "America/New_York", None)


@pytest.fixture
def keeper(monkeypatch):
    made = Keeper()
    monkeypatch.setattr(smtp, "gateway", lambda settings, signer=None, route="first": made)
    return made


def crowd(session, count=1000):
    """People of every kind, by a seeded die; what each is like, by address."""
    dice, found = random.Random(4), {}
    for number in range(1, count + 1):
        person = {
            "town": dice.choice(TOWNS),
            "tier": dice.choice(TIERS),
            "visits": dice.choice((None, 0, 1, 2, 3, 9)),
            "zone": dice.choice(ZONES),
            "name": dice.choice(("Ann", "bo & co", "{{ contact.town }}", None)),
            "bought": dice.random() < 0.3,
        }
        found[f"p{number}@post.example"] = person
        attributes = {
            k: v
            for k, v in (("tier", person["tier"]), ("visits", person["visits"]))
            if v is not None
        }
        session.execute(
            sa.text(
                "INSERT INTO contacts (id, email, email_key, email_usable, first_name, town, "
                "timezone, attributes, search_key, name_key, "
                "created_at, updated_at) VALUES (:id, :email, :email, true, :name, :town, :zone, "
                "CAST(:attributes AS jsonb), '', '', :now, :now)"
            ),
            {
                "id": number,
                "email": f"p{number}@post.example",
                "name": person["name"],
                "town": person["town"],
                "zone": person["zone"],
                "attributes": json.dumps(attributes),
                "now": NOW,
            },
        )
        session.execute(
            sa.text(
                "INSERT INTO consents (contact_id, channel, topic_id, agreed, at, how) VALUES "
                "(:id, 'email', 0, true, :now, 't')"
            ),
            {"id": number, "now": NOW},
        )
        if person["bought"]:
            session.execute(
                sa.text(
                    "INSERT INTO events (contact_id, at, kind_id) SELECT :id, :at, id FROM "
                    "event_kinds WHERE key = 'ticket_bought'"
                ),
                {"id": number, "at": NOW - dt.timedelta(days=2)},
            )
    return found


def field(name, value):
    return [{"id": "a", "kind": "field", "field": name, "op": "is", "value": [value]}]


def text(words):
    return [new_line("text", html=f"<p>{words}</p>")]


def case(ident, lines, words):
    return {"id": ident, "name": ident, "lines": lines, "group": "", "content": text(words)}


def letter(session, words):
    """Three conditions, words for some by a field and by sentences, an adaptive block by a
    grouping as a shared part, a table and the greeting."""
    parted = groupings.create(session, IDA, NOW, "Where")
    for town in ("Farrow", "Tarnside"):
        groupings.change(
            session,
            IDA,
            NOW,
            words,
            parted,
            {"do": "set", "name": town, "lines": field("town", town)},
        )
    words = dictionary(session)
    keys = [p["key"] for p in words.grouping(parted.id)]
    adaptive = new_line(
        "only",
        grouping=parted.id,
        otherwise=text("ADAPT-else"),
        cases=[
            {"id": f"part{n}", "name": "", "lines": [], "group": key, "content": text(f"ADAPT-{n}")}
            for n, key in enumerate(keys)
        ],
    )
    keen = asking.keep(
        session,
        [
            {"id": "a", "kind": "event", "event": "ticket_bought", "span": {"last": 30}},
            {"id": "b", "kind": "field", "field": "visits", "op": "at_least", "value": 2},
        ],
        words,
    )
    said = new_line(
        "text", html=f"<p>{{% if when.{keen.key} %}}SAID-keen{{% else %}}SAID-else{{% endif %}}</p>"
    )
    part = shared_parts.keep_part(session, IDA, NOW, "By town", [adaptive, said], words)
    keeping.keep_table(
        session,
        IDA,
        NOW,
        "prices",
        b"tier,price\nPatron,0\nStudent,6\n",
        "tier",
        "contact.tier",
        words,
    )
    return messages.take(
        empty()
        | {
            "subject": "{{ contact.first_name | default('you', true) }}",
            "lines": [
                new_line(
                    "only",
                    cases=[
                        case("patrons", field("tier", "Patron"), "TIER-patron"),
                        case("anyfarrow", field("town", "Farrow"), "TIER-farrow"),
                    ],
                    otherwise=text("TIER-else"),
                ),
                new_line(
                    "columns",
                    columns=[
                        [
                            new_line(
                                "only",
                                cases=[
                                    case(
                                        "often",
                                        [
                                            {
                                                "id": "a",
                                                "kind": "field",
                                                "field": "visits",
                                                "op": "at_least",
                                                "value": 3,
                                            }
                                        ],
                                        "OFTEN-yes",
                                    )
                                ],
                            )
                        ],
                        [
                            new_line(
                                "only",
                                cases=[
                                    case(
                                        "buyers",
                                        [
                                            {
                                                "id": "a",
                                                "kind": "event",
                                                "event": "ticket_bought",
                                                "span": {"last": 30},
                                            }
                                        ],
                                        "BUY-yes",
                                    )
                                ],
                                otherwise=text("BUY-no"),
                            )
                        ],
                    ],
                ),
                new_line(
                    "text",
                    html='<p>NEAR-{% if contact.town in ["Farrow", "Ossenmere"] and not '
                    'contact.tier == "Single" %}yes{% else %}no{% endif %} '
                    'PRICE-{{ table.prices.price | money("£") | default("ask", true) }} GREET-{{ '
                    "greeting }}</p>",
                ),
                new_line("shared", part=part.id, version=1),
                new_line("footer", html="<p>Us</p>"),
            ],
        },
        words,
    )


def by_hand(person):
    """The rules, read by a person: what somebody should find in the mail."""
    zone = {"Asia/Tokyo": 9, "America/New_York": -5}.get(person["zone"], 0)
    hour = (NOW.hour + zone) % 24
    return {
        "TIER-patron"
        if person["tier"] == "Patron"
        else "TIER-farrow"
        if person["town"] == "Farrow"
        else "TIER-else",
        "SAID-keen" if person["bought"] and (person["visits"] or 0) >= 2 else "SAID-else",
        *(["OFTEN-yes"] if (person["visits"] or 0) >= 3 else []),
        "BUY-yes" if person["bought"] else "BUY-no",
        "NEAR-yes"
        if person["town"] in ("Farrow", "Ossenmere") and person["tier"] != "Single"
        else "NEAR-no",
        {"Patron": "PRICE-£0.00", "Student": "PRICE-£6.00"}.get(person["tier"], "PRICE-ask"),
        "GREET-Good morning"
        if 5 <= hour < 12
        else "GREET-Good afternoon"
        if 12 <= hour < 17
        else "GREET-Good evening",
        {"Farrow": "ADAPT-0", "Tarnside": "ADAPT-1"}.get(person["town"], "ADAPT-else"),
    }


def found_in(words):
    return set(
        re.findall(r"(?:TIER|OFTEN|BUY|NEAR|PRICE|ADAPT|SAID)-[\w£.]+|GREET-Good \w+", words)
    )


def with_fields(session):
    kinds(session)
    people.add_field(
        session, IDA, NOW, "contact", "tier", "choice", ["Patron", "Student", "Single"]
    )
    people.add_field(session, IDA, NOW, "contact", "visits", "number", [])
    session.flush()


def test_each_of_a_thousand_people_reads_what_the_rules_say(
    database, settings, job_context, keeper, web
):
    assert NOW.utcoffset() == dt.timedelta(0) and NOW.month == 11, (
        "by_hand counts with winter clocks"
    )
    with clock.at(NOW), database.session() as session:
        with_fields(session)
        everyone = crowd(session)
        send = ready_send(session, NOW, {"in": [{"segment": segment(session).id}], "out": []})
        document = letter(session, dictionary(session))
        message = session.get_one(Message, send.message_id)
        messages.save(session, IDA, NOW, message, document, message.version, dictionary(session))
        ident = send.id
        readers, size = reading.who_reads(
            Moment(session, dictionary(session), NOW, dt.UTC), message.document
        )
    start(database, settings, ident, 1000)
    run_all(database, ident)
    assert len(keeper.letters) == 1000 and counts(database, ident)[0] == {"delivered": 1000}
    wrong = {
        x.to: (found_in(x.text), by_hand(everyone[x.to]))
        for x in keeper.letters
        if found_in(x.text) != by_hand(everyone[x.to])
    }
    assert wrong == {}
    assert all(
        found_in(re.sub(r"<[^>]*>", " ", x.html)) == by_hand(everyone[x.to]) for x in keeper.letters
    )
    # A name that looks like a template is only ever a name.
    assert {x.subject for x in keeper.letters} == {"Ann", "bo & co", "{{ contact.town }}", "you"}
    # The margin's counts are those of the rules, too; and what was sent can be shown again as it
    # was.
    assert size == 1000
    assert [v.count for v in readers[0].versions] == [
        sum(p["tier"] == "Patron" for p in everyone.values()),
        sum(p["town"] == "Farrow" and p["tier"] != "Patron" for p in everyone.values()),
    ]
    first = keeper.letters[0]
    with database.session() as session:
        session.execute(
            sa.text("UPDATE contacts SET town = 'Elsewhere', attributes = '{}' WHERE id = :id"),
            {"id": first.contact_id},
        )
    again = web.get(f"/sends/{ident}/mail/{first.contact_id}.html").text
    assert found_in(re.sub(r"<[^>]*>", " ", again)) == by_hand(everyone[first.to])


def test_a_message_is_chosen_by_a_fields_value(database, settings, job_context, keeper):
    with clock.at(NOW), database.session() as session:
        with_fields(session)
        everyone = crowd(session, 60)
        words = dictionary(session)
        made = {
            tier: messages.create(
                session,
                IDA,
                NOW,
                f"For {tier}",
                messages.take(
                    empty()
                    | {
                        "subject": f"For {tier}",
                        "lines": [
                            new_line("button", label="Go", href=f"https://x.example/{tier}"),
                            new_line("footer"),
                        ],
                    },
                    words,
                ),
            )
            for tier in ("Patron", "Student")
        }
        send = ready_send(session, NOW, {"in": [{"segment": segment(session).id}], "out": []})
        message = session.get_one(Message, send.message_id)
        messages.save(
            session,
            IDA,
            NOW,
            message,
            empty()
            | {
                "subject": "By tier",
                "one_of": {
                    "field": "contact.tier",
                    "values": {tier: m.id for tier, m in made.items()},
                    "otherwise": 0,
                },
            },
            message.draft,
            words,
        )
        ident = send.id
    start(database, settings, ident, 60)
    run_all(database, ident)
    tiers = {address: p["tier"] for address, p in everyone.items()}
    assert {x.to: x.subject for x in keeper.letters} == {
        a: f"For {t}" for a, t in tiers.items() if t in made
    }
    assert counts(database, ident)[0] == {
        "delivered": len(keeper.letters),
        "not_rendered": 60 - len(keeper.letters),
    }
    # Links of both are told apart.
    assert len({re.search(r"/c/[^/]+/(\d+)", x.html).group(1) for x in keeper.letters}) == 2
    with database.session() as session:
        assert session.get_one(Send, ident).edition_id and queries.editions(session, message.id)


def test_signed_by_the_persons_own_desk_contact(database, settings, job_context, keeper):
    with clock.at(NOW), database.session() as session:
        with_fields(session)
        for label in ("Desk name", "Desk email"):
            people.add_field(session, IDA, NOW, "contact", label, "text", [])
        session.flush()
        crowd(session, 4)
        for number, desk in (
            (1, {"desk_name": "Will Tamm", "desk_email": "will@farrowhill.example"}),
            (2, {"desk_name": "Nobody"}),
        ):
            session.execute(
                sa.text(
                    "UPDATE contacts SET attributes = attributes || CAST(:desk AS jsonb) WHERE "
                    "id = :id"
                ),
                {"id": number, "desk": json.dumps(desk)},
            )
        sender = sends.save_sender(
            session,
            IDA,
            NOW,
            "The desk",
            "desk@farrowhill.example",
            "",
            "Yours, the desk",
            "contact.desk_name",
            "contact.desk_email",
        )
        send = ready_send(session, NOW, {"in": [{"segment": segment(session).id}], "out": []})
        send.sender_id = sender.id
        message = session.get_one(Message, send.message_id)
        messages.save(
            session,
            IDA,
            NOW,
            message,
            empty()
            | {
                "subject": "Hi",
                "lines": [
                    new_line("text", html="<p>{{ sender.name }}: {{ sender.signature }}</p>"),
                    new_line("footer"),
                ],
            },
            message.version,
            dictionary(session),
        )
        ident = send.id
    start(database, settings, ident, 4)
    run_all(database, ident)
    assert {(x.contact_id, x.from_name, x.from_address) for x in keeper.letters} == {
        (1, "Will Tamm", "will@farrowhill.example"),
        *((n, "The desk", "desk@farrowhill.example") for n in (2, 3, 4)),
    }
    assert all(f"{x.from_name}: Yours, the desk" in x.text for x in keeper.letters)


def test_the_page_that_chooses_by_a_field(web, database):
    with clock.at(NOW), database.session() as session:
        with_fields(session)
        everyone = crowd(session, 40)
        words = dictionary(session)
        made = [
            messages.create(
                session, IDA, NOW, name, messages.take(empty() | {"subject": name}, words)
            ).id
            for name in ("By tier", "For patrons")
        ]
    page = web.get(f"/messages/{made[0]}/chosen-by?field=contact.tier").text
    patrons = sum(p["tier"] == "Patron" for p in everyone.values())
    assert re.search(rf"Patron<input[^>]*></td><td class=\"num\">{patrons}</td>", flat(page))
    form = {
        "field": "contact.tier",
        "value": ["Patron", "Student"],
        "for": [str(made[1]), "0"],
        "otherwise": "0",
    }
    assert web.post(f"/messages/{made[0]}/chosen-by", data=form).status_code == 303
    assert "Chosen by a field" in web.get(f"/messages/{made[0]}", follow_redirects=True).text
    with database.session() as session:
        assert session.get_one(Message, made[0]).document["one_of"] == {
            "field": "contact.tier",
            "values": {"Patron": made[1]},
            "otherwise": 0,
        }
    none = web.post(f"/messages/{made[0]}/chosen-by", data=form | {"for": ["0", "0"]})
    assert none.status_code == 422 and "at least one value" in none.text
    web.post(f"/messages/{made[0]}/chosen-by", data={"stop": "1"})
    assert web.get(f"/messages/{made[0]}").status_code == 200
