"""How texts are compared: the forms that the evaluators of a segment give both sides, each the same
as a function of the database of its name (see the migration that makes them)."""

import re
import unicodedata
from collections.abc import Callable, Mapping

#: Spaces of all scripts, said one by one: what counts as one differs between regular expressions.
_SPACES = re.compile("[ \t\n\r\f\v\u0085\u00a0\u1680\u2000-\u200a\u2028\u2029\u202f\u205f\u3000]+")
_MARKS = re.compile("[\u0300-\u036f]")


def composed(text: str) -> str:
    """Letters with their marks as one sign, however they were typed (Unicode NFC)."""
    return text if text.isascii() else unicodedata.normalize("NFC", text)


def letters(text: str) -> str:
    """Whatever the capitals (Unicode's full case folding, between two normalisations to NFC)."""
    return text.lower() if text.isascii() else composed(composed(text).casefold())


def loose(text: str) -> str:
    """Whatever the capitals, accents and spaces."""
    bare = text if text.isascii() else _MARKS.sub("", unicodedata.normalize("NFKD", text))
    return _SPACES.sub(" ", letters(bare)).strip(" ")


#: how text is compared → the form of it that is compared
FORMS: Mapping[str, Callable[[str], str]] = {"letters": letters, "loose": loose, "exact": composed}
