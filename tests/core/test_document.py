"""From lines to a mail: what comes in is cleaned, what goes out is complete."""

import email
import email.policy
import re

import pytest
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.content import document as doc
from meadowrun.core.content.checks import checks
from meadowrun.core.content.compiled import compile_document
from meadowrun.core.content.differences import differences
from meadowrun.core.content.fillins import TOKENS
from meadowrun.core.content.findings import About
from meadowrun.core.content.plain import plain_text
from meadowrun.core.content.rendering import Renderer
from meadowrun.gateways.email import Letter, mime
from tests.luck import tries

PUBLIC = "http://mail.example"


def message(*lines, subject="Hello", preheader="Look", **more):
    full = [
        {**doc.new_line(kind), "id": f"l{n}", **values} for n, (kind, values) in enumerate(lines)
    ]
    return doc.take({"subject": subject, "preheader": preheader, "lines": full, **more})


FOOTER = ("footer", {"html": "<p>Farrow Hill, Tarn Road</p>"})


def test_html_keeps_our_tags_and_loses_the_rest():
    dirty = (
        '<p onclick="x()">A <script>alert(1)</script><b>bold</b> <img src=x> <a '
        'href="javascript:x()">bad</a> '
        '<a href="https://ok.example" target="_blank">good</a> {{ contact.first_name | '
        'default("you & me", true) }}</p>'
    )
    clean = doc.clean_html(dirty)
    assert (
        "script" not in clean
        and "onclick" not in clean
        and "<img" not in clean
        and "javascript" not in clean
    )
    assert '<a href="https://ok.example">good</a>' in clean
    assert '{{ contact.first_name | default("you & me", true) }}' in clean


def test_a_fill_in_survives_as_a_links_address():
    assert 'href="{{ fact.page }}"' in doc.clean_html('<p><a href="{{ fact.page }}">x</a></p>')


@pytest.mark.parametrize(
    ("data", "why"),
    [
        ({"lines": [{"id": "a", "type": "video"}]}, "no type"),
        ({"lines": [{"id": "a!", "type": "space"}]}, "no id of its own"),
        ({"lines": [], "subject": "{{ nonsense }}"}, "not a field that can be filled in"),
        ({"lines": [], "settings": {"ink": "red;}"}}, "not a colour"),
        ({"lines": [{"id": "a", "type": "heading", "text": "x" * 50_000}]}, "longer than"),
        ([], "not an object"),
    ],
)
def test_what_cannot_be_taken(data, why):
    with pytest.raises(doc.DocumentError, match=why):
        doc.take(data)


def test_the_whole_mail():
    made = message(
        ("heading", {"text": "Come & see {{ fact.venue }}"}),
        (
            "text",
            {
                "html": '<p>Dear {{ contact.first_name | default("friend", true) }}, <a '
                'href="https://a.example/x?y=1&amp;z=2">'
                "read on</a></p>"
            },
        ),
        ("button", {"label": "Book", "href": "https://a.example/book/{{ contact.town }}"}),
        FOOTER,
        subject='{{ contact.first_name | default("Hello", true) }}, tonight',
    )
    compiled = compile_document(made, PUBLIC)
    assert [(x.number, x.label, x.href) for x in compiled.links] == [
        (0, "read on", "https://a.example/x?y=1&z=2"),
        (1, "Book", "https://a.example/book/{{ contact.town }}"),
    ]
    assert compiled.refs == ("contact.first_name", "contact.town", "fact.venue")
    mail = Renderer(compiled).render(
        {
            "contact": {"first_name": "A\r\nBcc: x@y", "town": "<Tarn>"},
            "company": {},
            "fact": {"venue": "the dome"},
            "token": dict.fromkeys(TOKENS, "TOK"),
        }
    )
    assert mail.subject == "A Bcc: x@y, tonight"
    assert f'href="{PUBLIC}/c/TOK/0"' in mail.html and f'href="{PUBLIC}/c/TOK/1"' in mail.html
    assert f"{PUBLIC}/o/TOK" in mail.html and f'href="{PUBLIC}/u/TOK"' in mail.html
    assert "Come &amp; see the dome" in mail.html
    assert "MRPART" not in mail.html and "{{" not in mail.html
    assert (
        f"read on ({PUBLIC}/c/TOK/0)" in mail.text and f"Unsubscribe: {PUBLIC}/u/TOK" in mail.text
    )
    assert "Come & see the dome\n" in mail.text


def test_an_edited_plain_text_keeps_the_way_out():
    made = message(FOOTER, plain="Only this, {{ contact.first_name }}.")
    assert (
        plain_text(made, made["lines"], "http://out")
        == "Only this, {{ contact.first_name }}.\n\nUnsubscribe: http://out\n"
    )


word = st.text(
    alphabet=st.characters(
        codec="utf-8", exclude_characters="{}%#\x00", exclude_categories=("Cs", "Cc")
    ),
    max_size=30,
)


@tries(60)
@given(
    st.lists(
        st.tuples(st.sampled_from(["heading", "text", "button", "divider", "space"]), word),
        max_size=8,
    ),
    word,
)
def test_any_document_becomes_a_mail_that_reads_back(lines, name):
    """Every fill-in survives; the MIME reads back to the very texts with Python's own parser."""
    made = message(
        *[
            (
                kind,
                {"text": text + "{{ contact.n }}"}
                if kind == "heading"
                else {
                    "html": "<p>"
                    + text.replace("<", "&lt;").replace("&", "&amp;")
                    + "{{ contact.n }}</p>"
                }
                if kind == "text"
                else {"label": text + "x", "href": "https://a.example"}
                if kind == "button"
                else {},
            )
            for kind, text in lines
        ],
        FOOTER,
    )
    compiled = compile_document(made, PUBLIC)
    wanted = sum(kind in ("heading", "text") for kind, _ in lines)
    assert len(re.findall(r"\{\{ contact\.n \}\}", compiled.html)) == wanted
    mail = Renderer(compiled).render(
        {"contact": {"n": name}, "company": {}, "fact": {}, "token": dict.fromkeys(TOKENS, "TOK")}
    )
    letter = Letter(
        "k",
        1,
        "Ünïcode “Sender”",
        "a@b.example",
        "",
        "to@b.example",
        "r@b.example",
        mail.subject,
        mail.html,
        mail.text,
        0.0,
        "<k@b.example>",
        "http://out",
    )
    parsed = email.message_from_bytes(mime(letter), policy=email.policy.default)
    assert parsed.get_body(("plain",)).get_content().replace("\r\n", "\n") == mail.text.replace(
        "\r\n", "\n"
    )
    assert parsed.get_body(("html",)).get_content().replace("\r\n", "\n") == mail.html.replace(
        "\r\n", "\n"
    )
    assert parsed["List-Unsubscribe-Post"] == "List-Unsubscribe=One-Click"
    assert parsed["From"].addresses[0].display_name == "Ünïcode “Sender”"


@given(st.text(max_size=200))
def test_no_value_ever_adds_a_header(text):
    letter = Letter(
        "k",
        1,
        text,
        "a@b.example",
        "",
        "to@b.example",
        "r@b.example",
        text,
        "x",
        "x",
        0.0,
        "<k@b.example>",
    )
    head = mime(letter).split(b"\r\n\r\n", 1)[0]
    names = [line.split(b":")[0] for line in head.split(b"\r\n") if line[:1] not in (b" ", b"\t")]
    assert names == [
        b"From",
        b"To",
        b"Subject",
        b"Date",
        b"Message-ID",
        b"MIME-Version",
        b"Content-Type",
    ]


def found(document, known=("contact.first_name",), facts=(), blanks=None):
    return [(c.level, c.text) for c in checks(document, About(known, facts, blanks or {}, 5000))]


def test_checks_name_what_must_be_mended():
    bad = message(
        ("button", {"label": "", "href": "nowhere"}),
        ("picture", {"src": "https://a.example/x.png"}),
        ("text", {"html": "<p>{{ contact.shoe_size }} {{ fact.venue }}</p>"}),
        subject="",
        preheader="",
    )
    said = found(bad)
    for level, words in (
        ("must", "There is no subject."),
        ("must", "no unsubscribe link"),
        ("must", "no field “shoe_size”"),
        ("must", "no fact “venue”"),
        ("must", "does not begin with https://"),
        ("must", "has no text"),
        ("should", "no alternative text"),
        ("should", "no preheader"),
    ):
        assert any(level == a and words in b for a, b in said), (level, words, said)


@pytest.mark.parametrize(
    ("lines", "missing"),
    [
        ((FOOTER,), False),
        ((("text", {"html": '<p><a href="{{ unsubscribe }}">Leave</a>, Farrow Hill</p>'}),), False),
        ((("button", {"label": "Leave", "href": "{{ unsubscribe }}"}),), False),
        ((("text", {"html": "<p>{{ unsubscribe }}</p>"}),), True),
        ((("footer", {**FOOTER[1], "unsubscribe": False}),), True),
    ],
)
def test_a_link_that_unsubscribes_is_enough_wherever_everybody_gets_it(lines, missing):
    assert any("no unsubscribe link" in text for _, text in found(message(*lines))) == missing


def test_a_missing_fall_back_says_how_many_people_it_hits():
    made = message(("text", {"html": "<p>{{ contact.first_name }}</p>"}), FOOTER)
    one = {(made["lines"][0]["id"], "html", "contact.first_name"): (1, 100)}
    assert (
        "should",
        "1 person of 100 has no first name and would read a gap. Add a fallback.",
    ) in found(made, blanks=one)
    elsewhere = {("another line", "html", "contact.first_name"): (1, 100)}
    assert found(made, blanks=elsewhere) == []
    filled = message(
        ("text", {"html": '<p>{{ contact.first_name | default("you", true) }}</p>'}), FOOTER
    )
    assert found(filled, blanks=one) == []


def test_differences_in_words():
    old = message(("heading", {"text": "A"}), ("divider", {}), FOOTER)
    new = message(("heading", {"text": "B"}), FOOTER, subject="Other")
    new["lines"][1]["id"] = "l2"
    assert differences(old, new) == [
        "subject says “Other”",
        "heading of line 1 says “B”",
        "divider of line 2 removed",
    ]


def test_changes_of_the_design_are_told_in_the_words_of_the_screen():
    old, new = message(), message()
    new["settings"] = old["settings"] | {"on_accent": "#eeeeee", "ground": "#000000"}
    assert differences(old, new) == ["design changed: outer background, colour of button texts"]
    assert set(doc.DESIGN) == set(doc.SETTINGS)


@pytest.mark.parametrize(
    ("kind", "setting"),
    [
        (kind, setting)
        for kind, (_, given) in doc.LINE_TYPES.items()
        for setting in given
        if setting not in ("columns", "otherwise", "cases")  # told by their lines and versions
    ],
)
def test_a_change_of_any_setting_of_a_line_can_be_told(kind, setting):
    """A setting without words of its own would be told by its name in the code, or not at all."""
    old = message((kind, {}))
    new = {**old, "lines": [old["lines"][0] | {setting: "x"}]}
    assert len(differences(old, new)) == 1
