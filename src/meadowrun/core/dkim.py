"""Signatures under emails (DKIM, RFC 6376; Ed25519 by RFC 8463): keys, the record that is published
for them, and the header field that proves who sent an email.

Header and body are canonicalised “relaxed”: servers on the way may wrap lines and change spaces
without breaking the signature.
"""

import base64
import dataclasses
import hashlib
import re
from collections.abc import Mapping, Sequence

from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ed25519, padding, rsa

ALGORITHMS = ("rsa", "ed25519")
#: Bits of an RSA key (RFC 8301, 3.2: at least 1024 are accepted, 2048 should be used).
RSA_BITS = 2048
#: Header fields that are signed where they stand. “From” is named once more than it stands, so that
#: nobody can add a second one (RFC 6376, 5.4.2 and 8.15).
SIGNED = (
    b"from",
    b"to",
    b"subject",
    b"date",
    b"message-id",
    b"reply-to",
    b"list-unsubscribe",
    b"list-unsubscribe-post",
    b"list-id",
    b"feedback-id",
    b"mime-version",
    b"content-type",
    b"content-transfer-encoding",
)
_SPACES = re.compile(rb"[ \t]+")
_AT_END = re.compile(rb"[ \t]+(?=\r\n)")
_FIELDS = re.compile(rb"\r\n(?![ \t])")
_TAG = re.compile(r"\s*([a-z]+)\s*=\s*([^;]*)", re.IGNORECASE)
#: Characters of a signature on one line.
_LINE = 70

Private = rsa.RSAPrivateKey | ed25519.Ed25519PrivateKey


class UnreadableKey(ValueError):
    """A key that cannot be read."""


def made(algorithm: str) -> bytes:
    """A new private key of one of ALGORITHMS (PEM, PKCS #8)."""
    key: Private = (
        ed25519.Ed25519PrivateKey.generate()
        if algorithm == "ed25519"
        else rsa.generate_private_key(65_537, RSA_BITS)
    )
    return key.private_bytes(
        serialization.Encoding.PEM,
        serialization.PrivateFormat.PKCS8,
        serialization.NoEncryption(),
    )


def read(pem: bytes) -> Private:
    """A private key. Raises UnreadableKey."""
    try:
        found = serialization.load_pem_private_key(pem, None)
    except (ValueError, TypeError) as problem:
        raise UnreadableKey(str(problem)) from None
    if not isinstance(found, rsa.RSAPrivateKey | ed25519.Ed25519PrivateKey):
        raise UnreadableKey("neither an RSA nor an Ed25519 key")
    return found


def record(pem: bytes) -> str:
    """The text that is published for a private key (RFC 6376, 3.6.1): as TXT of
    selector._domainkey.domain."""
    key = read(pem)
    if isinstance(key, ed25519.Ed25519PrivateKey):
        raw = key.public_key().public_bytes(
            serialization.Encoding.Raw, serialization.PublicFormat.Raw
        )
        return f"v=DKIM1; k=ed25519; p={base64.b64encode(raw).decode()}"
    der = key.public_key().public_bytes(
        serialization.Encoding.DER, serialization.PublicFormat.SubjectPublicKeyInfo
    )
    return f"v=DKIM1; k=rsa; p={base64.b64encode(der).decode()}"


def tags(text: str) -> dict[str, str]:
    """The tags of a record or signature (RFC 6376, 3.2), without spaces inside."""
    return {
        match[1].lower(): "".join(match[2].split())
        for part in text.split(";")
        if (match := _TAG.fullmatch(part.strip()))
    }


def same_key(published: str, wanted: str) -> bool:
    """Whether a published record holds the key of another, however it is spaced."""
    one, other = tags(published), tags(wanted)
    return (
        one.get("v", "DKIM1") == "DKIM1"
        and one.get("k", "rsa") == other.get("k", "rsa")
        and bool(other.get("p"))
        and one.get("p") == other.get("p")
    )


@dataclasses.dataclass(frozen=True, slots=True)
class Key:
    """A key that emails of a domain are signed with."""

    domain: str
    selector: str
    private: Private

    @property
    def algorithm(self) -> str:
        """What the signature calls it."""
        kind = "rsa" if isinstance(self.private, rsa.RSAPrivateKey) else "ed25519"
        return f"{kind}-sha256"

    def signed(self, data: bytes) -> bytes:
        """The signature of some data."""
        if isinstance(self.private, rsa.RSAPrivateKey):
            return self.private.sign(data, padding.PKCS1v15(), hashes.SHA256())
        # RFC 8463, 3: what is signed is the SHA-256 of the data.
        return self.private.sign(hashlib.sha256(data).digest())


class Signer:
    """Signs emails by the domain of their From address, with every key of that domain."""

    def __init__(self, keys: Mapping[str, Sequence[Key]]):
        self._keys = keys

    def signed(self, from_address: str, mail: bytes) -> bytes:
        """An email (lines ending in CR LF) with its signatures before it; as it is where the domain
        has no key."""
        keys = self._keys.get(from_address.rpartition("@")[2].lower(), ())
        if not keys:
            return mail
        head, _, body = mail.partition(b"\r\n\r\n")
        digest = base64.b64encode(hashlib.sha256(relaxed_body(body)).digest()).decode()
        fields = _fields(head)
        names = [name for name in SIGNED if name in fields]
        data = b"".join(fields[name] + b"\r\n" for name in names)
        listed = ":".join(["from", *(name.decode() for name in names)])
        return b"".join(_header(key, listed, digest, data) for key in keys) + mail


def _header(key: Key, listed: str, digest: str, data: bytes) -> bytes:
    """One header field, ready to stand before an email."""
    beginning = (
        f"DKIM-Signature: v=1; a={key.algorithm}; c=relaxed/relaxed; d={key.domain};\r\n"
        f" s={key.selector}; h={listed};\r\n bh={digest};\r\n b="
    )
    # What is signed last is this field itself, without a signature and without its end of line.
    unsigned = relaxed_field(beginning.encode())
    found = base64.b64encode(key.signed(data + unsigned)).decode()
    lines = [found[place : place + _LINE] for place in range(0, len(found), _LINE)]
    return (beginning + "\r\n ".join(lines) + "\r\n").encode()


def _fields(head: bytes) -> dict[bytes, bytes]:
    """Header fields in canonical form by their names, the last of each."""
    found = {}
    for line in _FIELDS.split(head):
        name = line.partition(b":")[0].strip().lower()
        if name in SIGNED:
            found[name] = relaxed_field(line)
    return found


def relaxed_field(line: bytes) -> bytes:
    """A header field in canonical form (RFC 6376, 3.4.2), without its end of line."""
    name, _, value = line.partition(b":")
    value = _SPACES.sub(b" ", value.replace(b"\r\n", b"")).strip(b" \t")
    return name.strip(b" \t").lower() + b":" + value


def relaxed_body(body: bytes) -> bytes:
    """A body in canonical form (RFC 6376, 3.4.4)."""
    if b"  " in body or b"\t" in body or b" \r\n" in body or body.endswith(b" "):
        body = _SPACES.sub(b" ", _AT_END.sub(b"", body)).rstrip(b" ")
    end = len(body)
    while end >= 2 and body[end - 2 : end] == b"\r\n":
        end -= 2
    return body[:end] + b"\r\n" if end else b""
