"""Fill-ins: the changeable words of a message, in a small, closed part of Jinja's syntax.

Allowed are `{{ contact.town }}`, `{{ company.kind }}`, `{{ fact.venue }}`, each with filters from FILTERS whose
arguments are constants. Everything else Jinja could do is refused when a message is saved, so that a template cannot
loop, reach into objects or grow without bound; and values are only ever inserted, never run.
"""

import dataclasses
import datetime as dt
import re
from collections.abc import Callable, Mapping
from typing import Any

import jinja2
from jinja2 import nodes, sandbox
from markupsafe import Markup

from meadowrun.core import wording

ROOTS = ("contact", "company", "fact")
PART = re.compile(r"\{\{.*?\}\}", re.DOTALL)
#: what stands for a delivery's token in templates of ours; authors cannot write it
TOKEN = "{{ token }}"
_ANY_JINJA = re.compile(r"\{\{|\}\}|\{%|%\}|\{#|#\}")


class FillInError(ValueError):
    """A fill-in that cannot be taken; the text quotes it and says what to do."""


def _day(value: Any) -> Any:
    try:
        return wording.day(dt.date.fromisoformat(str(value)[:10])) if value else value
    except ValueError:
        return value


def _number(value: Any) -> Any:
    return wording.number(value) if isinstance(value, int | float) and not isinstance(value, bool) else value


def _titled(value: Any) -> Any:
    """Capitals at the start of each word, leaving mixed case (McKay, O’Hara) as it is."""
    text = str(value) if value else ""
    return " ".join(w.capitalize() if w.isupper() or w.islower() else w for w in text.split(" ")) or value


def _upper(value: Any) -> Any:
    return value if value is None else str(value).upper()


def _lower(value: Any) -> Any:
    return value if value is None else str(value).lower()


FILTERS: dict[str, Callable[..., Any] | None] = {
    "default": None, "upper": _upper, "lower": _lower, "day": _day, "number": _number, "titled": _titled,
}


@dataclasses.dataclass(frozen=True, slots=True)
class FillIn:
    """`ref` is `contact.town`; `fallback` is None where there is none."""

    ref: str
    fallback: str | None
    filters: tuple[str, ...]

    def source(self) -> str:
        """The fill-in as it stands in a document."""
        text = self.ref + "".join(f" | {name}" for name in self.filters)
        if self.fallback is not None:
            text += f" | default({_quoted(self.fallback)}, true)"
        return "{{ " + text + " }}"


def _quoted(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"').replace("{", "(").replace("}", ")") + '"'


def environment(autoescape: bool) -> sandbox.ImmutableSandboxedEnvironment:
    """The environment that messages are filled in with: strict about names, blank for None."""
    made = sandbox.ImmutableSandboxedEnvironment(
        autoescape=autoescape, undefined=jinja2.StrictUndefined, finalize=_blank, keep_trailing_newline=True)
    made.filters = {name: function or made.filters[name] for name, function in FILTERS.items()}
    made.globals = {}
    made.tests = {}
    return made


def _blank(value: Any) -> Any:
    if value is None:
        return ""
    if value is True or value is False:
        return "yes" if value else "no"
    return ", ".join(map(str, value)) if isinstance(value, list | tuple) else value


_PARSER = environment(False)


def parse(part: str) -> FillIn:
    """Reads one `{{ … }}`. Raises FillInError when it is anything but a plain fill-in."""
    shown = part if len(part) <= 60 else part[:57] + "…"
    try:
        body = _PARSER.parse(part).body
    except jinja2.TemplateSyntaxError:
        raise FillInError(f"“{shown}” is not a complete fill-in. Type @ to choose one.") from None
    output = body[0] if len(body) == 1 else None
    if not isinstance(output, nodes.Output) or len(output.nodes) != 1:
        raise FillInError(f"“{shown}” is not a fill-in. Type @ to choose one.")
    node = output.nodes[0]
    filters: list[str] = []
    fallback: str | None = None
    while isinstance(node, nodes.Filter):
        if node.name not in FILTERS or node.kwargs or node.dyn_args or node.dyn_kwargs or node.node is None:
            raise FillInError(f"“{node.name}” in “{shown}” is not a format that exists.")
        if node.name == "default":
            if not node.args or not all(isinstance(a, nodes.Const) for a in node.args):
                raise FillInError(f"The fallback in “{shown}” must be plain text in quotes.")
            if filters or fallback is not None:
                raise FillInError(f"The fallback in “{shown}” must come last.")
            first = node.args[0]
            fallback = str(first.value) if isinstance(first, nodes.Const) else ""
        elif node.args:
            raise FillInError(f"“{node.name}” in “{shown}” takes no settings.")
        else:
            filters.insert(0, node.name)
        node = node.node
    if not (isinstance(node, nodes.Getattr) and isinstance(node.node, nodes.Name) and node.node.name in ROOTS):
        raise FillInError(f"“{shown}” names nothing that can be filled in. Type @ to choose a field.")
    return FillIn(f"{node.node.name}.{node.attr}", fallback, tuple(filters))


def template(source: str, escape: bool) -> Callable[[Mapping[str, Any]], str]:
    """A function that fills a source in for one person: what Jinja would give, several times as fast.

    `values` maps contact, company and fact to their fields, and token to the delivery's token. Raises KeyError for a
    field that is not there at all and has no fallback; a blank one is None.
    """
    parts: list[str] = []
    fills: list[tuple[int, Callable[[Mapping[str, Any]], str]]] = []
    place = 0
    for match in PART.finditer(source):
        parts += [source[place:match.start()], ""]
        fills.append((len(parts) - 1, _filler(match.group(), escape)))
        place = match.end()
    parts.append(source[place:])

    def render(values: Mapping[str, Any]) -> str:
        filled = parts.copy()
        for index, fill in fills:
            filled[index] = fill(values)
        return "".join(filled)

    return render


def _filler(part: str, escape: bool) -> Callable[[Mapping[str, Any]], str]:
    if part == TOKEN:
        return lambda values: str(values["token"])
    fill = parse(part)
    root, _, key = fill.ref.partition(".")
    functions = [function for name in fill.filters if (function := FILTERS[name])]
    fallback = fill.fallback

    def render(values: Mapping[str, Any]) -> str:
        value = values[root][key] if fallback is None else values[root].get(key)
        for function in functions:
            value = function(value)
        if fallback is not None and not value:
            value = fallback
        text = str(_blank(value))
        return str(Markup.escape(text)) if escape else text

    return render


def split(text: str) -> list[str | FillIn]:
    """The text cut into plain parts and fill-ins. Raises FillInError at the first part that is neither."""
    found: list[str | FillIn] = []
    place = 0
    for match in PART.finditer(text):
        if match.start() > place:
            found.append(_plain(text[place:match.start()]))
        found.append(parse(match.group()))
        place = match.end()
    if place < len(text):
        found.append(_plain(text[place:]))
    return found


def _plain(text: str) -> str:
    match = _ANY_JINJA.search(text)
    if match:
        near = text[max(0, match.start() - 15):match.start() + 15].strip()
        raise FillInError(f"There is a stray “{match.group()}” near “{near}”. Remove it, or type @ to fill in a field.")
    return text


def used(text: str) -> list[FillIn]:
    return [part for part in split(text) if isinstance(part, FillIn)]


def escaped(text: str) -> str:
    """HTML of a text outside Jinja, with its fill-ins left standing."""
    return "".join(p.source() if isinstance(p, FillIn) else str(Markup.escape(p)) for p in split(text))
