"""Signed tokens for addresses that strangers see: what for, which delivery, which contact, and
proof that we made it.

Each purpose has signs of its own: who is given a link to click can neither take anybody off with it
nor speak as a mail server.
"""

import base64
import binascii
import datetime as dt
import functools
import hashlib
import hmac
import re

#: Bytes of the number of a delivery, and of a contact.
_BYTES = 6
_MAC = 8
#: Signs of a token, and what stands in it for the signs of base64 that addresses do not take
#: (RFC 4648, 5).
_LENGTH = 27
_SAFE = bytes.maketrans(b"+/", b"-_")
#: What tokens of a delivery are for: following a link, the opening picture, unsubscribing, choosing
#: what one gets, the page of a push notification,
#: the way back of bounces, what gateways know a message by, an in-app message.
PURPOSES = ("click", "open", "leave", "choose", "page", "bounce", "message", "in_app")
_PLACE = {purpose: number * _MAC for number, purpose in enumerate(PURPOSES)}
#: What one token was for before purposes were told apart: what had left by then still leads where
#: it did.
_BEFORE = "delivery"
_NEVER_BEFORE = ("in_app",)
#: Without signs that are taken for one another.
_SIGNS = "23456789abcdefghijkmnpqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ"


def _mac(secret: str, purpose: str, body: bytes) -> bytes:
    return hmac.digest(f"{purpose}:{secret}".encode(), body, hashlib.sha256)[:_MAC]


def _body(delivery: int, contact_id: int) -> bytes:
    return delivery.to_bytes(_BYTES, "big") + contact_id.to_bytes(_BYTES, "big")


def make(secret: str, purpose: str, delivery: int, contact_id: int) -> str:
    """The token of one delivery for one of PURPOSES: 27 characters, safe in addresses."""
    return Tokens(secret, delivery, contact_id)[purpose]


def _macs(secret: str, body: bytes) -> bytes:
    """The signatures of a delivery for all purposes, one after the other: each a part of one
    HMAC-SHA-512, none of which tells of another. All at once, because an email needs most of them.
    """
    made = _begun(secret).copy()
    made.update(body)
    return made.digest()


@functools.lru_cache(maxsize=8)
def _begun(secret: str) -> hmac.HMAC:
    """What all signatures of an installation begin with: its key is worked in once."""
    return hmac.new(f"purposes:{secret}".encode(), digestmod="sha512")


class Tokens(dict[str, str]):
    """The tokens of one delivery, by its number and contact, for each purpose, made when they are
    asked for."""

    def __init__(self, secret: str, delivery: int, contact_id: int):
        super().__init__()
        self._body = _body(delivery, contact_id)
        self._macs = _macs(secret, self._body)

    def __missing__(self, purpose: str) -> str:
        place = _PLACE[purpose]
        # What base64.urlsafe_b64encode gives, without its “=” at the end, at half the price.
        raw = binascii.b2a_base64(self._body + self._macs[place : place + _MAC], newline=False)
        token = raw[:_LENGTH].translate(_SAFE).decode()
        self[purpose] = token
        return token


#: What stands for tokens where nothing leaves.
PREVIEW_TOKENS = dict.fromkeys(PURPOSES, "preview")


def short(secret: str, delivery: int, contact_id: int) -> str:
    """A code of eight signs for the short links of one delivery: about 47 bits, so it is looked up,
    not read."""
    number = int.from_bytes(
        hmac.digest(f"short:{secret}".encode(), _body(delivery, contact_id), hashlib.sha256)[:8],
        "big",
    )
    signs = []
    for _ in range(8):
        number, rest = divmod(number, len(_SIGNS))
        signs.append(_SIGNS[rest])
    return "".join(signs)


def read(secret: str, purpose: str, token: str) -> tuple[int, int] | None:
    """(number of the delivery, contact) of a token we made for a purpose, else None."""
    try:
        raw = base64.urlsafe_b64decode(token + "=" * (-len(token) % 4))
    except ValueError:
        return None
    body, mac = raw[: 2 * _BYTES], raw[2 * _BYTES :]
    if len(body) != 2 * _BYTES:
        return None
    place = _PLACE[purpose]
    ours = hmac.compare_digest(mac, _macs(secret, body)[place : place + _MAC])
    if not ours and (
        purpose in _NEVER_BEFORE or not hmac.compare_digest(mac, _mac(secret, _BEFORE, body))
    ):
        return None
    return int.from_bytes(body[:_BYTES], "big"), int.from_bytes(body[_BYTES:], "big")


def sign_text(secret: str, purpose: str, text: str) -> str:
    """A signature of a text, for one purpose."""
    return _mac(secret, purpose, text.encode(errors="replace")).hex()


def check_text(secret: str, purpose: str, text: str, signature: str) -> bool:
    # Strangers send any signs at all.
    return hmac.compare_digest(
        sign_text(secret, purpose, text).encode(), signature.encode(errors="replace")
    )


def seal(secret: str, purpose: str, *numbers: int) -> str:
    """Numbers with a signature of them, for an address: 12.7.3fa1…"""
    text = ".".join(map(str, numbers))
    return f"{text}.{sign_text(secret, purpose, text)}"


def unseal(secret: str, purpose: str, sealed: str) -> tuple[int, ...] | None:
    """The numbers of what `seal` made, else None."""
    text, _, signature = sealed.rpartition(".")
    if not check_text(secret, purpose, text, signature):
        return None
    return tuple(map(int, text.split(".")))


#: How long the sign of who comes by a link holds: for the first page, which takes it out of its
#: address.
ARRIVES_WITHIN = dt.timedelta(minutes=15)
#: How long a browser on a known website is recognised after it was last seen.
VISITS_WITHIN = dt.timedelta(days=90)


def arrival(secret: str, contact_id: int, now: dt.datetime) -> str:
    """The sign of a contact in the address of a known website that a link leads to."""
    return seal(secret, "arrival", contact_id, int((now + ARRIVES_WITHIN).timestamp()))


def visitor(secret: str, contact_id: int, now: dt.datetime) -> str:
    """The sign that a browser keeps of who its visitor is."""
    return seal(secret, "visitor", contact_id, int((now + VISITS_WITHIN).timestamp()))


def who_visits(secret: str, sign: str, now: dt.datetime) -> int | None:
    """The contact of a sign of either kind that still holds, else None."""
    found = unseal(secret, "visitor", sign) or unseal(secret, "arrival", sign)
    if found is None or len(found) != 2 or found[1] < now.timestamp():
        return None
    return found[0]


#: How long a token of a program works after its key was shown for it.
TOKEN_WORKS = dt.timedelta(hours=1)
_TOKEN = re.compile(r"token_(\d{1,18})\.(\d{1,12})\.([0-9a-f]{64})")


def program_token(secret: str, key_id: int, now: dt.datetime) -> str:
    """What a program shows instead of its key for TOKEN_WORKS: the key's number and the token's
    end, with an HMAC-SHA-256 of both."""
    text = f"{key_id}.{int((now + TOKEN_WORKS).timestamp())}"
    return f"token_{text}.{_whole_mac(secret, text)}"


def program_key(secret: str, token: str, now: dt.datetime) -> int | None:
    """The number of the key that a token stands for while it works, else None."""
    found = _TOKEN.fullmatch(token)
    if (
        not found
        or not hmac.compare_digest(found[3], _whole_mac(secret, f"{found[1]}.{found[2]}"))
        or int(found[2]) < now.timestamp()
    ):
        return None
    return int(found[1])


def _whole_mac(secret: str, text: str) -> str:
    return hmac.new(f"program:{secret}".encode(), text.encode(), hashlib.sha256).hexdigest()
