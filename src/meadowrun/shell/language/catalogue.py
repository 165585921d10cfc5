"""Every text that can be read in another language, as a catalogue that a translator fills in.

Templates give their units. Python gives what it hands to `Wording` and its kind, to errors, and to
the notices of pages; texts that go by a number give both their forms.
"""

import ast
import pathlib
from collections.abc import Iterable, Iterator

import jinja2
from babel.messages.catalog import Catalog
from jinja2 import nodes

from meadowrun.shell.language import units

SRC = pathlib.Path(__file__).parents[2]
#: What is not for the people of an organisation: the demo's world and the developers' tools.
_NOT_LISTED = ("demo", "village", "bench")
#: Calls whose texts are looked up, with the places of the text among their arguments.
_CALLS = {
    "Wording": 0,
    "worded": 0,
    "wrong": 0,
    "notice": 0,
    "answer": 0,
    "must": 0,
    "should": 0,
    "could": 0,
    "not_done": 0,
    "done": 1,
}
#: Errors of the core and of the application derive from these.
_PROBLEMS = ("Problem", "MeadowrunError")
#: A message, or its forms for one and for several.
Message = str | tuple[str, str]


def catalogue(root: pathlib.Path = SRC) -> Catalog:
    """The catalogue of everything under a folder, with the places of each text."""
    made = Catalog(project="Meadowrun", domain="meadowrun")
    trees = {path: ast.parse(path.read_text()) for path in _files(root, "*.py")}
    problems = _problems(trees.values())
    for path, tree in trees.items():
        for message, line in _of_python(tree, problems):
            made.add(message, locations=[(str(path.relative_to(root)), line)])
    for path in _files(root, "*.html"):
        for message, line in _of_template(path.read_text()):
            made.add(message, locations=[(str(path.relative_to(root)), line)])
    for path in _files(root, "static/*.js"):
        for unit in units.of_script(path.read_text()):
            made.add(unit.text, locations=[(str(path.relative_to(root)), unit.line)])
    return made


def _files(root: pathlib.Path, pattern: str) -> list[pathlib.Path]:
    return [
        path
        for path in sorted(root.rglob(pattern))
        if path.relative_to(root).parts[0] not in _NOT_LISTED
    ]


def _problems(trees: Iterable[ast.Module]) -> set[str]:
    """The names of all errors whose texts people read."""
    known = set(_PROBLEMS)
    classes = [node for tree in trees for node in ast.walk(tree) if isinstance(node, ast.ClassDef)]
    while True:
        found = {node.name for node in classes if known & {_last_name(base) for base in node.bases}}
        if found <= known:
            return known
        known |= found


def _of_python(tree: ast.Module, problems: set[str]) -> Iterator[tuple[Message, int]]:
    for node in ast.walk(tree):
        if not isinstance(node, ast.Call):
            continue
        name = _last_name(node.func)
        told = [_literal(argument) for argument in node.args]
        if name in ("counted", "forms") and len(told) > 1 and told[0] and told[1]:
            yield (told[0], told[1]), node.lineno
        elif name == "count_of" and len(told) > 1 and told[1]:
            yield _several(told[1], told[2] if len(told) > 2 else ""), node.lineno
        elif name == "joined":
            yield f"%(others)s {(told[1] if len(told) > 1 else '') or 'or'} %(last)s", node.lineno
        elif name in _CALLS or name in problems:
            place = _CALLS.get(name, 0)
            if len(told) > place and told[place]:
                yield told[place], node.lineno


def _last_name(node: ast.expr) -> str:
    """The name that a call or a base ends with."""
    return node.attr if isinstance(node, ast.Attribute) else getattr(node, "id", "")


def _literal(node: ast.expr) -> str:
    """A literal as its text; empty for anything else."""
    return node.value if isinstance(node, ast.Constant) and isinstance(node.value, str) else ""


def _several(one: str, many: str) -> tuple[str, str]:
    """The forms that `core.wording.count_of` looks up."""
    return f"%(n)s {one}", f"%(n)s {many or one + 's'}"


def _of_template(source: str) -> Iterator[tuple[Message, int]]:
    for unit in units.units(source):
        yield unit.text, unit.line
    for call in jinja2.Environment().parse(source).find_all(nodes.Call):
        if isinstance(call.node, nodes.Name) and call.node.name == "count_of":
            told = [a.value if isinstance(a, nodes.Const) else "" for a in call.args]
            if len(told) > 1 and told[1]:
                yield _several(told[1], told[2] if len(told) > 2 else ""), call.lineno
