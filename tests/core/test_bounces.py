"""Which refusals blame the address: by the classes of RFC 3463 and the reply codes of RFC 5321."""

import pytest

from meadowrun.core.guardrails.bounces import is_hard


@pytest.mark.parametrize(
    ("words", "hard"),
    [
        ("550 5.1.1 no such user here", True),
        ("550 5.1.10 null MX", True),
        ("553 5.1.3 bad mailbox syntax", True),
        ("550 5.2.1 mailbox disabled", True),
        ("550 5.4.4 no such domain", True),
        ("5.1.1", True),
        ("550 no such user", True),
        ("551 user not local", True),
        ("5.0.0", True),
        ("552 5.2.2 mailbox full", False),
        ("552 mailbox full", False),
        ("552 5.2.3 message too large", False),
        ("554 5.7.1 relay denied", False),
        ("550 5.7.26 unauthenticated mail", False),
        ("554 5.6.0 content not taken", False),
        ("554 5.3.0 system trouble", False),
        ("550 5.4.7 delivery time expired", False),
        ("554 transaction failed", False),
        ("452 4.2.2 mailbox full", False),
        ("4.4.7", False),
        ("421 later", False),
        ("", False),
        ("250 2.1.5 fine", False),
    ],
)
def test_whether_a_refusal_is_about_the_address(words, hard):
    assert is_hard(words) is hard
