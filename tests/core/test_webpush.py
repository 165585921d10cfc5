"""Encryption against the worked example of RFC 8291, appendix A; keys and statements."""

import json

import pytest
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.asymmetric.utils import encode_dss_signature
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core import webpush
from tests.luck import tries

# RFC 8291, section 5 and appendix A.
PLAINTEXT = b"When I grow up, I want to be a watermelon"
AUTH = "BTBZMqHH6r4Tts7J_aSIgg"
RECEIVER_PRIVATE = "q1dXpw3UpT5VOmu_cf_v6ih07Aems3njxI-JWgLcM94"
RECEIVER_PUBLIC = (
    "BCVxsr7N_eNgVRqvHtD0zTZsEc6-VV-JvLexhqUzORcxaOzi6-AYWXvTBHm4bjyPjs7Vd8pZGH6SRpkNtoIAiw4"
)
SENDER_PRIVATE = "yfWPiYE-n46HLnH0KqZOF1fJJU3MYrct3AELtAQ-oRw"
SALT = "DGv6ra1nlYgDCS1FRnbzlw"
BODY = (
    "DGv6ra1nlYgDCS1FRnbzlwAAEABBBP4z9KsN6nGRTbVYI_c7VJSPQTBtkgcy27mlmlMoZIIgDll6e3vCYLocInmYWAmS6TlzAC8wEqKK6PBru3jl7A_yl95bQpu6cVPT"
    "pK4Mqgkf1CXztLVBSt2Ks3oZwbuwXPXLWyouBWLVWGNWQexSgSxsj_Qulcy4a-fN"
)


def private(text):
    return ec.derive_private_key(int.from_bytes(webpush.decode(text), "big"), ec.SECP256R1())


def test_the_example_of_the_standard():
    assert webpush.public_key(private(RECEIVER_PRIVATE)) == RECEIVER_PUBLIC
    made = webpush.encrypt(
        PLAINTEXT, RECEIVER_PUBLIC, AUTH, private(SENDER_PRIVATE), webpush.decode(SALT)
    )
    assert webpush.encode(made) == BODY
    assert webpush.decrypt(webpush.decode(BODY), private(RECEIVER_PRIVATE), AUTH) == PLAINTEXT


@tries(25)
@given(st.binary(max_size=webpush.MOST_BYTES))
def test_only_the_right_keys_open_it(payload):
    mine, other = ec.generate_private_key(ec.SECP256R1()), ec.generate_private_key(ec.SECP256R1())
    body = webpush.encrypt(payload, webpush.public_key(mine), AUTH)
    assert len(body) <= 4096 and webpush.decrypt(body, mine, AUTH) == payload
    with pytest.raises(webpush.PushProblem):
        webpush.decrypt(body, other, AUTH)


@pytest.mark.parametrize(
    ("payload", "key", "says"),
    [(b"x" * 4000, RECEIVER_PUBLIC, "3,993"), (b"x", "AAAA", "no point"), (b"x", "~", "base64url")],
)
def test_what_cannot_be_encrypted(payload, key, says):
    with pytest.raises(webpush.PushProblem, match=says):
        webpush.encrypt(payload, key, AUTH)


def test_the_statement_is_signed_by_the_installations_key():
    key = webpush.vapid_key("s" * 40)
    assert (
        webpush.public_key(key)
        == webpush.public_key(webpush.vapid_key("s" * 40))
        != webpush.public_key(webpush.vapid_key("t" * 40))
    )
    header = webpush.authorization(
        key, "https://push.example/abc/def", "mailto:desk@farrowhill.example", 1000.0
    )
    token, shown = header.removeprefix("vapid t=").split(", k=")
    assert shown == webpush.public_key(key)
    head, claims, signature = token.split(".")
    assert json.loads(webpush.decode(claims)) == {
        "aud": "https://push.example",
        "exp": 1000 + 43200,
        "sub": "mailto:desk@farrowhill.example",
    }
    raw = webpush.decode(signature)
    der = encode_dss_signature(int.from_bytes(raw[:32], "big"), int.from_bytes(raw[32:], "big"))
    key.public_key().verify(der, f"{head}.{claims}".encode(), ec.ECDSA(hashes.SHA256()))
