"""The texts of a template, found in its source, so that templates stay plain English.

A *unit* is what a translator gets as one message: the words of an element with the small elements
and the values among them, a read attribute, or a literal inside an expression. `marked` puts a
call around each of them before Jinja reads the template; `units` lists them for a catalogue. Both
come from the same reading, so that what is looked up is what was listed.

In a message, values are `%(name)s`, and small elements stand without their attributes, numbered
where they repeat: `It goes to <a>%(name)s</a> and <a2>others</a2>.` A sentence that is broken by a
statement (`{% if … %}`) makes one unit before it, one inside and one behind.
"""

import dataclasses
import html
import keyword
import re
from collections.abc import Iterator, Sequence

from meadowrun.shell.language.pieces import (
    BLANK,
    CODE,
    INLINE,
    JINJA,
    LITERAL,
    ONE_JINJA,
    READ,
    WORD,
    Token,
    expression,
    literal_is_for_people,
    tokens,
)

#: What stands between the expressions of an attribute, and they.
_SPLIT = re.compile(rf"(\{{\{{{CODE}\}}\}})", re.DOTALL)
_ATTRIBUTE = re.compile(
    rf"(?P<bare>{JINJA})|(?:\b(?P<read>{'|'.join(READ)})|[^\s\"'<>=]+)=\""
    rf"(?P<value>(?:{JINJA}|[^\"])*)\"",
    re.DOTALL,
)
#: Attributes outside of a tag.
_ATTRIBUTES = re.compile(r"(?:^|\s)[a-z][\w:.-]*=\"")
#: Statements whose literals name templates.
_NAMES_FILES = re.compile(r"\{%[-+]?\s*(include|extends|from|import)\b")
#: A literal that an expression may come to: the first thing in it, or behind “else”.
_RESULT = re.compile(r"(?:(?<=\{\{ )|(?<=\{\{- )|(?<=\belse ))(?=['\"])")
#: A message that a script asks for.
_ASKED = re.compile(r"Meadowrun\.wording\(\s*'((?:[^'\\\n]|\\.)*)'")


@dataclasses.dataclass(frozen=True)
class Unit:
    """One message of a template, and the line on which it begins."""

    text: str
    line: int


@dataclasses.dataclass(frozen=True)
class _Change:
    """Another source for a stretch of the template, and the messages in it with their places."""

    at: int
    end: int
    instead: str
    messages: tuple[tuple[str, int], ...]


def units(source: str) -> list[Unit]:
    """The messages of a template in their order."""
    found = [message for change in _changes(source) for message in change.messages]
    return [Unit(text, source.count("\n", 0, at) + 1) for text, at in found]


def of_script(source: str) -> list[Unit]:
    """The messages that a script asks for."""
    return [
        Unit(found.group(1).replace("\\'", "'"), source.count("\n", 0, found.start()) + 1)
        for found in _ASKED.finditer(source)
    ]


def marked(source: str) -> str:
    """The template with a call around each message; every line keeps its number."""
    made, at = [], 0
    for change in _changes(source):
        made += [source[at : change.at], change.instead]
        at = change.end
    return "".join([*made, source[at:]])


def _changes(source: str) -> Iterator[_Change]:
    """What is changed, from the top to the bottom."""
    run: list[Token] = []
    for token in tokens(source):
        if token.kind == "other" or (token.name and token.name not in INLINE):
            yield from _of_run(run)
            run = []
            yield from _of_token(token)
        else:
            run.append(token)
    yield from _of_run(run)


def _of_run(run: Sequence[Token]) -> Iterator[_Change]:
    """What becomes of a stretch without statements and without elements that end a sentence."""
    if not run:
        return
    source = "".join(token.source for token in run)
    if _ATTRIBUTES.search("".join(token.source for token in run if token.kind == "text")):
        # A macro that gives attributes of an element.
        made, inner = _within(source, run[0].at)
        yield _Change(run[0].at, run[0].at + len(source), made, tuple(inner))
        return
    pairs = _pairs(run)
    broken = [
        place
        for place, token in enumerate(run)
        if token.kind in ("open", "close") and place not in pairs
    ]
    if broken:
        yield from _of_run(run[: broken[0]])
        yield from _of_token(run[broken[0]])
        yield from _of_run(run[broken[0] + 1 :])
        return
    if _speaks(run, pairs):
        yield _unit(run)
        return
    place = 0
    while place < len(run):
        yield from _of_token(run[place])
        if run[place].kind == "open":
            yield from _of_run(run[place + 1 : pairs[place]])
            place = pairs[place]
        place += 1


def _pairs(run: Sequence[Token]) -> dict[int, int]:
    """The places of tags that belong together, each to the other."""
    pairs: dict[int, int] = {}
    opened: list[int] = []
    for place, token in enumerate(run):
        if token.kind == "open":
            opened.append(place)
        elif token.kind == "close" and opened and run[opened[-1]].name == token.name:
            start = opened.pop()
            pairs[start], pairs[place] = place, start
    return pairs


def _speaks(run: Sequence[Token], pairs: dict[int, int]) -> bool:
    """Whether words stand in it outside of its elements."""
    place = 0
    while place < len(run):
        token = run[place]
        if token.kind == "text" and WORD.search(html.unescape(token.source)):
            return True
        place = pairs[place] + 1 if token.kind == "open" else place + 1
    return False


def _unit(run: Sequence[Token], function: str = "in_markup") -> _Change:
    """The change that puts a call in the place of one unit; the blanks around it stay."""
    said = _Said()
    for token in run:
        said.take(token)
    source = "".join(token.source for token in run)
    words = source.strip(BLANK)
    before, after = source.split(words, 1) if words else (source, "")
    # A blank that the first or the last expression takes away stays away.
    opened = "{{-" if words.startswith("{{-") else "{{"
    closed = "-}}" if words.endswith("-}}") else "}}"
    if opened == "{{-":
        before = ""
    if closed == "-}}":
        after = ""
    lost = source.count("\n") - before.count("\n") - after.count("\n")
    kept, call = said.kept(), said.call(function)
    lines = "\n" * max(lost - kept.count("\n") - call.count("\n"), 0)
    at, end = run[0].at, run[-1].at + len(run[-1].source)
    return _Change(
        at,
        end,
        f"{before}{kept}{opened} {call}{lines} {closed}{after}",
        ((said.message, at + len(before)), *said.inner),
    )


class _Said:
    """A message as it grows piece by piece."""

    def __init__(self) -> None:
        self._text = ""
        #: the expressions by the names they have in the message
        self._values: dict[str, str] = {}
        #: the tags that are put in, by the names they have in the message
        self._tags: dict[str, str] = {}
        #: messages inside its tags and expressions, with their places
        self.inner: list[tuple[str, int]] = []
        self._open: list[str] = []
        self._cut = False

    @property
    def message(self) -> str:
        """As a translator gets it. Only beside values is a percent sign doubled."""
        text = self._text.strip(BLANK)
        return text if self._values else text.replace("%%", "%")

    def take(self, token: Token) -> None:
        """Adds a piece."""
        if token.kind == "text":
            self._add(re.sub(f"[{BLANK}]+", " ", token.source).replace("%", "%%"))
        elif token.kind == "open":
            self._add(f"<{self._named(token)}>")
        elif token.kind == "close":
            self._add(f"</{self._open.pop()}>")
        else:
            if token.source.startswith("{{-"):
                self._text = self._text.rstrip(BLANK)
            made, inner = _literals(token.source, token.at, printed=True)
            self.inner += inner
            self._add(f"%({self._value(expression(token.source), expression(made))})s")
            self._cut = token.source.endswith("-}}")

    def _add(self, text: str) -> None:
        text = text.lstrip(BLANK) if self._cut else text
        self._cut = self._cut and not text
        self._text += text[1:] if self._text[-1:] == text[:1] == " " else text

    def _named(self, token: Token) -> str:
        plain = token.source == f"<{token.name}>"
        number, name = 1, token.name
        while name in self._tags or (not plain and f"<{name}>" in self._text):
            number += 1
            name = f"{token.name}{number}"
        if not plain or name != token.name:
            self._tags[name], inner = _within(token.source, token.at)
            self.inner += inner
        self._open.append(name)
        return name

    def _value(self, source: str, made: str) -> str:
        for name, known in self._values.items():
            if known == made:
                return name
        plain = LITERAL.sub("", source).split("|")[0]
        words = re.findall(r"[A-Za-z][A-Za-z0-9_]*(?=\s*(?:\(|$))", plain)
        base = words[0] if words and not keyword.iskeyword(words[0]) else "value"
        number, name = 1, base
        while name in self._values:
            number += 1
            name = f"{base}{number}"
        self._values[name] = made
        return name

    def kept(self) -> str:
        """Statements that keep each tag with its attributes, for the call to put in."""
        return "".join(
            f"{{% set kept_{name} %}}{tag}{{% endset %}}" for name, tag in self._tags.items()
        )

    def call(self, function: str) -> str:
        """The call of a function of the templates that says the message."""
        tags = "".join(f", ({name!r}, kept_{name})" for name in self._tags)
        values = "".join(f", {name}=({value})" for name, value in self._values.items())
        return f"{function}({_quoted(self.message)}{tags}{values})"


def _quoted(text: str) -> str:
    """A literal of Jinja."""
    return "'" + text.replace("\\", "\\\\").replace("'", "\\'") + "'"


def _of_token(token: Token) -> Iterator[_Change]:
    """What becomes of a tag, an expression or a statement by itself."""
    if token.kind in ("text", "kept"):
        return
    if token.kind == "expression":
        made, inner = _literals(token.source, token.at, printed=True)
    else:
        made, inner = _within(token.source, token.at)
    if made != token.source:
        yield _Change(token.at, token.at + len(token.source), made, tuple(inner))


def _within(source: str, at: int) -> tuple[str, list[tuple[str, int]]]:
    """A tag, an expression or a statement with calls around what it says; and that, with its
    places."""
    if source.startswith(("{#", "<!")):
        return source, []
    if ONE_JINJA.fullmatch(source):
        return _literals(source, at)
    said: list[tuple[str, int]] = []
    made, done = [], 0
    for found in _ATTRIBUTE.finditer(source):
        place = "bare" if found["bare"] else "value"
        of = _read if found["read"] else _expressions
        kept, inner = of(found[place], at + found.start(place))
        said += inner
        made += [source[done : found.start(place)], kept]
        done = found.end(place)
    return "".join([*made, source[done:]]), said


def _expressions(source: str, at: int) -> tuple[str, list[tuple[str, int]]]:
    """The inside of an attribute that nobody reads: only literals in its expressions are said."""
    made: list[str] = []
    said: list[tuple[str, int]] = []
    done = 0
    for found in ONE_JINJA.finditer(source):
        kept, inner = _within(found.group(), at + found.start())
        said += inner
        made += [source[done : found.start()], kept]
        done = found.end()
    return "".join([*made, source[done:]]), said


def _read(source: str, at: int) -> tuple[str, list[tuple[str, int]]]:
    """The inside of an attribute that is read: what stands between its statements is a message."""
    made: list[str] = []
    said: list[tuple[str, int]] = []
    done = 0
    ends = [(m.start(), m.end()) for m in ONE_JINJA.finditer(source) if m.group()[1] == "%"]
    for start, end in [*ends, (len(source), len(source))]:
        piece = source[done:start]
        parts = [
            Token("expression" if part.startswith("{{") else "text", part, at + done)
            for part in _SPLIT.split(piece)
            if part
        ]
        if any(token.kind == "text" and WORD.search(token.source) for token in parts):
            change = _unit(parts, "in_attribute")
            piece = change.instead
            said += change.messages
        else:
            piece, inner = _expressions(piece, at + done)
            said += inner
        statement, inner = _literals(source[start:end], at + start)
        said += inner
        made += [piece, statement]
        done = end
    return "".join(made), said


def _literals(source: str, at: int, printed: bool = False) -> tuple[str, list[tuple[str, int]]]:
    """An expression or a statement with calls around the literals that are read; where it is
    printed as text, those that it may come to are read whatever they look like."""
    if _NAMES_FILES.match(source):
        return source, []
    results = {m.start() for m in _RESULT.finditer(source)} if printed else set()
    said: list[tuple[str, int]] = []

    def call(found: re.Match[str]) -> str:
        text = found.group(1) or found.group(2) or ""
        result = found.start() in results and WORD.search(ONE_JINJA.sub("", text))
        if not (result or literal_is_for_people(text)):
            return found.group()
        said.append((text.replace("\\'", "'"), at + found.start()))
        return f"wording({found.group()})"

    return LITERAL.sub(call, source), said
