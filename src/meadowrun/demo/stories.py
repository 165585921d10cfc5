"""What the demo's organisation wrote, for whom, and why. All of it invented."""

from typing import Any

from meadowrun.base.audit import Actor
from meadowrun.core.content import document as doc

#: Who made all of it.
IDA = Actor(None, "Ida Vance", "admin")
#: The topic of the members' letter, of whose readers so many in 100 are in the control group.
MEMBERS, CONTROL = 2, 15.0
SITE_KEY = "site_farrow_hill_demo"
FIRST_NAME = '{{ contact.first_name | titled | default("friend", true) }}'

SEGMENTS: dict[str, list[dict[str, Any]]] = {
    "Loyal members near renewal": [
        {
            "id": "a1",
            "kind": "field",
            "field": "region",
            "op": "is",
            "value": ["Farrow Vale", "Upper Tarn"],
        },
        {
            "id": "a2",
            "kind": "field",
            "field": "membership",
            "op": "is",
            "value": ["Household", "Patron"],
        },
        {"id": "a3", "kind": "field", "field": "renewal_date", "op": "in_next", "value": 90},
        {
            "id": "a4",
            "kind": "group",
            "match": "any",
            "lines": [
                {
                    "id": "a5",
                    "kind": "event",
                    "event": "visited",
                    "times": {"op": "at_least", "n": 2},
                    "span": {"last": 90},
                },
                {
                    "id": "a6",
                    "kind": "event",
                    "event": "app_opened",
                    "times": {"op": "at_least", "n": 1},
                    "span": {"last": 30},
                },
            ],
        },
        {
            "id": "a7",
            "kind": "group",
            "match": "none",
            "lines": [
                {"id": "a8", "kind": "event", "event": "membership_renewed", "span": {"last": 14}}
            ],
        },
    ],
    "Members": [{"id": "b1", "kind": "field", "field": "membership", "op": "not_blank"}],
    "Looked at tickets, did not buy": [
        {"id": "c1", "kind": "event", "event": "tickets_viewed", "span": {"last": 30}},
        {"id": "c2", "kind": "event", "event": "ticket_bought", "did": False, "span": {"last": 30}},
    ],
    "Dome regulars": [
        {
            "id": "d1",
            "kind": "event",
            "event": "visited",
            "times": {"op": "at_least", "n": 3},
            "span": {"last": 365},
        }
    ],
    "School contacts": [
        {"id": "e1", "kind": "field", "field": "company.kind", "op": "is", "value": ["School"]}
    ],
    "Birthdays in the next fortnight": [
        {"id": "f1", "kind": "field", "field": "birthday", "op": "yearly_next", "value": 14}
    ],
    "Gave generously this year": [
        {
            "id": "g1",
            "kind": "event",
            "event": "donated",
            "span": {"last": 365},
            "where": [{"detail": "amount", "op": "at_least", "value": 40}],
        }
    ],
}

#: name → subject, preheader, lines (type, text, and where a button leads)
MESSAGES: dict[str, tuple[str, str, list[tuple[str, str, str]]]] = {
    "Another year of stars": (
        f"{FIRST_NAME}, another year of stars?",
        "Your membership runs out soon; the dome keeps your place",
        [
            ("heading", "Another year of stars", ""),
            (
                "text",
                f'<p>Dear {FIRST_NAME},</p><p>your {{{{ contact.membership | default("", true) '
                f"}}}} membership runs until "
                '<b>{{ contact.renewal_date | day | default("the end of the year", true) }}</b>. '
                "The winter sky is the best "
                "of the year: come up and see it as a member.</p>",
                "",
            ),
            ("button", "Renew for a year", "/observatory/join"),
            (
                "text",
                (
                    '<p>Not sure yet? Have a look at <a href="@/observatory/programme">what is on '
                    "this winter</a>.</p>"
                ),
                "",
            ),
        ],
    ),
    "Leonid nights": (
        f"{FIRST_NAME}, the Leonids are coming",
        "Three nights, cocoa, and no moon",
        [
            ("heading", "Three nights of shooting stars", ""),
            (
                "text",
                f"<p>Dear {FIRST_NAME},</p><p>around the middle of the month the Leonids return. "
                "We open "
                '{{ fact.venue | default("the dome", true) }} from dusk until two, with blankets '
                "and cocoa.</p>",
                "",
            ),
            ("button", "Choose your night", "/observatory/tickets"),
            (
                "text",
                (
                    '<ul><li><a href="@/observatory/programme">What to '
                    "bring</a></li><li>Children up "
                    "to twelve come free</li></ul>"
                ),
                "",
            ),
        ],
    ),
    "Sky diary": (
        "What to see this month",
        "Planets, meteors, and a comet if we are lucky",
        [
            ("heading", "The sky this month", ""),
            (
                "text",
                f"<p>Hello {FIRST_NAME},</p><p>Saturn stands in the south after dark, Jupiter "
                "rises before ten, and in the small "
                "hours the winter hexagon is up.</p>",
                "",
            ),
            ("button", "See the programme", "/observatory/programme"),
            (
                "text",
                (
                    '<p>Clear night ahead? <a href="@/observatory/tickets">Tickets for '
                    "tonight</a>.</p>"
                ),
                "",
            ),
        ],
    ),
    "Lecture: moons with oceans": (
        "A lecture on moons with oceans",
        "Thursday evening, in the library under the dome",
        [
            ("heading", "Moons with oceans", ""),
            (
                "text",
                f"<p>Dear {FIRST_NAME},</p><p>four moons of our planets hide an ocean under the "
                "ice. What lives there? "
                "A lecture with pictures, and time for questions.</p>",
                "",
            ),
            ("button", "Book a seat", "/observatory/lectures"),
        ],
    ),
    "Thank you for coming": (
        f"Thank you, {FIRST_NAME}",
        "A few pictures, and a question",
        [
            ("heading", "It was good to have you here", ""),
            (
                "text",
                (
                    f"<p>Dear {FIRST_NAME},</p><p>the clouds held off just long enough. Would you "
                    "tell us how it was?</p>"
                ),
                "",
            ),
            ("button", "Answer three questions", "/observatory/survey"),
        ],
    ),
    "Your first night": (
        f"{FIRST_NAME}, your first night under the dome",
        "What to wear, where to park, and which way to look",
        [
            ("heading", "Your first night", ""),
            (
                "text",
                f"<p>Dear {FIRST_NAME},</p><p>welcome to the hill. The dome opens at dusk on every "
                "clear night; bring something warm, and let your eyes get used to the dark for "
                "twenty minutes.</p>",
                "",
            ),
            ("button", "See the next nights", "/observatory/programme"),
        ],
    ),
}
SUCCESS = {
    "Another year of stars": "membership_renewed",
    "Leonid nights": "ticket_bought",
    "Sky diary": "ticket_bought",
    "Lecture: moons with oceans": "lecture_booked",
    "Thank you for coming": "survey_answered",
}

#: score → what it means, days until what happened counts half, rules
SCORES: dict[str, tuple[str, int | None, list[dict[str, Any]]]] = {
    "Interest": (
        "How interested somebody is at the moment",
        60,
        [
            {
                "points": 10,
                "each": True,
                "most": 6,
                "lines": [{"id": "a", "kind": "event", "event": "visited"}],
            },
            {
                "points": 3,
                "each": True,
                "most": 10,
                "lines": [{"id": "a", "kind": "event", "event": "tickets_viewed"}],
            },
            {
                "points": 12,
                "each": True,
                "lines": [{"id": "a", "kind": "event", "event": "ticket_bought"}],
            },
            {
                "points": 4,
                "each": True,
                "most": 10,
                "lines": [{"id": "a", "kind": "mail", "what": "clicked"}],
            },
            {
                "points": 15,
                "each": False,
                "lines": [{"id": "a", "kind": "field", "field": "membership", "op": "not_blank"}],
            },
            {
                "points": -20,
                "each": False,
                "lines": [{"id": "a", "kind": "consent", "topic": 0, "state": "refused"}],
            },
        ],
    ),
    "Generosity": (
        "What somebody gave, in time and money; it is not forgotten",
        None,
        [
            {
                "points": 5,
                "each": True,
                "lines": [{"id": "a", "kind": "event", "event": "donated"}],
            },
            {"points": 20, "each": False, "lines": [{"id": "a", "kind": "tag", "tag": "helpers"}]},
        ],
    ),
}
#: tag → what it means, and of how many contacts one bears it, beginning with which
TAGS: dict[str, tuple[str, int, int]] = {
    "desk": ("What the desk noted", 0, 0),
    "desk/called": ("Spoken to by telephone this year", 61, 7),
    "desk/no-calls": ("Asked not to be telephoned", 431, 12),
    "guests": ("Came as somebody’s guest", 0, 0),
    "guests/spring-fair": ("Left an address at the stall", 83, 20),
    "guests/school-visit": ("Was here with a class", 139, 31),
    "helpers": ("Gives a hand", 211, 5),
    "helpers/telescopes": ("May handle the small telescopes", 389, 40),
    "helpers/till": ("Knows the till of the shop", 557, 77),
    "press": ("Writes about us", 1999, 400),
}
#: kind, name, tags
TAGGED = (
    ("segment", "Members", ["members"]),
    ("segment", "Loyal members near renewal", ["members/renewal"]),
    ("list", "Open night guests", ["guests"]),
)
#: name, kind, first day from today, tags, facts
CAMPAIGNS: list[tuple[str, str, int, list[str], dict[str, str]]] = [
    ("Sky diary", "Newsletter", -400, ["newsletter"], {}),
    (
        "Leonid nights",
        "Open night",
        -30,
        ["season/leonids", "nights"],
        {"venue": "the great dome", "ends_at": "two in the morning"},
    ),
    ("Autumn lectures", "Lecture", -80, ["lectures"], {"room": "the library under the dome"}),
    ("After your visit", "Open night", -300, ["nights"], {}),
    ("Renewals, winter", "Renewal", 2, ["members/renewal"], {"desk": "01632 960 140"}),
]
#: The limits that the observatory has set itself: channel (empty: all), tag, and how many of it one
#: person may get within a period.
LIMITS: list[tuple[str, str, dict[str, int]]] = [
    ("", "", {"day": 3, "week": 8}),
    ("email", "", {"day": 2, "week": 5, "month": 12}),
    ("sms", "", {"day": 1, "week": 2}),
    ("push", "", {"day": 2, "week": 5}),
    ("", "nights", {"week": 3}),
]
#: name, campaign, message, topic number or None, share of everyone known then
PAST: list[tuple[str, str, str, int | None, float]] = [
    ("Sky diary", "Sky diary", "Sky diary", 1, 0.7),
    ("Thank you for coming", "After your visit", "Thank you for coming", None, 0.12),
    ("Members’ letter", "Renewals, winter", "Another year of stars", 2, 1.0),
    ("Lecture invitation", "Autumn lectures", "Lecture: moons with oceans", 3, 0.45),
    ("Nights at the dome", "Leonid nights", "Leonid nights", 3, 0.6),
]


def document(
    subject: str, preheader: str, lines: list[tuple[str, str, str]], place: str, site: str
) -> doc.Json:
    """A document of these lines, with a footer; @ in a link and a leading / in a button lead to the
    village's website."""
    made = []
    for number, (kind, text, leads) in enumerate(lines):
        line = doc.new_line(kind) | {"id": f"m{number}"}
        if kind == "heading":
            line["text"] = text
        elif kind == "button":
            line |= {"label": text, "href": site + leads}
        else:
            line["html"] = text.replace('href="@', f'href="{site}')
        made.append(line)
    footer = doc.new_line("footer") | {
        "id": "mf",
        "html": f"<p>{place}. You get this because you asked us to write.</p>",
    }
    return {
        "subject": subject,
        "preheader": preheader,
        "plain": None,
        "settings": dict(doc.SETTINGS),
        "lines": [*made, footer],
    }
