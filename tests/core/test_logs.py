"""What gets into logs: nobody's address, and nothing that somebody wrote."""

import hashlib

import pytest

from meadowrun.base import signing
from meadowrun.base.logs import masked
from tests.leaks import leaks


@pytest.mark.parametrize(
    ("said", "logged"),
    [
        ("550 nobody called ann.o'neil@mail.example here", "550 nobody called (address) here"),
        (
            "duplicate key\nDETAIL:  Key (email_key)=(ann@a.example) already exists.\nmore",
            "duplicate key\n(value)\nmore",
        ),
        (
            'invalid input syntax for type numeric: "four hundred"',
            "invalid input syntax for type numeric: (value)",
        ),
        ({"to": ["zoe@mail.example", 7]}, {"to": ["(address)", 7]}),
        (41, 41),
        (None, None),
        ("nothing to hide", "nothing to hide"),
    ],
)
def test_addresses_and_values_stay_out(said, logged):
    assert masked(None, "info", {"event": "x", "problem": said}) == {
        "event": "x",
        "problem": logged,
    }


def test_what_must_not_be_in_a_log_is_found():
    secret, token = "s" * 40, signing.make("s" * 40, "leave", 2, 7)
    log = (
        f"a request\npath=/u/{token}\nto=ann@a.example\nsecret={secret}\n"
        f"cookie=in-{'t' * 40}\nsubject=Come and see the comets\nfine"
    )
    found = leaks(
        log, secret, {hashlib.sha256(b"in-" + b"t" * 40).hexdigest()}, {"Come and see the comets"}
    )
    assert [what for what, _ in found] == [
        "a token of an email",
        "an address",
        "the secret",
        "a sign-in",
        "what was written",
    ]
    assert leaks(log, "o" * 40, set(), set()) == [("an address", "to=ann@a.example")], (
        "a token of another installation is none"
    )
