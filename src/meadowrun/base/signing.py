"""Signed tokens for addresses that strangers see: which send, which contact, and proof that we made it."""

import base64
import hashlib
import hmac
import struct

_BODY = struct.Struct(">IQ")
_MAC = 8
#: Without signs that are taken for one another.
_SIGNS = "23456789abcdefghijkmnpqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ"


def _mac(secret: str, purpose: str, body: bytes) -> bytes:
    return hmac.digest(f"{purpose}:{secret}".encode(), body, hashlib.sha256)[:_MAC]


def make(secret: str, send_id: int, contact_id: int) -> str:
    """The token of one delivery: 27 characters, safe in addresses."""
    body = _BODY.pack(send_id, contact_id)
    return base64.urlsafe_b64encode(body + _mac(secret, "delivery", body)).rstrip(b"=").decode()


def short(secret: str, send_id: int, contact_id: int) -> str:
    """A code of eight signs for the short links of one delivery: about 47 bits, so it is looked up, not read."""
    number = int.from_bytes(hmac.digest(f"short:{secret}".encode(), _BODY.pack(send_id, contact_id), hashlib.sha256)[:8], "big")
    signs = []
    for _ in range(8):
        number, rest = divmod(number, len(_SIGNS))
        signs.append(_SIGNS[rest])
    return "".join(signs)


def read(secret: str, token: str) -> tuple[int, int] | None:
    """(send, contact) of a token we made, else None."""
    try:
        raw = base64.urlsafe_b64decode(token + "=" * (-len(token) % 4))
    except ValueError:
        return None
    body, mac = raw[:_BODY.size], raw[_BODY.size:]
    if len(body) != _BODY.size or not hmac.compare_digest(mac, _mac(secret, "delivery", body)):
        return None
    return _BODY.unpack(body)  # type: ignore[return-value]


def sign_text(secret: str, purpose: str, text: str) -> str:
    """A signature of a text, for one purpose."""
    return _mac(secret, purpose, text.encode(errors="replace")).hex()


def check_text(secret: str, purpose: str, text: str, signature: str) -> bool:
    # Strangers send any signs at all.
    return hmac.compare_digest(sign_text(secret, purpose, text).encode(), signature.encode(errors="replace"))


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
