"""Web addresses inside texts: where they begin and end, and how values that are filled in stand in
them."""

import dataclasses
import html
import re
from collections.abc import Iterator
from html.entities import html5

from meadowrun.core.content import fillins

_START = re.compile(r"https?://", re.IGNORECASE)
_ENDS = frozenset(' \t\r\n<>"{}')
#: What closes a sentence rather than an address.
_TRAILING = ".,;:!?'’”"
_ENTITY = re.compile(r"&(#[0-9]+;?|#[xX][0-9a-fA-F]+;?|[A-Za-z][A-Za-z0-9]*;?)(?=(.?))", re.DOTALL)


@dataclasses.dataclass(frozen=True, slots=True)
class Found:
    """An address in a text: text[start:end]. `loop` is the `for` it stands in, if any."""

    start: int
    end: int
    loop: fillins.Tag | None = None


def addresses(text: str) -> Iterator[Found]:
    """The addresses of a text in order. A fill-in belongs to the address it stands in, whatever it
    holds; one pass."""
    loops = _Loops(text)
    place = 0
    while (begin := _START.search(text, place)) is not None:
        end = _end(text, begin.end())
        place = max(end, begin.end())
        if end > begin.end():
            yield Found(begin.start(), end, loops.at(begin.start()))


def _end(text: str, place: int) -> int:
    """Where the address ends whose first signs end at `place`."""
    floor, opened = place, {")": 0, "]": 0}
    while place < len(text):
        if text.startswith("{{", place):
            closed = text.find("}}", place)
            if closed < 0:
                break
            place = floor = closed + 2
            continue
        sign = text[place]
        if sign in _ENDS or sign.isspace():
            break
        if sign in "([":
            opened[")" if sign == "(" else "]"] += 1
        if sign in ")]":
            opened[sign] -= 1
            if opened[sign] < 0:
                # It closes a bracket that was opened before the address.
                break
        place += 1
    while place > floor and text[place - 1] in _TRAILING:
        place -= 1
    return place


class _Loops:
    """The `for` tags of a text by place."""

    def __init__(self, text: str):
        self._marks: list[tuple[int, fillins.Tag | None]] = []
        for match in fillins.PART.finditer(text):
            if match.group().startswith("{%"):
                tag = fillins.tag(match.group())
                if tag.kind in ("for", "endfor"):
                    self._marks.append((match.end(), tag if tag.kind == "for" else None))
        self._next = 0
        self._inside: fillins.Tag | None = None

    def at(self, place: int) -> fillins.Tag | None:
        """The loop at a place; places must be asked in order."""
        while self._next < len(self._marks) and self._marks[self._next][0] <= place:
            self._inside = self._marks[self._next][1]
            self._next += 1
        return self._inside


def encoded(href: str) -> str:
    """An address whose fill-ins are percent-encoded where they are filled in, save one that is its
    beginning.

    One with questions in it stays as it is.
    """
    made = []
    for place, part in enumerate(fillins.split(href)):
        if isinstance(part, fillins.Tag):
            return href
        made.append(
            part if isinstance(part, str) else part.encoded().source() if place else part.source()
        )
    return "".join(made)


def normal(href: str) -> str:
    """An address with its fill-ins written in the one way that a compiled message knows them by."""
    return "".join(part if isinstance(part, str) else part.source() for part in fillins.split(href))


def encoded_in(text: str) -> str:
    """A text with every address in it `encoded`."""
    made, place = [], 0
    for found in addresses(text):
        made += [text[place : found.start], encoded(text[found.start : found.end])]
        place = found.end
    return "".join([*made, text[place:]])


def attribute_value(source: str) -> str:
    """The value of an HTML attribute as browsers read it: `&copy=1` stays, since no entity ends
    before a “=” or a letter there (HTML Standard, 13.2.5.73)."""

    def decoded(match: re.Match[str]) -> str:
        body, after = match.group(1), match.group(2)
        if body.startswith("#"):
            return html.unescape(match.group())
        if body not in html5 or not body.endswith(";") and (after == "=" or after.isalnum()):
            return match.group()
        return html5[body]

    return _ENTITY.sub(decoded, source)
