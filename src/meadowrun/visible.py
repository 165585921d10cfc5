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

from meadowrun.shell.language import pieces, units

SRC = pathlib.Path(__file__).parent
_SCRIPT = re.compile(r"//[^\n]*|'((?:[^'\\\n]|\\.)*)'|`((?:[^`\\]|\\.)*)`")
#: What stands for a value, or marks an element, in the message of a template.
_VALUE = re.compile(r"%\(\w+\)s")
_TAG = re.compile(r"</?\w+>")


@dataclasses.dataclass(frozen=True)
class Said:
    """A string and where it stands: the file under src/meadowrun, and its line."""

    text: str
    file: str
    line: int


def of_template(source: str) -> Iterator[tuple[str, int]]:
    """The messages of a template, with their lines."""
    for unit in units.units(source):
        yield _TAG.sub("", _VALUE.sub("…", unit.text)), unit.line


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
    text = " ".join(_VALUE.sub("…", html.unescape(text)).split())
    return text if pieces.is_for_people(text) else ""


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
