"""HTML that people wrote, read tag by tag with its fill-ins in their places."""

import dataclasses
import html.parser
import re
from collections.abc import Mapping

from meadowrun.core.content import fillins

#: What stands deeper than any real page does is no longer held to be inside anything.
_DEEPEST = 100
_COMMENT = re.compile(r"<!--.*?(?:-->|\Z)", re.DOTALL)
_WORD = re.compile(r"MRMARK(\d+)X")
_VOID = frozenset(
    {
        "area",
        "base",
        "br",
        "col",
        "embed",
        "hr",
        "img",
        "input",
        "link",
        "meta",
        "source",
        "track",
        "wbr",
    }
)


@dataclasses.dataclass(frozen=True, slots=True)
class Element:
    """One tag. `words` is the text inside it, `inside` the tags it stands in, the outermost
    first."""

    tag: str
    attributes: Mapping[str, str]
    words: str
    inside: tuple["Element", ...]

    def style(self) -> dict[str, str]:
        """Its own style, property by property."""
        found = {}
        for part in self.attributes.get("style", "").split(";"):
            name, colon, value = part.partition(":")
            if colon:
                found[name.strip().lower()] = value.replace("!important", "").strip()
        return found


class _Reader(html.parser.HTMLParser):
    def __init__(self, parts: list[str]):
        super().__init__(convert_charrefs=True)
        self.parts = parts
        self.found: list[Element | None] = []
        #: (place in `found`, tag, attributes, pieces of text)
        self.open: list[tuple[int, str, dict[str, str], list[str], Element]] = []

    def _restored(self, text: str) -> str:
        return _WORD.sub(lambda m: self.parts[int(m.group(1))], text)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        given = {name: self._restored(value or "") for name, value in attrs}
        self.found.append(None)
        self.open.append((len(self.found) - 1, tag, given, [], Element(tag, given, "", ())))
        if tag in _VOID or len(self.open) > _DEEPEST:
            self._close()

    def handle_startendtag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.handle_starttag(tag, attrs)
        if self.open and self.open[-1][1] == tag and tag not in _VOID:
            self._close()

    def handle_endtag(self, tag: str) -> None:
        if any(name == tag for _, name, *_ in self.open):
            while self.open[-1][1] != tag:
                self._close()
            self._close()

    def handle_data(self, data: str) -> None:
        if self.open and self.open[-1][1] in ("style", "script", "title"):
            return
        for _, _, _, words, _ in self.open:
            words.append(data)

    def _close(self) -> None:
        place, tag, given, words, _ = self.open.pop()
        outer = tuple(bare for *_, bare in self.open)
        self.found[place] = Element(
            tag, given, self._restored(" ".join("".join(words).split())), outer
        )

    def all(self) -> list[Element]:
        self.close()
        while self.open:
            self._close()
        return [element for element in self.found if element is not None]


def elements(source: str) -> list[Element]:
    """Every tag of some HTML in order, its fill-ins standing in attributes and words as they were
    written."""
    parts: list[str] = []

    def hide(match: re.Match[str]) -> str:
        parts.append(match.group())
        return f"MRMARK{len(parts) - 1}X"

    hidden = fillins.PART.sub(hide, _COMMENT.sub("", source))
    # What no sign closes any more is no tag: the parser would try again at each of its signs.
    end = hidden.rfind(">") + 1
    reader = _Reader(parts)
    reader.feed(hidden[:end])
    return reader.all()
