"""What the demo keeps once and uses in many messages, and a message that uses all of it."""

import datetime as dt

from sqlalchemy import orm

from meadowrun.base.audit import Actor
from meadowrun.base.settings import Settings
from meadowrun.core.channels import beginning
from meadowrun.core.content.document import empty
from meadowrun.core.content.lines import Json, new_line
from meadowrun.core.content.sms import STOP_WORD
from meadowrun.demo import artwork
from meadowrun.demo.stories import FIRST_NAME
from meadowrun.gateways.outgoing import machine_of
from meadowrun.messages import actions, keeping
from meadowrun.messages import shared as shared_parts
from meadowrun.messages.models import Message, SharedPart
from meadowrun.people.actions import store_file
from meadowrun.people.queries import dictionary
from meadowrun.tracking.actions import subscribe_device
from meadowrun.village.apps import new_app
from meadowrun.village.browsers import new_browser
from meadowrun.village.store import Store

LOOKS: Json = {
    "heading_font": "Georgia, serif",
    "accent": "#1f2b45",
    "on_accent": "#ffffff",
    "round": 20,
}
PRICES = (
    "Membership,Ticket,Guests\nStudent,6.00,1\nSingle,9.00,1\nHousehold,8.00,4\nPatron,0.00,6\n"
)


def _is(field: str, value: str) -> list[Json]:
    return [{"id": "a", "kind": "field", "field": field, "op": "is", "value": [value]}]


def house(
    session: orm.Session, actor: Actor, now: dt.datetime, settings: Settings, regions: int
) -> dict[str, SharedPart]:
    """House style, a feed, a table, and two shared parts, one of which adapts to regions."""
    words = dictionary(session)
    keeping.keep_house(
        session,
        actor,
        now,
        LOOKS
        | {
            "greetings": (
                "0:00 Good evening\n5:00 Good morning\n12:00 Good afternoon\n17:00 Good evening"
            ),
            "agreed_words": (
                "dark sky, the hill, cocoa, Farrow, Tarnside, Ossenmere, Leonids, "
                "Perseids, Household, Patron"
            ),
            "avoided_words": "customers, blast, cheap",
            "pages": "\n".join(
                f"{name}, Farrow Hill on {name}, {settings.village_url}/observatory/{name.lower()}"
                for name in ("Hedgerow", "Millpond", "Rookery")
            ),
            "proof_group": "ida@farrowhill.example, noor@farrowhill.example",
        },
    )
    keeping.keep_feed(
        session,
        actor,
        now,
        {
            "key": "clear_night",
            "url": f"{settings.village_url}/weather/next-clear-night",
            "part": "night",
            "timeout_ms": "1500",
            "keep_seconds": "300",
            "when_down": "fallback",
            "fallback": '"the next clear night"',
            "sample": '"Friday 27 November"',
        },
        settings.feed_hosts,
    )
    keeping.keep_table(
        session, actor, now, "prices", PRICES.encode(), "Membership", "contact.membership", words
    )
    place = f"{settings.organisation}, {settings.postal_address}"
    groups = [(p["key"], p["name"]) for p in words.grouping(regions) or []]
    ways = {
        "Farrow Vale": "The night bus 7 leaves Farrow market at six and comes back at eleven.",
        "Tarnside": "Share a car from Tarnside; the last bend is icy.",
        "Upper Tarn": "Walk up by the quarry path; bring a torch.",
    }
    adapting = new_line(
        "only",
        grouping=regions,
        cases=[
            {
                "id": f"r{n}",
                "name": name,
                "lines": [],
                "group": key,
                "content": [new_line("text", html=f"<p>{ways.get(name, '')}</p>")],
            }
            for n, (key, name) in enumerate(groups)
        ],
        otherwise=[new_line("text", html="<p>Park at the lower gate; we light the path.</p>")],
    )
    return {
        "how": shared_parts.keep_part(
            session, actor, now, "How to get up the hill", [adapting], words
        ),
        "footer": shared_parts.keep_part(
            session,
            actor,
            now,
            "Footer for visitors",
            [
                new_line(
                    "icons",
                    icons=[
                        {"icon": icon, "href": f"{settings.village_url}/observatory/{icon}"}
                        for icon in ("hedgerow", "millpond", "rookery")
                    ],
                ),
                new_line(
                    "footer", html=f"<p>{place}. You get this because you asked us to write.</p>"
                ),
            ],
            words,
        ),
    }


def welcome(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    settings: Settings,
    shared: dict[str, SharedPart],
) -> Message:
    """“Welcome to the hill”: a picture, words for some, columns, a list of conditions, a feed, kept
    rows."""

    def stored(name: str, content: bytes, width: int, height: int) -> str:
        return f"/f/{store_file(session, now, name, 'image/png', content, width, height).handle}"

    site = f"{settings.village_url}/observatory"
    columns = [
        [
            new_line(
                "picture",
                src=stored(f"{what}.png", artwork.panel(what), 360, 220),
                alt=words,
                link=f"{site}/{leads}",
            ),
            new_line("text", align="center", html=f'<p><a href="{site}/{leads}">{title}</a></p>'),
        ]
        for what, words, title, leads in (
            ("dome", "The dome with its slit open", "Dome", "tickets"),
            ("library", "Shelves of the library", "Library", "programme"),
            ("shop", "The shop with its awning", "Shop", "join"),
        )
    ]
    only = new_line(
        "only",
        cases=[
            {
                "id": "patron",
                "name": "Patrons",
                "lines": _is("membership", "Patron"),
                "group": "",
                "content": [
                    new_line(
                        "text",
                        html=(
                            "<p>Your Patron lounge is heated from six; bring up to {{ "
                            "table.prices.guests }} guests.</p>"
                        ),
                    )
                ],
            },
            {
                "id": "student",
                "name": "Students",
                "lines": _is("membership", "Student"),
                "group": "",
                "content": [
                    new_line(
                        "text",
                        html=(
                            "<p>Your loan telescope is ready at the desk; a night costs you {{ "
                            'table.prices.ticket | money("£") }}.</p>'
                        ),
                    )
                ],
            },
        ],
    )
    document = empty(LOOKS) | {
        "subject": f"{FIRST_NAME}, the dome is open to you",
        "preheader": "Your first clear night at Farrow Hill is on us",
        "lines": [
            new_line(
                "picture",
                src=stored("dome-dusk.png", artwork.dome(), 1200, 480),
                alt="The dome at dusk",
            ),
            new_line("heading", text="Welcome to the hill"),
            new_line(
                "text",
                html=f"<p>{{{{ greeting }}}}, {FIRST_NAME}. Your {{{{ contact.membership | "
                f'default("new", true) }}}} '
                'membership has begun. Come up on <b>{{ feed.clear_night | default("the next '
                'clear night", true) }}</b> '
                'and bring a blanket{% if contact.town == "Farrow" %}; you live close enough to '
                "walk{% endif %}.</p>",
            ),
            only,
            new_line("columns", split=[33, 33, 34], columns=columns),
            new_line("button", label="Choose your night", href=f"{site}/tickets"),
            new_line("shared", part=shared["how"].id, version=shared["how"].version),
            new_line("shared", part=shared["footer"].id, version=shared["footer"].version),
        ],
    }
    return actions.create(
        session, actor, now, "Welcome to the hill", actions.take(document, dictionary(session))
    )


def short_ones(session: orm.Session, actor: Actor, now: dt.datetime, settings: Settings) -> None:
    """A text message and a push notification for a clear night, and an in-app message on the
    website."""
    words, site = dictionary(session), f"{settings.village_url}/observatory"
    text = beginning("sms", settings.organisation, STOP_WORD) | {
        "plain": 'Farrow Hill: {{ contact.first_name | default("Hello", true) }}, the sky clears '
        "tonight. Dome open till 11: "
        f"{site}/tickets STOP ends these"
    }
    actions.create(
        session, actor, now, "Clear tonight, by text", actions.take(text, words, "sms"), "sms"
    )
    notification = beginning("push", settings.organisation, STOP_WORD) | {
        "subject": 'Clear tonight, {{ contact.first_name | default("friend", true) }}',
        "plain": "The dome opens at seven. Bring a blanket.",
        "push": {
            "href": f"{site}/tickets",
            "ttl": 14_400,
            "buttons": [
                {"label": "Choose a time", "href": f"{site}/tickets"},
                {"label": "What is up", "href": f"{site}/programme"},
            ],
        },
    }
    actions.create(
        session,
        actor,
        now,
        "Clear tonight, as a push notification",
        actions.take(notification, words, "push"),
        "push",
    )
    in_app = beginning("in_app", settings.organisation, STOP_WORD)
    in_app |= {
        "subject": "Become a member",
        "lines": [
            new_line(
                "heading",
                text='Nice to see you again, {{ contact.first_name | default("stargazer", true) }}',
                align="center",
            ),
            new_line(
                "text",
                align="center",
                html="<p>Members come up the hill on every clear night, without booking. "
                '{% if contact.town == "Farrow" %}You could walk.{% else %}There is room to '
                "park.{% endif %}</p>",
            ),
        ],
    }
    in_app["in_app"] |= {
        "page": "/observatory*",
        "until": f"{now.date() + dt.timedelta(days=60)}",
        "times": 3,
        "gap_days": 2,
        "unless": "membership_started",
        "buttons": [
            {"label": "See what members get", "act": "open", "href": f"{site}/join"},
            {"label": "Not now", "act": "later", "days": 7},
        ],
    }
    actions.create(
        session,
        actor,
        now,
        "Membership, on the website",
        actions.take(in_app, words, "in_app"),
        "in_app",
    )


def allow_notifications(
    session: orm.Session, store: Store, site: str, now: dt.datetime, scale: int
) -> None:
    """Some people's browsers in the village allow push notifications, and some have the app on
    their phones."""
    for contact in range(7, min(scale, 8000), 40):
        subscribe_device(
            session,
            now - dt.timedelta(days=contact % 90),
            contact,
            new_browser(store, str(contact), site),
            machine_of(site),
        )
    for contact in range(9, min(scale, 8000), 60):
        phone = new_app(store, str(contact), "ios" if contact // 60 % 2 else "android")
        subscribe_device(session, now - dt.timedelta(days=contact % 90), contact, phone)
