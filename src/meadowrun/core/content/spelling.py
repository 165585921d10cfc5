"""Spelling, by a Hunspell dictionary that ships with the application."""

import functools
import pathlib
import re
from collections.abc import Collection

from spylls.hunspell import Dictionary

from meadowrun.core.content import fillins

_FOLDER = pathlib.Path(__file__).parent / "data"
_WORD = re.compile(r"[^\W\d_]+(?:[’'][^\W\d_]+)*")
#: Corrections offered for a word.
MOST = 4


@functools.cache
def _dictionary(language: str) -> Dictionary:
    return Dictionary.from_files(str(_FOLDER / language / language))


@functools.lru_cache(maxsize=50_000)
def _known(word: str, language: str) -> bool:
    return bool(_dictionary(language).lookup(word))


@functools.lru_cache(maxsize=5_000)
def suggestions(word: str, language: str = "en_GB") -> tuple[str, ...]:
    """What the word may have been meant to be, the likeliest first. Takes up to a few seconds for a
    strange word."""
    found: list[str] = []
    for suggestion in _dictionary(language).suggest(word):
        found.append(suggestion)
        if len(found) == MOST:
            break
    return tuple(found)


def misspelt(text: str, agreed: Collection[str] = (), language: str = "en_GB") -> list[str]:
    """Words of a text that the dictionary does not know, each once, in order.

    Fill-ins, markup, addresses, words of one letter, abbreviations in capitals and the
    organisation's agreed words are let be; so is a word with a capital inside a sentence, which is
    a name.
    """
    bare = fillins.PART.sub(" ", text)
    bare = re.sub(r"</(p|li|h\d|td)>|<br\s*/?>", ". ", bare)
    bare = re.sub(r"<[^>]*>|&\w+;|https?://\S+|\S+@\S+", " ", bare)
    fine = {word.casefold() for phrase in agreed for word in _WORD.findall(phrase)}
    found: dict[str, None] = {}
    for match in _WORD.finditer(bare):
        word = match.group().replace("’", "'")
        before = bare[: match.start()].rstrip()
        begins = not before or before[-1] in ".!?:"
        if (
            len(word) < 2
            or word.isupper()
            or word.casefold() in fine
            or word[0].isupper()
            and not begins
        ):
            continue
        if not _known(word, language) and not _known(word.lower(), language):
            found[match.group()] = None
    return list(found)
