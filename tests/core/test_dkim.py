"""Signatures under emails: canonical forms as the standards show them, keys and records as they are
published, and whole emails as another program verifies them."""

import base64
import hashlib

import dkim as other
import pytest
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import ec, ed25519
from hypothesis import given, settings
from hypothesis import strategies as st

from meadowrun.core import dkim
from meadowrun.gateways.email import Letter, mime

#: RFC 8463, appendix A.2: the private key (that of RFC 8032, test 1) and its public part.
PRIVATE = "nWGxne/9WmC6hEr0kuwsxERJxWl7MmkZcDusAxyuf2A="
PUBLIC = "11qYAYKxCrfVS/7TyWQHOg7hcvPapiMlrwIaaPcHURo="
#: RFC 8463, appendix A.3: the body of its example, and its hash (bh).
BODY = b"Hi.\r\n\r\nWe lost the game.  Are you hungry yet?\r\n\r\nJoe.\r\n"
BODY_HASH = "2jUSOH9NhtVGCQWNr9BrIAPreKQjO6Sn7XIkfJVOzv8="


def pem_of(private):
    return private.private_bytes(
        serialization.Encoding.PEM,
        serialization.PrivateFormat.PKCS8,
        serialization.NoEncryption(),
    )


def test_the_canonical_forms_of_the_standard():
    """RFC 6376, 3.4.5, example 1."""
    assert dkim.relaxed_field(b"A: X") == b"a:X"
    assert dkim.relaxed_field(b"B : Y\t\r\n\tZ  ") == b"b:Y Z"
    assert dkim.relaxed_body(b" C \r\nD \t E\r\n\r\n\r\n") == b" C\r\nD E\r\n"


@pytest.mark.parametrize(
    ("body", "digest"),
    [
        (BODY, BODY_HASH),
        # RFC 6376, 3.4.4: the hash of an empty body.
        (b"", "47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU="),
        (b"\r\n\r\n", "47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU="),
    ],
)
def test_the_hash_of_a_body(body, digest):
    found = hashlib.sha256(dkim.relaxed_body(body)).digest()
    assert base64.b64encode(found).decode() == digest


def test_the_record_of_the_standards_key():
    private = ed25519.Ed25519PrivateKey.from_private_bytes(base64.b64decode(PRIVATE))
    assert dkim.record(pem_of(private)) == f"v=DKIM1; k=ed25519; p={PUBLIC}"


@pytest.mark.parametrize(
    ("published", "same"),
    [
        ("v=DKIM1; k=ed25519; p=" + PUBLIC, True),
        ("k=ed25519;p=" + PUBLIC[:20] + " " + PUBLIC[20:], True),
        ("v=DKIM1; k=rsa; p=" + PUBLIC, False),
        ("v=DKIM1; k=ed25519; p=", False),
        ("v=DKIM2; k=ed25519; p=" + PUBLIC, False),
        ("v=spf1 -all", False),
        ("", False),
    ],
)
def test_whether_a_record_holds_the_key(published, same):
    assert dkim.same_key(published, f"v=DKIM1; k=ed25519; p={PUBLIC}") is same


def test_a_key_that_cannot_be_read():
    for pem in (b"", b"nonsense", pem_of(ec.generate_private_key(ec.SECP256R1()))):
        with pytest.raises(dkim.UnreadableKey):
            dkim.read(pem)


KEYS = {name: dkim.made(name) for name in dkim.ALGORITHMS}
RECORDS = {
    f"{name}._domainkey.farrowhill.example.": dkim.record(pem).encode()
    for name, pem in KEYS.items()
}
SIGNER = dkim.Signer(
    {
        "farrowhill.example": [
            dkim.Key("farrowhill.example", name, dkim.read(pem)) for name, pem in KEYS.items()
        ]
    }
)


def signed(**values):
    letter = Letter(
        **{
            "key": "k",
            "contact_id": 1,
            "from_name": "Farrow Hill",
            "from_address": "desk@farrowhill.example",
            "reply_to": "",
            "to": "ada@post.example",
            "return_path": "b@mail.example",
            "subject": "Hello",
            "html": "<p>Hello</p>",
            "text": "Hello",
            "date": 1_795_000_000.0,
            "message_id": "<k@mail.example>",
            "unsubscribe": "https://x.example/u/abc",
            "list_name": "News",
            "list_id": "news.mail.example",
            "feedback_id": "a:b:c:d",
        }
        | values
    )
    return SIGNER.signed(letter.from_address, mime(letter))


def published(name, timeout=5):
    return RECORDS.get(name.decode())


def verified(mail):
    """Which signatures of an email another program finds true, one by one."""
    found = []
    for place in range(mail.count(b"DKIM-Signature:")):
        try:
            found.append(other.DKIM(mail).verify(place, dnsfunc=published))
        except (other.ValidationError, other.MessageFormatError):
            found.append(False)
    return found


def test_both_signatures_are_true_for_another_program():
    mail = signed()
    assert verified(mail) == [True, True]
    assert [dkim.tags(line.decode())["a"] for line in heads(mail)] == [
        "rsa-sha256",
        "ed25519-sha256",
    ]


def heads(mail):
    """The values of the signatures, unfolded."""
    head = mail.partition(b"\r\n\r\n")[0].replace(b"\r\n ", b" ")
    return [
        line.partition(b":")[2]
        for line in head.split(b"\r\n")
        if line.startswith(b"DKIM-Signature:")
    ]


@pytest.mark.parametrize(
    ("before", "after"),
    [
        (b"Subject: Hello", b"Subject: Hallo"),
        (b"desk@farrowhill.example>", b"boss@farrowhill.example>"),
        (b"https://x.example/u/abc", b"https://y.example/u/abc"),
        # A second From before the signed one: servers show either.
        (b"From: ", b"From: evil@other.example\r\nFrom: "),
        (base64.b64encode(b"Hello"), base64.b64encode(b"Hullo")),
    ],
)
def test_what_was_changed_on_the_way_is_found(before, after):
    mail = signed()
    changed = mail.replace(before, after, 1)
    assert changed != mail
    assert verified(changed) == [False, False]


def test_what_servers_may_change_keeps_it_true():
    mail = signed(subject="A rather long subject that somebody wraps")
    wrapped = mail.replace(b"rather long", b"rather\r\n long").replace(b"Date: ", b"Date:   ")
    assert verified(wrapped) == [True, True]
    assert verified(mail + b"\r\n\r\n") == [True, True]


def test_a_domain_without_keys_leaves_its_emails_as_they_are():
    mail = mime(
        Letter("k", 1, "X", "x@other.example", "", "a@b.example", "r@x", "S", "", "T", 0.0, "<k@x>")
    )
    assert SIGNER.signed("x@other.example", mail) == mail


@settings(deadline=None, max_examples=40)
@given(
    subject=st.text(st.characters(exclude_categories=["Cs", "Cc"]), max_size=200),
    name=st.text(st.characters(exclude_categories=["Cs", "Cc"]), max_size=80),
    text=st.text(st.characters(exclude_categories=["Cs"]), max_size=400),
    html=st.booleans(),
)
def test_letters_of_all_scripts_are_signed_truly(subject, name, text, html):
    mail = signed(subject=subject, from_name=name, text=text, html=f"<p>{text}</p>" if html else "")
    assert verified(mail) == [True, True]
