"""What one message says, taken along to another channel: the author's words, nothing made up, what
does not fit named."""

import re

import pytest
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.channels import CHANNELS, beginning, take_for
from meadowrun.core.content import carry, gist
from meadowrun.core.content.document import DocumentError, empty, take, texts
from meadowrun.core.content.lines import new_line, places
from meadowrun.core.content.push import texts_of

NAME = '{{ contact.first_name | default("friend", true) }}'
PATRONS = [{"id": "a", "kind": "field", "field": "tier", "op": "is", "value": ["Patron"]}]


def letter(**more):
    lines = [
        new_line("picture", id="p", src="/f/abc/hill.png", alt="The hill"),
        new_line("heading", id="h", text="Leonids on the hill"),
        new_line(
            "text",
            id="t",
            html=(
                f"<p>Dear {NAME},</p><p>The dome opens at seven &amp; closes at "
                "two.</p><p>Bring a coat.</p>"
            ),
        ),
        new_line(
            "button",
            id="b",
            label="Keep a place",
            href="https://hill.example/leonids?m={{ contact.reference }}",
        ),
        new_line("button", id="c", label="The map", href="https://hill.example/map"),
        new_line("footer", id="f", html="<p>Farrow Hill, Tarn Road.</p>"),
    ]
    return (
        empty()
        | {
            "subject": f"{NAME}, come and look up",
            "preheader": "Clear skies are likely",
            "lines": lines,
        }
        | more
    )


def along(source, document, target, asked=lambda lines: "k1"):
    made, left = carry.carried(
        source, document, document["lines"], target, "Farrow Hill", "Tarn Road", {}, asked
    )
    return take_for(target, made), left


def test_an_email_as_a_text_message():
    made, left = along("email", letter(), "sms")
    assert made["plain"] == (
        "Farrow Hill: Leonids on the hill. The dome opens at seven & closes at two. "
        "https://hill.example/leonids?m={{ contact.reference }}\nSTOP ends these"
    )
    assert left == [
        "the salutation",
        "every paragraph but the first",
        "every button but the first",
        "the pictures",
    ]


def test_an_email_as_a_notification():
    made, left = along("email", letter(), "push")
    assert (made["subject"], made["plain"]) == (
        f"{NAME}, come and look up",
        "The dome opens at seven & closes at two.",
    )
    push = made["push"]
    assert (push["href"], push["picture"]) == (
        "https://hill.example/leonids?m={{ contact.reference }}",
        "/f/abc/hill.png",
    )
    assert push["buttons"] == [{"label": "The map", "href": "https://hill.example/map"}]
    assert left == ["the salutation", "every paragraph but the first"]


def test_an_email_as_a_in_app_keeps_its_lines():
    made, left = along("email", letter(), "in_app")
    assert [line["type"] for line in made["lines"]] == ["picture", "heading", "text"] and made[
        "lines"
    ][2]["html"].startswith("<p>Dear {{")
    assert [(b["label"], b["act"]) for b in made["in_app"]["buttons"]] == [
        ("Keep a place", "open"),
        ("The map", "open"),
    ]
    assert made["subject"] == f"{NAME}, come and look up" and left == []


def test_words_for_some_stay_words_for_some():
    only = new_line(
        "only",
        id="o",
        otherwise=[new_line("text", id="x", html="<p>Seats are free.</p>")],
        cases=[
            {
                "id": "v",
                "name": "Patrons",
                "lines": PATRONS,
                "group": "",
                "content": [new_line("text", id="y", html="<p>Your seat is kept.</p>")],
            }
        ],
    )
    asked = []
    document = letter(lines=[new_line("heading", id="h", text="Tonight"), only])
    made, left = along("email", document, "sms", lambda lines: asked.append(lines) or "kept1")
    assert made["plain"] == (
        "Farrow Hill: Tonight. {% if when.kept1 %}Your seat is kept.{% else %}Seats are "
        "free.{% endif %}\nSTOP ends these"
    )
    assert asked == [PATRONS] and left == []


def test_versions_by_a_grouping_are_left_behind_and_everyone_elses_taken():
    only = new_line(
        "only",
        id="o",
        grouping=3,
        otherwise=[new_line("text", id="x", html="<p>Seats are free.</p>")],
        cases=[
            {
                "id": "v",
                "name": "",
                "lines": [],
                "group": "north",
                "content": [new_line("text", id="y", html="<p>By train.</p>")],
            }
        ],
    )
    made, left = along("email", letter(lines=[only]), "push")
    assert made["plain"] == "Seats are free." and left == ["the versions by a grouping"]


@pytest.mark.parametrize(
    ("source", "target", "subject", "kinds"),
    [
        ("sms", "email", "", ["text", "button", "footer"]),
        ("sms", "in_app", "", ["text"]),
        (
            "push",
            "email",
            "Clear tonight",
            ["picture", "heading", "text", "button", "button", "footer"],
        ),
        ("push", "in_app", "Clear tonight", ["picture", "heading", "text"]),
    ],
)
def test_short_ones_as_lines(source, target, subject, kinds):
    document = beginning(source, "Farrow Hill", "STOP")
    if source == "sms":
        document["plain"] = (
            f"Farrow Hill: Clear tonight, {NAME} <3. https://hill.example/tonight\nSTOP ends these"
        )
    else:
        document |= {
            "subject": "Clear tonight",
            "plain": "The dome is open.",
            "push": document["push"]
            | {
                "href": "https://hill.example/tonight",
                "picture": "/f/abc/m.png",
                "buttons": [{"label": "What is up", "href": "https://hill.example/up"}],
            },
        }
    made, _ = along(source, document, target)
    assert made["subject"] == subject and [line["type"] for line in made["lines"]] == kinds
    links = [line["href"] for line in made["lines"] if line["type"] == "button"] + [
        b["href"] for b in made.get("in_app", {}).get("buttons", ())
    ]
    assert links[0] == "https://hill.example/tonight"
    if source == "sms":
        said = next(line["html"] for line in made["lines"] if line["type"] == "text")
        assert said == f"<p>Clear tonight, {NAME} &lt;3.</p>"


def test_a_text_as_a_notification_and_back():
    document = beginning("sms", "Farrow Hill", "STOP") | {
        "plain": "Farrow Hill: The dome is open. https://hill.example/tonight\nSTOP ends these"
    }
    notification, _ = along("sms", document, "push")
    assert (notification["plain"], notification["push"]["href"]) == (
        "The dome is open.",
        "https://hill.example/tonight",
    )
    assert along("push", notification, "sms")[0]["plain"] == document["plain"]


def test_a_in_app_as_an_email_says_which_buttons_stay_behind():
    document = beginning("in_app", "Farrow Hill", "STOP") | {"subject": "Open night"}
    document["lines"] = [new_line("heading", id="h", text="Open night")]
    document["in_app"] = document["in_app"] | {
        "buttons": [
            {
                "label": "Come",
                "act": "open",
                "href": "https://hill.example/o",
                "days": 7,
                "event": "",
            },
            {"label": "Later", "act": "later", "href": "", "days": 3, "event": ""},
        ]
    }
    made, left = along("in_app", document, "email")
    assert [(line["type"], line.get("label")) for line in made["lines"]] == [
        ("heading", None),
        ("button", "Come"),
        ("footer", None),
    ]
    assert left == ["buttons that do more than open an address"]


def test_code_and_text_alone_give_their_words():
    code = letter(code="<h1>Leonids</h1><p>The dome opens.</p><p>Bring a coat.</p>", lines=[])
    made, left = along("email", code, "in_app")
    assert made["lines"][0][
        "html"
    ] == "<p>Leonids</p><p>The dome opens.</p><p>Bring a coat.</p>" and left == [
        "the looks of the code"
    ]
    plain = letter(
        text_only=True, plain=f"Dear {NAME},\n\nThe dome opens.\n\nFarrow Hill", lines=[]
    )
    assert along("email", plain, "push")[0]["plain"] == "The dome opens."


def test_a_copy_has_lines_of_its_own():
    first = take(letter())
    made, left = along("email", first, "email")
    assert not set(places(first["lines"])) & set(places(made["lines"])) and left == []
    assert [{**line, "id": ""} for line in made["lines"]] == [
        {**line, "id": ""} for line in first["lines"]
    ]


def test_one_that_only_chooses_cannot_be_taken_along():
    chosen = letter(one_of={"field": "contact.tier", "values": {"Patron": 2}, "otherwise": 3})
    with pytest.raises(DocumentError, match="chosen by a field"):
        along("email", chosen, "sms")
    assert along("email", chosen, "email")[0]["one_of"]["otherwise"] == 3


WORDS = st.lists(
    st.sampled_from(
        [
            "Open",
            "night",
            NAME,
            "tonight.",
            "£5 & more",
            "<b>",
            "Dear",
            "https://hill.example/x",
            "“Mars”",
            "{% if contact.town %}here{% endif %}",
            "é",
        ]
    ),
    min_size=1,
    max_size=6,
).map(" ".join)


@given(st.sampled_from(list(CHANNELS)), WORDS, WORDS, st.lists(WORDS, max_size=3))
def test_whatever_is_written_can_be_taken_and_names_only_fields_that_were_there(
    target, subject, heading, paragraphs
):
    lines = [
        new_line("heading", text=heading),
        *(new_line("text", html=f"<p>{gist._rich(p)}</p>") for p in paragraphs),
    ]
    document = take(empty() | {"subject": subject, "lines": lines})
    made, _ = along("email", document, target)
    words = " ".join(
        [t for _, _, t in texts(made)]
        + [t for _, t in (texts_of(made["push"]) if "push" in made else ())]
    )
    assert set(re.findall(r"contact\.\w+", words)) <= {"contact.first_name", "contact.town"}
    assert "MRFILL" not in words and words.count("{% if") == words.count("{% endif")
