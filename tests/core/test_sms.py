"""Text messages: alphabets and parts by the published tables, the longest values, what is wrong."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.content import sms
from meadowrun.core.content.document import SETTINGS
from meadowrun.core.content.findings import About


@pytest.mark.parametrize(
    ("text", "alphabet", "units", "parts", "left"),
    [
        ("", "GSM-7", 0, 1, 160),
        ("a" * 160, "GSM-7", 160, 1, 0),
        ("a" * 161, "GSM-7", 161, 2, 145),
        ("a" * 306, "GSM-7", 306, 2, 0),
        ("a" * 307, "GSM-7", 307, 3, 152),
        ("€" * 80, "GSM-7", 160, 1, 0),
        ("€" * 81, "GSM-7", 162, 2, 143),
        # 153 is odd: the 77th sign of two places does not fit into the first part's last one.
        ("€" * 77 + "a" * 10, "GSM-7", 164, 2, 141),
        ("é à ñ Ü ß Ω", "GSM-7", 11, 1, 149),
        ("ą", "UCS-2", 1, 1, 69),
        ("’" * 70, "UCS-2", 70, 1, 0),
        ("’" * 71, "UCS-2", 71, 2, 63),
        ("’" * 134, "UCS-2", 134, 2, 0),
        ("’" * 135, "UCS-2", 135, 3, 66),
        ("🔭", "UCS-2", 2, 1, 68),
        ("🔭" * 36, "UCS-2", 72, 2, 61),
    ],
)
def test_parts(text, alphabet, units, parts, left):
    made = sms.size(text)
    assert (made.alphabet, made.units, made.parts, made.left) == (alphabet, units, parts, left)


@given(st.text(max_size=600))
def test_a_text_always_fits_into_its_parts(text):
    made = sms.size(text)
    most = {"GSM-7": (160, 153), "UCS-2": (70, 67)}[made.alphabet]
    assert made.units <= (most[0] if made.parts == 1 else most[1] * made.parts)
    assert 0 <= made.left <= most[0]


def test_plain_signs_replace_typographic_ones_but_not_in_fill_ins():
    assert (
        sms.plainer('It’s “on” – {{ contact.x | default("it’s", true) }}…')
        == 'It\'s "on" - {{ contact.x | default("it’s", true) }}...'
    )


def test_the_longest_branch_and_value_count():
    text = (
        '{{ contact.name | default("friend", true) }}{% if contact.a == "b" %}12345{% else '
        "%}1{% endif %} http://x.example/very/long/path"
    )
    drawn = sms.longest(text, {"contact.name": ["x" * 20]}, "http://m.example")
    assert drawn == "x" * 20 + "12345 " + "x" * (len("http://m.example") + len("/s/") + 8 + 1)
    assert (
        sms.longest(
            '{{ contact.name | default("a much longer fallback", true) }}',
            {"contact.name": ["abc"]},
            "",
        )
        == "a much longer fallback"
    )


@pytest.mark.parametrize(
    ("values", "parts"),
    [
        # One letter outside the basic alphabet: 70 and 67 characters a part, whoever it belongs to.
        ({"contact.town": ["Farrow"]}, 1),
        ({"contact.town": ["Farrow", "São Paulo"]}, 2),
        ({"contact.town": ["Llanfairpwllgwyngyll", "Łódź"]}, 2),
    ],
)
def test_the_widest_value_counts_as_well_as_the_longest(values, parts):
    text = (
        "Clear sky over {{ contact.town }} tonight: the dome opens at eight, dress warmly, and "
        "bring somebody along. "
        "It is free for members. STOP ends"
    )
    assert len(text) < 153 and sms.size(sms.longest(text, values, "")).parts == parts


def test_a_format_counts_and_a_link_with_a_fill_in_is_a_short_one():
    values = {"contact.name": ["straße"]}
    assert sms.longest("{{ contact.name | upper }}", values, "") == "STRASSE"
    assert (
        len(sms.longest("https://a.example/?n={{ contact.name }}&b=1", values, "http://m"))
        == len("http://m/s/") + 9
    )


def found(text):
    return [
        (c.level, c.text)
        for c in sms.sms_checks(
            {"plain": text, "settings": dict(SETTINGS)}, About(known=["contact.town"]), text
        )
    ]


@pytest.mark.parametrize(
    ("text", "level", "says"),
    [
        ("", "must", "empty"),
        ("Reed Mill: \nSTOP ends these", "should", "says nothing yet"),
        ("STOP ends these", "should", "says nothing yet"),
        ("a" * 1300, "must", "9 parts"),
        ("a" * 400 + " STOP", "could", "3 parts"),
        ("It’s on. STOP", "should", "Plain characters"),
        ("🔭 STOP", "could", "🔭 needs Unicode"),
        ("🔭 🦉 STOP", "could", "🔭 🦉 need Unicode"),
        ("Come up", "should", "how to stop"),
        ("STOP http://ab.cd/x", "could", "shortened elsewhere"),
        ("STOP {{ contact.shoe }}", "must", "no field “shoe”"),
    ],
)
def test_checks(text, level, says):
    assert any(a == level and says in b for a, b in found(text)), found(text)


def test_nothing_is_said_of_a_good_one():
    assert found("Open tonight from 7. STOP ends these") == []
    assert (
        found(
            "Thank you, {{ contact.town | default('friend', true) }}: see you soon\nSTOP ends these"
        )
        == []
    )
    assert found("Good night, all:\nSTOP ends these") == []


def test_cost_in_words():
    assert (
        sms.cost_words(2, 1200, 0.045, "£") == "1,200 people × 2 parts × £0.045 = £108.00 at most"
    )


def test_a_notification_that_a_fields_value_makes_too_large():
    from meadowrun.core.channels import beginning
    from meadowrun.core.content.push import push_checks

    document = beginning("push", "Farrow Hill", "STOP") | {
        "subject": "Tonight",
        "plain": "Dear {{ contact.bio | upper }}",
    }
    for value, too_much in (("é" * 1500, False), ("é" * 2500, True)):
        found = [
            c.text
            for c in push_checks(
                document, About(known=["contact.bio"], longest={"contact.bio": [value]})
            )
        ]
        assert any("For the longest values it takes" in text for text in found) is too_much
