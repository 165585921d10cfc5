"""What logs must not hold: people's addresses, what lets somebody in, and what is written to
people."""

import hashlib
import re

from meadowrun.base import signing

_ADDRESS = re.compile(r"[\w.+-]+@[\w-]+(?:\.[\w-]+)+")
_WORD = re.compile(r"[A-Za-z0-9_-]{20,}")


def leaks(log, secret, sign_ins, written):
    """What of these stands in a log: addresses, the secret, tokens signed with it, tokens of
    `sign_ins` (their hashes), and texts of `written`. Each with the line it stands in."""
    found = []
    for line in log.splitlines():
        found += [("an address", line) for _ in _ADDRESS.findall(line)]
        if secret in line:
            found.append(("the secret", line))
        for word in _WORD.findall(line):
            if len(word) == 27 and any(
                signing.read(secret, purpose, word) for purpose in signing.PURPOSES
            ):
                found.append(("a token of an email", line))
            if hashlib.sha256(word.encode()).hexdigest() in sign_ins:
                found.append(("a sign-in", line))
        found += [("what was written", line) for text in written if text in line]
    return found
