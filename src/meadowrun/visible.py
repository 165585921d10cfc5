"""Every string that somebody can read on a screen or in an email of the system, from the source:
`./meadowrun words`. So that they can be read, and judged, from top to bottom.

Templates give their text as sentences, with … where a value stands; scripts and Python give their
literals that look like words. What is told twice is listed once, at its first place.
"""

import ast
import dataclasses
import html
import pathlib
import re
from collections.abc import Iterator

SRC = pathlib.Path(__file__).parent
#: Elements that do not end a sentence.
_INLINE = frozenset(
    [
        "a",
        "b",
        "button",
        "code",
        "em",
        "i",
        "kbd",
        "label",
        "small",
        "span",
        "strong",
        "sub",
        "sup",
        "time",
    ]
)
#: Attributes that are read, by eye or by a screen reader.
_READ = ("aria-label", "title", "placeholder", "alt", "data-sure", "data-say", "data-label")
_JINJA = re.compile(r"\{#.*?#\}|\{\{-?(.*?)-?\}\}|\{%-?(.*?)-?%\}", re.DOTALL)
_LITERAL = re.compile(r"'((?:[^'\\]|\\.)*)'|\"((?:[^\"\\]|\\.)*)\"")
_TAG = re.compile(r"<(/?)([a-zA-Z][\w-]*)((?:\s+[^<>]*)?)/?>", re.DOTALL)
_SCRIPT = re.compile(r"//[^\n]*|'((?:[^'\\\n]|\\.)*)'|`((?:[^`\\]|\\.)*)`")
#: A word: two letters that stand together.
_WORD = re.compile(r"[^\W\d_]{2}")
#: What is written for machines: addresses, queries, formats, markup.
_MACHINE = re.compile(
    r"^[\w.:/#%{}\[\]()=&?*|@<>,;+'\"^$~!-]*$|\b(SELECT|INSERT|UPDATE|DELETE|WHERE|JOIN|CREATE|"
    r"ALTER|FROM|AND|ORDER BY|VALUES|CASE|UNION|WITH)\b|</|/>|<\w+|\\[bdsw]|::|^--|%[sd(]"
)


@dataclasses.dataclass(frozen=True)
class Said:
    """A string and where it stands: the file under src/meadowrun, and its line."""

    text: str
    file: str
    line: int


def of_template(source: str) -> Iterator[tuple[str, int]]:
    """The sentences of a template, and the literals of its expressions, with their lines."""

    def line_of(place: int) -> int:
        return source.count("\n", 0, place) + 1

    for match in _JINJA.finditer(source):
        for literal in _LITERAL.finditer(match.group(1) or match.group(2) or ""):
            text = literal.group(1) or literal.group(2) or ""
            if " " in text.strip() or text[:1].isupper():
                yield text, line_of(match.start())
    plain = _JINJA.sub(lambda m: _kept(m.group(), "…" if m.group(1) else " "), source)
    plain = re.sub(
        r"<(script|style|svg)\b.*?</\1>", lambda m: _kept(m.group(), ""), plain, flags=re.DOTALL
    )
    sentence, begun, place = "", 0, 0
    for tag in _TAG.finditer(plain):
        text = plain[place : tag.start()]
        if not sentence.strip():
            begun = place + len(text) - len(text.lstrip())
        sentence += text
        place = tag.end()
        for name in _READ:
            if found := re.search(rf'\b{name}="([^"]*)"', tag.group(3)):
                yield found.group(1), line_of(tag.start())
        if tag.group(2).lower() not in _INLINE:
            yield sentence, line_of(begun)
            sentence = ""
    yield sentence + plain[place:], line_of(begun)


def _kept(text: str, instead: str) -> str:
    """Something else in the place of a text, with as many lines."""
    return instead + "\n" * text.count("\n")


def of_script(source: str) -> Iterator[tuple[str, int]]:
    """The literals of a script, with their lines."""
    for match in _SCRIPT.finditer(source):
        text = match.group(1) or match.group(2) or ""
        line = source.count("\n", 0, match.start()) + 1
        if "<" in text:
            yield from ((said, line) for said, _ in of_template(text))
        else:
            yield re.sub(r"\$\{[^}]*\}", "…", text), line


def of_python(source: str) -> Iterator[tuple[str, int]]:
    """The literals of a module that are no docstrings, with their lines."""
    tree = ast.parse(source)
    told: set[int] = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.Module | ast.ClassDef | ast.FunctionDef) and node.body:
            first = node.body[0]
            if isinstance(first, ast.Expr) and isinstance(first.value, ast.Constant):
                told.add(id(first.value))
        if isinstance(node, ast.JoinedStr):
            told |= {id(part) for part in node.values}
            yield (
                "".join(
                    str(part.value) if isinstance(part, ast.Constant) else "…"
                    for part in node.values
                ),
                node.lineno,
            )
        elif isinstance(node, ast.Constant) and id(node) not in told and str is type(node.value):
            yield str(node.value), node.lineno


def _words(text: str) -> str:
    """A string as somebody reads it; empty where it holds no words for people."""
    text = " ".join(html.unescape(text).split())
    if not _WORD.search(text.replace("…", "")) or _MACHINE.search(text):
        return ""
    return text


def every(root: pathlib.Path = SRC) -> list[Said]:
    """Every visible string once, file by file."""
    readers = {".html": of_template, ".js": of_script, ".py": of_python}
    found: dict[str, Said] = {}
    for path in sorted(root.rglob("*")):
        if path.suffix not in readers or "vendor" in path.parts:
            continue
        for text, line in readers[path.suffix](path.read_text()):
            said = _words(text)
            if said and (" " in said or path.suffix != ".py" or said[0].isupper()):
                found.setdefault(said, Said(said, str(path.relative_to(root)), line))
    return list(found.values())


def listed(found: list[Said]) -> Iterator[str]:
    """The strings as lines of text, under the names of their files."""
    file = ""
    for said in found:
        if said.file != file:
            file = said.file
            yield f"\n{file}"
        yield f"{said.line:>5}  {said.text}"
