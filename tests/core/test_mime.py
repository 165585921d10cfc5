"""The bytes of an email as an independent reader of emails sees them, and values as people read
them."""

import email
import email.header
import email.policy
import email.utils
import re

import pytest
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.content.colour import contrast, quiet
from meadowrun.core.content.filling import template
from meadowrun.core.content.plain import html_text
from meadowrun.gateways.email import Letter, mime
from tests.luck import tries

NAMES = [
    "Farrow Hill",
    "Observatoř Větrný vrch a přátelé noční oblohy nad Tarnside, z. s.",
    'The "desk", \\ night',
    "天文台" * 20,
    "Ω",
    "x" * 90,
]


def letter(**more):
    return Letter(
        **{
            "key": "k",
            "contact_id": 1,
            "from_name": "Farrow Hill",
            "from_address": "desk@farrowhill.example",
            "reply_to": "",
            "to": "ann@post.example",
            "return_path": "b@m.example",
            "subject": "Hello",
            "html": "<p>a\nb</p>",
            "text": "a\nb\r\nc\rd\n",
            "date": 1_795_000_000.5,
            "message_id": "<k@m.example>",
            "unsubscribe": "https://m.example/u/k",
            **more,
        }
    )


def head(raw):
    return raw.split(b"\r\n\r\n", 1)[0].split(b"\r\n")


@pytest.mark.parametrize("name", NAMES)
def test_whom_it_is_from(name):
    raw = mime(letter(from_name=name))
    assert all(len(line) <= 76 for line in head(raw) if b"=?" in line)
    assert all(len(word) <= 75 for word in re.findall(rb"=\?[^ ]*\?=", raw.split(b"\r\n\r\n")[0]))
    # By the old reader: the new one puts a space between two encoded words, against RFC 2047, 6.2.
    shown, address = email.utils.parseaddr(
        email.message_from_bytes(raw)["From"].replace("\r\n", "")
    )
    assert (str(email.header.make_header(email.header.decode_header(shown))), address) == (
        name,
        "desk@farrowhill.example",
    )


@tries(60)
@given(st.text(max_size=120), st.text(max_size=120))
def test_no_name_and_no_subject_begins_a_header(name, subject):
    read = email.message_from_bytes(
        mime(letter(from_name=name, subject=subject, list_name=name, list_id="x.m.example")),
        policy=email.policy.default,
    )
    assert sorted(read.keys()) == sorted(
        [
            "From",
            "To",
            "Subject",
            "Date",
            "Message-ID",
            "List-Unsubscribe",
            "List-Unsubscribe-Post",
            "List-ID",
            "MIME-Version",
            "Content-Type",
        ]
    )


def test_lines_end_as_in_every_email_and_dates_are_certain():
    raw = mime(
        letter(
            list_name="Sky diary",
            list_id="sky-diary.m.example",
            feedback_id="send4:campaign2:email:m.example",
        )
    )
    assert not re.search(rb"(?<!\r)\n", raw)
    read = email.message_from_bytes(raw, policy=email.policy.default)
    for part in read.iter_parts():
        decoded = part.get_payload(decode=True)
        assert b"\r\n" in decoded and not re.search(rb"(?<!\r)\n|\r(?!\n)", decoded)
    assert (
        str(read["Date"]).endswith("+0000")
        and email.utils.parsedate_to_datetime(str(read["Date"])).timestamp() == 1_795_000_000
    )
    assert (
        read["List-ID"] == '"Sky diary" <sky-diary.m.example>'
        and read["Feedback-ID"] == "send4:campaign2:email:m.example"
    )


@pytest.mark.parametrize(
    ("source", "value", "shown"),
    [
        ("{{ contact.n | default('none', true) }}", 0, "0"),
        ("{{ contact.n | default('none', true) }}", False, "no"),
        ("{{ contact.n | default('none', true) }}", None, "none"),
        ("{{ contact.n | default('none', true) }}", "", "none"),
        ("{{ contact.n | default('none', true) }}", [], "none"),
        ("{{ contact.n | upper }}", ["dome", "shop"], "DOME, SHOP"),
        ("{{ contact.n }}", ["dome", True], "dome, yes"),
        ("{{ contact.n }}", "2026-11-27T18:30:00+00:00", "27 Nov 2026, 18:30"),
        ("{{ contact.n }}", "2026-11-27", "27 Nov 2026"),
        ("{{ contact.n }}", "2026-11-27 is a day", "2026-11-27 is a day"),
        ("{{ contact.n }}", 12.0, "12"),
        ("{% if contact.n > 10 %}many{% else %}few{% endif %}", "12", "many"),
        ("{% if contact.n > 10 %}many{% else %}few{% endif %}", "9", "few"),
        ("{% if contact.n == '12' %}yes{% else %}no{% endif %}", 12, "yes"),
        ("{% if contact.n > 10 %}many{% else %}few{% endif %}", "dozens", "few"),
        ("{% if contact.n > 10 %}many{% else %}few{% endif %}", None, "few"),
        ("{% if contact.n == 1 %}yes{% else %}no{% endif %}", True, "yes"),
    ],
)
def test_values_are_read_as_people_write_them(source, value, shown):
    assert template(source, escape=False)({"contact": {"n": value}}) == shown


def test_cells_of_a_table_stand_apart_in_plain_text():
    assert (
        html_text(
            "<table><tr><th>Night</th><th>Seats</th></tr><tr><td>Friday</td><td>12</td></tr></table>"
        )
        == "Night Seats\n\nFriday 12"
    )


@tries(100)
@given(st.integers(0, 0xFFFFFF), st.integers(0, 0xFFFFFF))
def test_small_print_can_be_read_wherever_the_text_can(ink, ground):
    ink, ground = f"#{ink:06x}", f"#{ground:06x}"
    if contrast(ink, ground) >= 4.5:
        assert contrast(quiet(ink, ground), ground) >= 4.5
