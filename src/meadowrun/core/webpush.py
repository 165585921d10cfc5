"""Web Push: a message encrypted so that only the browser reads it (RFC 8291, RFC 8188), and proof
of who sends (RFC 8292)."""

import base64
import json
import os
import struct
from urllib.parse import urlsplit

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.asymmetric.utils import decode_dss_signature
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.kdf.hkdf import HKDF

from meadowrun.core import wording
from meadowrun.core.language import Problem, Wording

#: Bytes of a payload that every push service takes (RFC 8291, 4: 4096 less what encryption adds).
MOST_BYTES = 3993
_RECORD = 4096


class PushProblem(Problem):
    """Keys or a payload that cannot be used."""


def encode(data: bytes) -> str:
    return base64.urlsafe_b64encode(data).rstrip(b"=").decode()


def decode(text: str) -> bytes:
    try:
        return base64.b64decode(text + "=" * (-len(text) % 4), b"-_", validate=True)
    except ValueError:
        raise PushProblem("a key is not base64url") from None


def _point(key: ec.EllipticCurvePublicKey) -> bytes:
    return key.public_bytes(
        serialization.Encoding.X962, serialization.PublicFormat.UncompressedPoint
    )


def _derive(salt: bytes, secret: bytes, info: bytes, length: int) -> bytes:
    return HKDF(hashes.SHA256(), length, salt, info).derive(secret)


def _keys(
    shared: bytes, auth: bytes, salt: bytes, theirs: bytes, ours: bytes
) -> tuple[bytes, bytes]:
    """Content key and nonce from the shared secret (RFC 8291, 3.4). `theirs` is the browser's
    point, `ours` the sender's."""
    secret = _derive(auth, shared, b"WebPush: info\0" + theirs + ours, 32)
    return (
        _derive(salt, secret, b"Content-Encoding: aes128gcm\0", 16),
        _derive(salt, secret, b"Content-Encoding: nonce\0", 12),
    )


def encrypt(
    payload: bytes,
    p256dh: str,
    auth: str,
    private: ec.EllipticCurvePrivateKey | None = None,
    salt: bytes | None = None,
) -> bytes:
    """A payload for a browser's keys (base64url), as the body of a request with Content-Encoding
    aes128gcm.

    `private` and `salt` are fresh unless given. Raises PushProblem.
    """
    if len(payload) > MOST_BYTES:
        raise PushProblem(
            Wording(
                "the push notification takes %(payload)s bytes; %(most_bytes)s are the most",
                payload=wording.number(len(payload)),
                most_bytes=wording.number(MOST_BYTES),
            )
        )
    theirs = decode(p256dh)
    try:
        public = ec.EllipticCurvePublicKey.from_encoded_point(ec.SECP256R1(), theirs)
    except ValueError:
        raise PushProblem("the browser's key is no point of P-256") from None
    private, salt = private or ec.generate_private_key(ec.SECP256R1()), salt or os.urandom(16)
    ours = _point(private.public_key())
    key, nonce = _keys(private.exchange(ec.ECDH(), public), decode(auth), salt, theirs, ours)
    return (
        salt
        + struct.pack(">IB", _RECORD, len(ours))
        + ours
        + AESGCM(key).encrypt(nonce, payload + b"\x02", None)
    )


def decrypt(body: bytes, private: ec.EllipticCurvePrivateKey, auth: str) -> bytes:
    """What a browser does with such a body. Raises PushProblem when it is not meant for these
    keys."""
    if len(body) < 21 + 65 + 17:
        raise PushProblem("the body is too short")
    salt, length = body[:16], body[20]
    ours = body[21 : 21 + length]
    try:
        public = ec.EllipticCurvePublicKey.from_encoded_point(ec.SECP256R1(), ours)
        key, nonce = _keys(
            private.exchange(ec.ECDH(), public),
            decode(auth),
            salt,
            _point(private.public_key()),
            ours,
        )
        plain = AESGCM(key).decrypt(nonce, body[21 + length :], None)
    except (ValueError, InvalidTag):
        raise PushProblem("the body was not made for these keys") from None
    return plain.rstrip(b"\0").removesuffix(b"\x02")


def vapid_key(secret: str) -> ec.EllipticCurvePrivateKey:
    """The installation's key, always the same for a secret."""
    number = int.from_bytes(_derive(b"meadowrun", secret.encode(), b"vapid", 48), "big")
    order = 0xFFFFFFFF00000000FFFFFFFFFFFFFFFFBCE6FAADA7179E84F3B9CAC2FC632551
    return ec.derive_private_key(number % (order - 1) + 1, ec.SECP256R1())


def public_key(private: ec.EllipticCurvePrivateKey) -> str:
    """The key that a website names when it asks a browser to subscribe."""
    return encode(_point(private.public_key()))


def authorization(
    private: ec.EllipticCurvePrivateKey, endpoint: str, contact: str, now: float
) -> str:
    """The Authorization header for a request to an endpoint: a signed statement of who asks, good
    for twelve hours."""
    parts = urlsplit(endpoint)
    claims = {
        "aud": f"{parts.scheme}://{parts.netloc}",
        "exp": int(now) + 12 * 3600,
        "sub": contact,
    }
    unsigned = ".".join(
        encode(json.dumps(part, separators=(",", ":")).encode())
        for part in ({"typ": "JWT", "alg": "ES256"}, claims)
    )
    r, s = decode_dss_signature(private.sign(unsigned.encode(), ec.ECDSA(hashes.SHA256())))
    return (
        f"vapid t={unsigned}.{encode(r.to_bytes(32, 'big') + s.to_bytes(32, 'big'))}, "
        f"k={public_key(private)}"
    )
