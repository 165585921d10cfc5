"""The language of people who are written to: of the pages that their links open, and of what asks
them to confirm.

English is what the source is written in; each other language is a catalogue in `languages/`
(gettext's text format). Which one somebody reads is what is on file of them, else what their
browser asks for, else English. The organisation's own words about its topics are kept with the
topics, by language.
"""

import contextlib
import functools
import gettext
import io
import pathlib
from collections.abc import Iterator, Sequence

from babel import Locale, UnknownLocaleError
from babel.messages.mofile import write_mo
from babel.messages.pofile import read_po

from meadowrun.core import language
from meadowrun.people.models import Topic
from meadowrun.shell.language import formats

_FOLDER = pathlib.Path(__file__).parent / "languages"
ENGLISH = "en"
#: What of a topic can be written in other languages.
PARTS = ("name", "about", "often")


@functools.cache
def spoken() -> tuple[str, ...]:
    """The languages there are, by their codes (ISO 639-1), English first."""
    return (ENGLISH, *sorted(path.stem for path in _FOLDER.glob("*.po")))


def other_languages() -> dict[str, str]:
    """The languages besides English, by their codes, each by its name in English."""
    return {code: Locale(code).get_language_name("en") or code for code in spoken()[1:]}


@functools.cache
def language_names() -> dict[str, str]:
    """Every language of two letters (ISO 639-1) by its code, each by its name in English, in the
    order of the names."""
    names = {code: name for code, name in Locale(ENGLISH).languages.items() if len(code) == 2}
    return dict(sorted(names.items(), key=lambda one: one[1]))


def language_name(code: str | None) -> str:
    """What a language on file is called in English, such as “de” or “de-AT”; another text is as it
    stands there."""
    try:
        named = Locale.parse((code or "").replace("-", "_")).get_display_name(ENGLISH)
    except (ValueError, UnknownLocaleError):
        named = None
    return named or code or ""


@functools.cache
def catalogue(code: str) -> language.Catalogue | None:
    """What gives the texts of readers in a language; None for English."""
    if code == ENGLISH:
        return None
    with (_FOLDER / f"{code}.po").open("rb") as file:
        read = read_po(file, locale=code)
    made = io.BytesIO()
    write_mo(made, read)
    made.seek(0)
    return gettext.GNUTranslations(made)


def chosen(on_file: str | None, asked: Sequence[str] = ()) -> str:
    """The language somebody reads: that on file, such as “de” or “de-AT”, else the first of those
    that their browser asks for and that there is."""
    for one in (on_file or "", *asked):
        code = one.replace("_", "-").partition("-")[0].strip().lower()
        if code in spoken():
            return code
    return ENGLISH


@contextlib.contextmanager
def reading(code: str, asked: Sequence[str] = ()) -> Iterator[None]:
    """Within this, what is printed is in a language; `asked` are the locales a browser asks for, by
    which days and numbers are written."""
    before = language.reader()
    language.read_by(catalogue(code), formats.of(formats.chosen(code, list(asked))))
    try:
        yield
    finally:
        language.read_by(*before)


def name_of(topic: Topic, code: str) -> str:
    """What a topic is called in a language, where that was written; else its own name."""
    return topic.by_language.get(code, {}).get("name") or topic.name


def about(topic: Topic, code: str) -> str:
    """What a topic is about and how often something comes, in a language where that was written."""
    written = topic.by_language.get(code, {})
    parts = [written.get("about") or topic.about, written.get("often") or topic.often]
    return ", ".join(part for part in parts if part)
