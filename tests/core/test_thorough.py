"""The thorough checks: contrast, spam rules, spelling, mail readers, suggestions, and what past
sends teach."""

import dataclasses
import random
import re

import pytest
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.content import begin, colour, past, readers, spam, spelling, suggest
from meadowrun.core.content.checks import greeting_clashes
from meadowrun.core.content.compiled import compile_document
from meadowrun.core.content.differences import differences
from meadowrun.core.content.document import DocumentError, empty, take
from meadowrun.core.content.lines import new_line, with_parts
from meadowrun.gateways import assistant, filters


@pytest.mark.parametrize(
    ("one", "other", "ratio"),
    [
        # Black on white is 21; #767676 on white is the well-known lightest grey that passes 4.5.
        ("#000000", "#ffffff", 21.0),
        ("#ffffff", "#ffffff", 1.0),
        ("#767676", "#ffffff", 4.54),
        ("#777777", "#ffffff", 4.48),
        ("#ff0000", "#ffffff", 4.0),
    ],
)
def test_contrast(one, other, ratio):
    assert round(colour.contrast(one, other), 2) == ratio == round(colour.contrast(other, one), 2)


GOOD = spam.Mail(
    "A clear night on Friday",
    "<p>"
    + "The dome opens at seven and the sky should clear by then. " * 5
    + '<a href="https://x.example/u">Unsubscribe</a></p>',
    "The dome opens at seven and the sky should clear by then. Unsubscribe: https://x.example/u",
    "Farrow Hill",
    "desk@x.example",
    "desk@x.example",
)


def test_nothing_speaks_against_a_good_mail():
    assert spam.findings(GOOD) == [] and spam.score([]) == (0.0, 0.0)


#: a change of a good mail, and the rule that speaks because of it
SPEAKS = [
    ({"subject": "COME TO THE DOME"}, "capitals"),
    ({"subject": "Come!! Now!"}, "exclamation marks"),
    ({"subject": "Save £20"}, "money in the subject"),
    ({"subject": ""}, "no subject"),
    ({"subject": "Re: your visit"}, "looks like a reply"),
    ({"text": ""}, "no plain text"),
    ({"from_name": "desk@x.example"}, "an address as name"),
    ({"from_address": "no-reply@x.example", "reply_to": ""}, "a no-reply address"),
    ({"html": GOOD.html + '<a href="http://203.0.113.9/x">x</a>'}, "a bare number as address"),
    ({"html": GOOD.html + '<a href="https://evil.example">bank.example</a>'}, "a disguised link"),
    ({"html": GOOD.html + "<p>Act now, risk free!</p>"}, "overused phrases"),
    ({"html": GOOD.html + '<img src="a" alt="">' * 9}, "mostly pictures"),
    ({"html": "<p>Hello</p>", "text": "Hello there to all of you"}, "no unsubscribe link"),
    ({"html": GOOD.html + "x" * 100_001}, "heavy"),
    ({"html": GOOD.html + '<p style="color:#fff;background:#fff">x</p>'}, "hidden words"),
    ({"html": GOOD.html + "<p>" + "STARS NIGHT DOMES " * 3 + "</p>"}, "shouting"),
    ({"html": GOOD.html + '<a href="https://ab.cd/x">x</a>'}, "links shortened elsewhere"),
    ({"html": GOOD.html + '<a href="https://x.example">x</a>' * 30}, "many links"),
    (
        {"text": "Something else entirely stands here, about cocoa and blankets. Unsubscribe"},
        "parts that differ",
    ),
]


@pytest.mark.parametrize(("change", "rule"), SPEAKS)
def test_each_rule_speaks(change, rule):
    changed = dataclasses.replace(GOOD, **change)
    if rule == "parts that differ":
        changed = dataclasses.replace(
            changed,
            html="<p>"
            + " ".join(f"word{chr(97 + n)}{chr(97 + n)}" for n in range(26))
            + " unsubscribe</p>",
        )
    found = {f.rule: f for f in spam.findings(changed)}
    assert rule in found, found.keys()
    assert (
        found[rule].reason
        and found[rule].remedy.endswith(".")
        and found[rule].business + found[rule].private > 0
    )


def test_every_rule_is_tested():
    assert {name for name, *_ in spam.RULES} == {rule for _, rule in SPEAKS}


def test_a_link_that_unsubscribes_is_the_way_out_whatever_its_words():
    mail = dataclasses.replace(
        GOOD,
        html='<p>Hello to all of you. <a href="https://x.example/u/1">Leave</a></p>',
        text="Hello to all of you.",
    )
    assert "no unsubscribe link" in {f.rule for f in spam.findings(mail)}
    assert "no unsubscribe link" not in {
        f.rule
        for f in spam.findings(dataclasses.replace(mail, unsubscribe="https://x.example/u/1"))
    }


def test_a_filters_report_is_read():
    report = """Content analysis details:   (5.8 points, 5.0 required)

 pts rule name              description
---- ---------------------- --------------------------------------------------
 2.5 FREE_OFFER             BODY: Offers something free
                            of charge
-0.1 DKIM_VALID             Message has a valid signature
"""
    judged = filters.read(report)
    assert (judged.points, judged.limit) == (5.8, 5.0)
    assert judged.rules == (
        (2.5, "FREE_OFFER", "BODY: Offers something free of charge"),
        (-0.1, "DKIM_VALID", "Message has a valid signature"),
    )
    assert filters.read("nonsense") is None


@pytest.mark.parametrize(
    ("text", "wrong"),
    [
        ("The observatory opens its doors.", []),
        ("The obervatory is opne.", ["obervatory", "opne"]),
        ("We don’t close; it’s Farrow’s dome.", []),
        ("<p>Colour and centre</p><p>Recieve it</p>", ["Recieve"]),
        ("Dear {{ contact.frist_nmae }}, hello", []),
        ("See https://exmaple.tld/wrnog NASA", []),
        ("A visit to Tarnside with Ida", []),
        ("the wibblefrotz", ["wibblefrotz"]),
    ],
)
def test_spelling(text, wrong):
    assert spelling.misspelt(text) == wrong


def test_agreed_words_are_known_and_corrections_are_offered():
    assert spelling.misspelt("the wibblefrotz shines", ["Wibblefrotz"]) == []
    assert "observatory" in spelling.suggestions("obervatory")


def test_what_readers_take_away():
    page = (
        "<html><head><style>@media (max-width:480px){a{color:red}} "
        ".x{border-radius:4px;color:blue}</style></head><body>"
        "<!--[if mso]><b>only there</b><![endif]--><p "
        'style="border-radius:20px;color:#111">words</p>'
        '<img src="p.png" width="90" alt="a dome"></body></html>'
    )
    wide = readers.shown(page, "apple-mail.ios")
    assert (
        "border-radius:20px" in wide
        and "@media" in wide
        and "<b>only there</b>" not in re.sub(r"<!--.*?-->", "", wide)
    )
    narrow = readers.shown(page, "outlook.windows")
    assert (
        "border-radius" not in narrow
        and "color:#111" in narrow
        and "color:blue" in narrow
        and "@media" not in narrow
    )
    assert "only there" in re.sub(r"<!--.*?-->", "", narrow)
    assert "<style" not in readers.shown(page, "gmx.desktop-webmail")
    off = readers.shown(page, "no-pictures")
    assert "<img" not in off and "a dome" in off
    # Every mail app that can be chosen is drawn, and none of them shows what it cannot.
    for key in readers.readers():
        drawn = readers.shown(page, key)
        assert "only there" in drawn or key != "outlook.windows"
        assert "a dome" in drawn, key
    lost = readers.losses(page)
    assert (
        "Outlook, Windows" in lost["rounded corners become square"]
        and "Apple Mail, iOS" not in lost["rounded corners become square"]
    )
    with pytest.raises(KeyError):
        readers.shown(page, "nobody's")


@pytest.mark.parametrize(
    ("purpose", "aim", "topic"),
    [
        ("invite to the Leonid nights", "invite", "the Leonid nights"),
        ("Remind members to renew their membership", "remind", "your membership"),
        ("thank for the new telescope", "thank", "the new telescope"),
        ("the winter programme", "tell", "the winter programme"),
        ("announce the comet", "tell", "the comet"),
    ],
)
def test_what_a_purpose_says(purpose, aim, topic):
    assert suggest.aim_and_topic(purpose) == (aim, topic)


@given(
    st.sampled_from(list(suggest.PLACES)),
    st.sampled_from(suggest.TONES),
    st.sampled_from(suggest.FORMALITIES),
    st.integers(0, 50),
)
def test_suggestions_are_several_short_and_invent_nothing(place, tone, formality, seed):
    brief = suggest.Brief(
        "invite to the Leonid nights on 17 November",
        tone,
        formality,
        ["venue"],
        ["dark sky"],
        ["calling", "Fancy"],
    )
    found = suggest.suggestions(place, brief, seed)
    assert len(found) == len(set(found)) >= 2
    for text in found:
        assert (
            len(text.replace('{{ contact.first_name | default("friend", true) }}', "Alexandra"))
            <= suggest.PLACES[place]
        )
        assert suggest.invented(text, brief) == [] and "calling" not in text and "Fancy" not in text
        take(empty() | {"subject": text})
    assert suggest.suggestions(place, dataclasses.replace(brief, purpose=" ")) == []


def test_another_seed_gives_others():
    brief = suggest.Brief("invite to the open night")
    assert len({tuple(suggest.suggestions("subject", brief, seed)) for seed in range(6)}) > 3


@pytest.mark.parametrize(
    ("text", "fine"),
    [
        ("Come to the open night", True),
        ("Only 3 places left", False),
        ("Save 20% today", False),
        ("{{ fact.venue }} waits", True),
        ("{{ fact.price }}", False),
        ("{{ contact.email }}", False),
        ("{{ broken", False),
        ("A blast of a night", False),
        ("x" * 61, False),
        ("", False),
    ],
)
def test_what_a_server_suggests_is_held_to_what_it_was_told(text, fine):
    assert (
        assistant.usable(
            text,
            "subject",
            suggest.Brief("invite to the open night", facts=["venue"], avoided=["blast"]),
        )
        is fine
    )


def test_past_sends_teach_what_was_put_into_them():
    dice = random.Random(1)
    sends = []
    for _ in range(60):
        named = dice.random() < 0.5
        share = (0.40 if named else 0.25) + dice.gauss(0, 0.01)
        sends.append(
            past.Past(
                (
                    "{{ contact.first_name }}, come"
                    if named
                    else "Come and see the sky above the hill"
                ),
                1000,
                round(1000 * share),
            )
        )
    named, plain = (
        past.expected("{{ contact.first_name }}, look", sends),
        past.expected("Look at the winter sky this week", sends),
    )
    assert abs(named.share - 0.40) < 0.03 and abs(plain.share - 0.25) < 0.03
    assert (
        named.low < named.share < named.high
        and "+ uses the person’s name" in named.because
        and named.sure == "fairly sure"
    )
    assert past.expected("x", sends[: past.LEAST - 1]) is None
    # Few and scattered sends make it less sure.
    scattered = [past.Past(s.subject, 1000, dice.randrange(50, 800)) for s in sends[:8]]
    assert (
        past.expected("x", scattered).high - past.expected("x", scattered).low
        > named.high - named.low
    )


@pytest.mark.parametrize("layout", list(begin.LAYOUTS))
def test_every_layout_is_a_good_start(layout):
    document = take(begin.document(layout, "Farrow Hill", "Tarn Road", {}))
    assert (
        len(document["lines"]) >= 2
        and "Farrow Hill, Tarn Road" in compile_document(document, "http://p.example").html
    )


def test_shared_parts_stand_in_their_places_with_ids_of_their_own():
    row = [
        new_line("text", id="t", html="<p>kept</p>"),
        new_line(
            "only", id="o", cases=[{"id": "c", "name": "", "lines": [], "group": "", "content": []}]
        ),
    ]
    lines = [
        new_line("shared", id="a", part=1, version=2),
        new_line("shared", id="b", part=1, version=2),
        new_line("shared", id="gone", part=9, version=1),
    ]
    made = with_parts(lines, {(1, 2): row})
    assert [line["id"] for line in made] == ["a-t", "a-o", "b-t", "b-o"]
    assert [
        line["cases"][0]["id"]
        for line in made
        if line["cases" if line["type"] == "only" else "id"] and line["type"] == "only"
    ] == [
        "a_c",
        "b_c",
    ]


def test_differences_say_what_a_reviewer_wants_to_know():
    old = take(
        empty()
        | {
            "subject": "A",
            "lines": [
                new_line(
                    "columns",
                    id="k",
                    columns=[
                        [new_line("button", id="b", label="Go", href="https://x.example")],
                        [],
                    ],
                ),
                new_line("picture", id="p", src="/f/a"),
                new_line(
                    "only",
                    id="o",
                    cases=[{"id": "v", "name": "Patrons", "lines": [], "group": "", "content": []}],
                ),
            ],
        }
    )
    new = take(old | {"subject": "B"})
    new["lines"][0]["columns"][0][0]["label"] = "Book {{ contact.town }}"
    new["lines"][1]["src"], new["lines"][1]["off"] = "/f/b", True
    new["lines"][2]["cases"][0]["lines"] = [
        {"id": "a", "kind": "field", "field": "town", "op": "is", "value": ["Farrow"]}
    ]
    assert differences(old, new) == [
        "subject says “B”",
        "button of line 1, column 1, line 1 says “Book ‹town›”",
        "image of picture of line 2 changed",
        "picture of line 2 switched off",
        "who reads “Patrons” in only if of line 3 changed",
    ]


@pytest.mark.parametrize(
    ("line", "says"),
    [
        (new_line("columns", split=[50, 50], columns=[[]]), "as many columns"),
        (
            new_line("columns", columns=[[new_line("columns")], []]),
            "cannot be placed inside columns",
        ),
        (new_line("button", fill="red"), "not a colour"),
        (new_line("icons", icons=[{"icon": "skull", "href": "x"}]), "no such icon"),
    ],
)
def test_lines_that_cannot_be_taken(line, says):
    with pytest.raises(DocumentError, match=says):
        take(empty() | {"lines": [line]})


@pytest.mark.parametrize(
    ("words", "hours", "clashes"),
    [
        ("Good morning, Ann", (9, 10), False),
        ("Good morning, Ann", (11, 12), False),
        ("Good morning, Ann", (14, 15), True),
        ("good  EVENING", (9, 11), True),
        ("Good evening", (18, 19), False),
        ("Good afternoon", (11, 13), True),
        ("{{ greeting }}, Ann", (14, 15), False),
        ("Good morningside", (14, 15), False),
    ],
)
def test_words_of_the_day_against_the_hours_of_sending(words, hours, clashes):
    document = take(
        empty() | {"subject": "Hello", "lines": [new_line("text", html=f"<p>{words}</p>")]}
    )
    assert bool(greeting_clashes(document, hours)) is clashes
