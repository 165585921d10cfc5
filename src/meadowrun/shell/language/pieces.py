"""The pieces of a template's source: texts, expressions, tags and the rest; and which strings are
words for people."""

import dataclasses
import re
from collections.abc import Iterator

#: Elements that do not end a sentence.
INLINE = frozenset(
    ["a", "abbr", "b", "button", "code", "em", "i", "kbd", "label", "mark", "q", "small", "span"]
    + ["strong", "sub", "sup", "time", "u", "var"]
)
#: Attributes that are read, by eye or by a screen reader.
READ = ("aria-label", "title", "placeholder", "alt", "label", "data-sure", "data-say", "data-label")
#: Expressions that print whole parts of a page, and no value of a sentence.
_PARTS = re.compile(r"^(csrf|draw|caller|super|held|row|field|picture)\b")
#: Quoted braces are part of what is quoted.
CODE = r"(?:'(?:[^'\\]|\\.)*'|\"(?:[^\"\\]|\\.)*\"|[^'\"])*?"
JINJA = rf"\{{#.*?#\}}|\{{\{{{CODE}\}}\}}|\{{%{CODE}%\}}"
_TOKEN = re.compile(
    rf"(?P<jinja>{JINJA})|(?P<remark><!.*?>)"
    r"|(?P<tag></?[a-zA-Z][\w-]*"
    rf"(?:{JINJA}|\"(?:{JINJA}|[^\"])*\"|'(?:{JINJA}|[^'])*'|[^<>\"'{{]|\{{(?![{{%#]))*>)",
    re.DOTALL,
)
#: What is inside these is not a text of ours, or keeps its blanks.
_WHOLE = re.compile(r"<(script|style|textarea|pre)\b.*?</\1\s*>", re.DOTALL)
LITERAL = re.compile(r"'((?:[^'\\]|\\.)*)'|\"((?:[^\"\\]|\\.)*)\"")
ONE_JINJA = re.compile(JINJA, re.DOTALL)
#: One word that stands for itself, as labels do.
_LABEL = re.compile(r"[A-Z][a-z]+")
BLANK = " \t\n\r"
#: A word: two letters that stand together.
WORD = re.compile(r"[^\W\d_]{2}")
#: What is written for machines: addresses, queries, formats, markup.
_MACHINE = re.compile(
    r"^[\w.:/#%{}\[\]()=&?*|@<>,;+'\"^$~!-]*$|\b(SELECT|INSERT|UPDATE|DELETE|WHERE|JOIN|CREATE|"
    r"ALTER|FROM|AND|ORDER BY|VALUES|CASE|UNION|WITH)\b|</|/>|<\w+|\\[bdsw]|::|^--|%[sd(]"
)


@dataclasses.dataclass(frozen=True)
class Token:
    """A piece of the source: its kind (text, expression, open, close, other), where it begins, and
    the name of its element where it is a tag."""

    kind: str
    source: str
    at: int
    name: str = ""


def is_for_people(text: str) -> bool:
    """Whether a string holds words that somebody reads."""
    return bool(WORD.search(text.replace("…", ""))) and not _MACHINE.search(text)


def literal_is_for_people(text: str) -> bool:
    """Whether a literal of an expression is read, not a key, an address or a class."""
    if _LABEL.fullmatch(text):
        return True
    text = ONE_JINJA.sub("", text)
    return (" " in text.strip() or text[:1].isupper()) and is_for_people(text)


def tokens(source: str) -> Iterator[Token]:
    """The source in pieces, one after another."""
    whole = {match.start(): match.end() for match in _WHOLE.finditer(source)}
    at = 0
    while at < len(source):
        found = _TOKEN.search(source, at)
        end = found.start() if found else len(source)
        if end > at:
            yield Token("text", source[at:end], at)
        if not found:
            return
        if end in whole:
            yield from _whole(source[end : whole[end]], end)
            at = whole[end]
        else:
            yield _token(found)
            at = found.end()


def _whole(source: str, at: int) -> Iterator[Token]:
    """An element whose text is not ours: its own tag, which may be read, and the rest."""
    tag = _TOKEN.match(source)
    length = tag.end() if tag else 0
    yield Token("other", source[:length], at, "script")
    yield Token("kept", source[length:], at + length, "script")


def _token(found: re.Match[str]) -> Token:
    piece, at = found.group(), found.start()
    if found["tag"]:
        name = re.match(r"</?([a-zA-Z][\w-]*)", piece)
        kind = "close" if piece.startswith("</") else "open"
        return Token(kind, piece, at, name.group(1).lower() if name else "")
    if piece.startswith("{{") and not _PARTS.match(expression(piece)):
        return Token("expression", piece, at)
    return Token("other", piece, at)


def expression(piece: str) -> str:
    """What stands between the braces."""
    return piece[2:-2].strip("-+").strip()
