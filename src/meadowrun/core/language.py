"""Wordings that can be read in other languages than English.

A `Wording` is an English text that remembers what it was made of. Everything that compares, stores
or logs it sees plain English; what is printed on a page is looked up in the catalogue of whoever
reads the page. So a text may be made anywhere, also in a rule or a background task, by code that
knows nothing of readers.

Modules import it under the usual name: `from meadowrun.core.language import Wording as _`.
"""

import contextvars
from typing import Any, Protocol, Self

import markupsafe


class Catalogue(Protocol):
    """What gives a text in another language, as `gettext.NullTranslations` and its kind do."""

    def gettext(self, message: str) -> str:
        """The text in that language; the English one where there is none."""

    def ngettext(self, one: str, many: str, count: int) -> str:
        """The form of the text that goes with a number."""


class Formats(Protocol):
    """How numbers, days and times are written where somebody lives."""

    def written(self, how: str, value: Any) -> str:
        """A value as it is written there; `how` is that of a `Figure`."""


#: What filling in raises where a translation names a value that is not there, or breaks off.
_WRONG = (KeyError, ValueError, TypeError)
_reads: contextvars.ContextVar[Catalogue | None] = contextvars.ContextVar("reads", default=None)
_writes: contextvars.ContextVar[Formats | None] = contextvars.ContextVar("writes", default=None)


def read_by(catalogue: Catalogue | None, formats: Formats | None = None) -> None:
    """From now on what is printed in this context is looked up in a catalogue (None: English), with
    numbers, days and times in some formats (None: as in Britain)."""
    _reads.set(catalogue)
    _writes.set(formats)


def reader() -> tuple[Catalogue | None, Formats | None]:
    """What is printed in this context is read by these; to be given to `read_by` again."""
    return _reads.get(), _writes.get()


class Wording(str):
    """An English text, with the message and the values it was made of.

    `message` holds its values as `%(name)s`. Where there are none, a percent sign is only that.
    """

    message: str
    values: dict[str, Any]
    #: the form for several, and how many there are, where the text goes by a number
    many: str
    how_many: float

    def __new__(cls, message: str, /, **values: Any) -> Self:
        """`Wording("%(name)s was saved.", name="A")` reads “A was saved.”"""
        return cls._made(message, values, "", 0)

    @classmethod
    def counted(cls, one: str, many: str, count: float, /, **values: Any) -> Self:
        """A text that goes by a number: `one` for exactly 1, else `many`."""
        return cls._made(one, values, many, count)

    @classmethod
    def _made(cls, message: str, values: dict[str, Any], many: str, count: float) -> Self:
        english = many if many and count != 1 else message
        made = super().__new__(cls, english % values if values else english)
        made.message, made.values, made.many, made.how_many = message, values, many, count
        return made

    def __str__(self) -> str:
        """Itself, so that `str()` of an error keeps what its text was made of."""
        return self

    def __add__(self, other: str) -> "Wording":
        """Two texts one behind the other, each still to be looked up."""
        if isinstance(other, markupsafe.Markup):
            return NotImplemented
        return Wording("%(first)s%(then)s", first=self, then=other)

    def __radd__(self, other: str) -> "Wording":
        return Wording("%(first)s%(then)s", first=other, then=self)

    def __html__(self) -> str:
        """As whoever reads the page reads it; called by templates."""
        return str(markupsafe.escape(in_language(self)))


class Figure(Wording):
    """A number, a share, a day or a time: code sees it as it is written in Britain, whoever reads
    the page as they write it themselves.

    `how` it is written: number; percent, decimal or signed (value and places); day, day_month, span
    (two days), weekday, weekday_day, weekday_date, month, long_month, short_month, time or seconds.
    """

    how: str
    value: Any

    @classmethod
    def of(cls, english: str, how: str, value: Any) -> Self:
        """One that stands in English as `english`."""
        made = cls._made(english, {}, "", 0)
        made.how, made.value = how, value
        return made


def worded(text: str) -> Wording:
    """A text as one that can be looked up, whatever it was made of."""
    return text if isinstance(text, Wording) else Wording(text)


def plain(text: str) -> str:
    """A text as code sees it, which nobody's language or place changes any more: for what goes into
    messages, whose previews are read elsewhere than they are."""
    return str.__str__(text)


def forms(one: str, many: str) -> tuple[str, str]:
    """The two forms of a text by its number, to be given to `Wording.counted` later; a catalogue
    lists them here."""
    return one, many


class Problem(ValueError):
    """What is wrong with something, in words for whoever can fix it. Rules of the core raise one
    of its kinds."""

    def __init__(self, message: str, *more: object):
        super().__init__(worded(message), *more)


def in_language(text: str) -> str:
    """A text as whoever reads this page reads it, as a plain string."""
    catalogue, formats = _reads.get(), _writes.get()
    if not isinstance(text, Wording) or (catalogue is None and formats is None):
        return str.__str__(text)
    if isinstance(text, Figure):
        return formats.written(text.how, text.value) if formats else str.__str__(text)
    if catalogue is None:
        found = text.many if text.many and text.how_many != 1 else text.message
    elif text.many:
        # Catalogues ask for a whole number; half a row is said as several are.
        whole = int(text.how_many) if text.how_many == int(text.how_many) else 2
        found = catalogue.ngettext(text.message, text.many, whole)
    else:
        found = catalogue.gettext(text.message)
    if not text.values:
        return found
    values = {
        name: in_language(value) if isinstance(value, str) else value
        for name, value in text.values.items()
    }
    try:
        return found % values
    except _WRONG:
        return str.__str__(text)


def in_markup(
    message: str, /, *tags: tuple[str, markupsafe.Markup], **values: Any
) -> markupsafe.Markup:
    """A message of a template, which may hold markup, as whoever reads the page reads it.

    Args:
        message: the English message; values as `%(name)s`, elements without attributes.
        tags: names of elements in the message, each with its opening tag as it is to be.
        values: what is put in, made safe unless it is markup.
    """
    catalogue = _reads.get()
    found = catalogue.gettext(message) if catalogue else message
    for name, tag in tags:
        opened = tag.replace("%", "%%") if values else tag
        found = found.replace(f"<{name}>", opened)
        found = found.replace(f"</{name}>", f"</{name.rstrip('0123456789')}>")
    if not values:
        return markupsafe.Markup(found)
    try:
        return markupsafe.Markup(found) % values
    except _WRONG:
        if found == message:
            raise
        formats = _writes.get()
        read_by(None, formats)
        try:
            return in_markup(message, *tags, **values)
        finally:
            read_by(catalogue, formats)


def in_attribute(message: str, /, **values: Any) -> markupsafe.Markup:
    """A message of a template inside an attribute, as whoever reads the page reads it."""
    catalogue = _reads.get()
    found = catalogue.gettext(message) if catalogue else message
    safe = markupsafe.Markup(found.replace('"', "&#34;"))
    if not values:
        return safe
    try:
        return safe % values
    except _WRONG:
        return markupsafe.Markup(message) % values
