"""What a refusal says about the address: only one that the address itself is to blame for ends
writing to it."""

import re

_ENHANCED = re.compile(r"\b([245])\.(\d{1,3})\.(\d{1,3})\b")
#: Classes of RFC 3463 (3.3, 3.4, 3.7, 3.8) that speak of a full box, a message too large, the mail
#: system, the content or a
#: policy: the address may be quite right.
_NOT_THE_ADDRESS = {
    ("2", "2"),
    ("2", "3"),
    ("2", "4"),
    ("4", None),
    ("3", None),
    ("6", None),
    ("7", None),
}
#: Of the class of routing, that there is no such domain is said of the address.
_NO_SUCH_HOST = ("4", "4")
#: Replies without an enhanced code that are not about the address: no storage, failed for another
#: reason (RFC 5321, 4.2.3).
_BARE = {"552", "554"}


def is_hard(words: str) -> bool:
    """Whether a refusal for good, as a server words it (“550 5.1.1 no such user”) or as a status
    (“5.1.1”), is about the address.

    By the enhanced status code of RFC 3463 where there is one; else by the reply code of RFC 5321.
    """
    found = _ENHANCED.search(words)
    if found:
        kind, subject, detail = found.groups()
        if kind != "5":
            return False
        if (subject, detail) == _NO_SUCH_HOST:
            return True
        return not ({(subject, detail), (subject, None)} & _NOT_THE_ADDRESS)
    code = words.strip()[:3]
    return code.startswith("5") and code not in _BARE
