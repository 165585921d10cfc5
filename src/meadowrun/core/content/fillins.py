"""Fill-ins: the changeable words of a message, in a small, closed part of Jinja's syntax.

Allowed are `{{ contact.town }}`, `{{ company.kind }}`, `{{ fact.venue }}`, `{{ event.amount }}`,
`{{ feed.sky.night }}`, `{{ table.prices.student }}` and the bare `{{ greeting }}`, each with
filters from FILTERS whose arguments are constants; `{% if contact.tier == "Patron" %}…{% elif …
%}…{% else %}…{% endif %}`; and, for lists that a feed gives, `{% for item in
feed.programme.items[:5] %}…{% endfor %}`. Everything else Jinja could do is refused when a message
is saved, so that a template cannot reach into objects or grow without bound; and values are only
ever inserted, never run.
"""

import dataclasses
import functools
import operator
import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import Any
from urllib.parse import quote

import jinja2
from jinja2 import nodes, sandbox

from meadowrun.core.content.formats import FILTERS, WITH_TEXT, in_words
from meadowrun.core.language import Problem, Wording

#: What has parts: `contact.town`. `when` and `part` are answers about a person, worked out by the
#: conditions of a message.
ROOTS = ("contact", "company", "fact", "event", "feed", "table", "item", "when", "group", "sender")
#: What stands alone.
BARE = ("greeting", "unsubscribe", "preferences")
#: A fill-in or a tag as it stands in a text. None begins inside another, so that signs that nobody
#: closes are read once, not again and again: what an author pastes must never take longer than its
#: length. What goes on after a single brace or percent sign begins with one, so there is one way to
#: read each text. No group is possessive: Python before 3.11.5 matches such groups wrongly.
PART = re.compile(
    r"\{\{[^{}]*+(?:(?:\}(?!\})|\{(?![{%]))[^{}]*+)*\}\}"
    r"|\{%[^{}%]*+(?:(?:%(?!\})|\}|\{(?![{%]))[^{}%]*+)*%\}"
)
#: what stands for a delivery's tokens in templates of ours, by what they are for; authors cannot
#: write them
TOKENS = {
    purpose: "{{ token." + purpose + " }}"
    for purpose in ("click", "open", "leave", "choose", "page")
}
#: what stands for a delivery's short code in text messages
SHORT = "{{ short }}"
#: A list from a feed never shows more.
MOST_ITEMS = 50
_DEEPEST = 8
#: No fill-in and no question is longer.
_LONGEST = 4000
_SIGNS = re.compile(r"\{\{|\}\}|\{%|%\}|\{#|#\}|[{}]")
_COMMENT = re.compile(r"\{#[^{}\n]*#\}")


class FillInError(Problem):
    """A fill-in that cannot be taken; the text quotes it and says what to do."""


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
            text += f" | default({quoted(self.fallback)}, true)"
        return "{{ " + text + " }}"

    def encoded(self) -> "FillIn":
        """The same for use inside an address: percent-encoded, the fallback too."""
        return FillIn(
            self.ref,
            None if self.fallback is None else quote(self.fallback, safe=""),
            (*self.filters, "encoded"),
        )


def quoted(text: str) -> str:
    return (
        '"'
        + text.replace("\\", "\\\\").replace('"', '\\"').replace("{", "(").replace("}", ")")
        + '"'
    )


def environment(autoescape: bool) -> sandbox.ImmutableSandboxedEnvironment:
    """The environment that messages are filled in with: strict about names, blank for None."""
    made = sandbox.ImmutableSandboxedEnvironment(
        autoescape=autoescape,
        undefined=jinja2.StrictUndefined,
        finalize=blank,
        keep_trailing_newline=True,
    )
    made.filters = {name: function or _default for name, function in FILTERS.items()}
    made.globals = {}
    made.tests = {}
    return made


def is_missing(value: Any) -> bool:
    """Whether a fallback steps in. Nought and “no” are answers."""
    return value is None or value == "" or isinstance(value, list | tuple | Mapping) and not value


def _default(value: Any, fallback: Any = "", boolean: bool = True) -> Any:
    return fallback if is_missing(value) else value


def blank(value: Any) -> Any:
    """A value as it is read where no format was chosen: nothing for a blank, yes or no, a list in
    words, a moment as people write it."""
    if value is None:
        return ""
    if value is True or value is False:
        return "yes" if value else "no"
    if isinstance(value, list | tuple):
        return ", ".join(str(blank(item)) for item in value)
    if isinstance(value, Mapping):
        return ", ".join(str(blank(item)) for item in value.values())
    if isinstance(value, float) and value.is_integer():
        return int(value)
    return in_words(value) if isinstance(value, str) else value


_PARSER = environment(False)


@functools.lru_cache(maxsize=5_000)
def parse(part: str) -> FillIn:
    """Reads one `{{ … }}`. Raises FillInError when it is anything but a plain fill-in."""
    shown = _short(part)
    try:
        body = _parsed(part).body
    except jinja2.TemplateSyntaxError:
        raise FillInError(
            Wording("“%(shown)s” is not a complete fill-in. Type @ to choose one.", shown=shown)
        ) from None
    output = body[0] if len(body) == 1 else None
    if not isinstance(output, nodes.Output) or len(output.nodes) != 1:
        raise FillInError(
            Wording("“%(shown)s” is not a fill-in. Type @ to choose one.", shown=shown)
        )
    node = output.nodes[0]
    filters: list[str] = []
    fallback: str | None = None
    while isinstance(node, nodes.Filter):
        if node.name == "default" and (filters or fallback is not None):
            raise FillInError(Wording("The fallback in “%(shown)s” must come last.", shown=shown))
        text = _setting(node, shown)
        if node.name == "default":
            fallback = text
        else:
            filters.insert(0, node.name if text is None else f"{node.name}({quoted(text)})")
        if node.node is None:
            break
        node = node.node
    ref = _ref(node)
    if ref is None:
        raise FillInError(
            Wording(
                "“%(shown)s” is not a field that can be filled in. Type @ to choose one.",
                shown=shown,
            )
        )
    return FillIn(ref, fallback, tuple(filters))


def _setting(node: nodes.Filter, shown: str) -> str | None:
    """The text that is given to a format, or as a fallback; None where it takes none. Raises
    FillInError."""
    if (
        node.name not in FILTERS
        or node.kwargs
        or node.dyn_args
        or node.dyn_kwargs
        or node.node is None
    ):
        raise FillInError(
            Wording(
                "“%(name)s” in “%(shown)s” is not a format that exists.",
                name=node.name,
                shown=shown,
            )
        )
    texts = [str(a.value) for a in node.args if isinstance(a, nodes.Const)]
    if node.name == "default":
        if not node.args or len(texts) < len(node.args):
            raise FillInError(
                Wording("The fallback in “%(shown)s” must be plain text in quotes.", shown=shown)
            )
    elif node.args and not (node.name in WITH_TEXT and len(texts) == len(node.args) == 1):
        raise FillInError(
            Wording("“%(name)s” in “%(shown)s” takes no settings.", name=node.name, shown=shown)
        )
    return texts[0] if texts else None


def _parsed(part: str) -> nodes.Template:
    """One part as the template language reads it. Raises TemplateSyntaxError, also for what no
    person writes: very long, or very deep."""
    try:
        if len(part) > _LONGEST:
            raise RecursionError
        return _PARSER.parse(part)
    except RecursionError:
        raise jinja2.TemplateSyntaxError("too long or too deep", 1) from None


def _short(part: str) -> str:
    return part if len(part) <= 60 else part[:57] + "…"


def _ref(node: nodes.Node | None) -> str | None:
    """The name that a node of Jinja's is, such as contact.town; None for anything else."""
    if isinstance(node, nodes.Name):
        return node.name if node.name in BARE else None
    names: list[str] = []
    while isinstance(node, nodes.Getattr):
        names.insert(0, node.attr)
        node = node.node
    if (
        not isinstance(node, nodes.Name)
        or node.name not in ROOTS
        or not names
        or any(n.startswith("_") for n in names)
    ):
        return None
    # Only what comes from outside as JSON has parts of parts.
    if len(names) > (1 if node.name not in ("feed", "table", "item") else 6):
        return None
    return ".".join([node.name, *names])


def reach(values: Mapping[str, Any], ref: str) -> Any:
    """The value a name stands for. Raises KeyError where its first two parts are not there; deeper
    gaps are blank."""
    root, *names = ref.split(".")
    if not names:
        return values[root]
    found = values[root][names[0]]
    for name in names[1:]:
        found = found.get(name) if isinstance(found, Mapping) else None
    return found


@dataclasses.dataclass(frozen=True, slots=True)
class Test:
    """A question about one person: `contact.tier == "Patron" and not when.k1`."""

    source: str
    refs: tuple[str, ...]
    ask: Callable[[Mapping[str, Any]], bool]


@dataclasses.dataclass(frozen=True, slots=True)
class Tag:
    """One `{% … %}`: `kind` is if, elif, else, endif, for or endfor."""

    kind: str
    text: str
    test: Test | None = None
    #: of a for: the list's name and how many of it
    ref: str = ""
    most: int = MOST_ITEMS

    def source(self) -> str:
        return self.text


_COMPARE: dict[str, Callable[[Any, Any], bool]] = {
    "eq": operator.eq,
    "ne": operator.ne,
    "gt": operator.gt,
    "gteq": operator.ge,
    "lt": operator.lt,
    "lteq": operator.le,
}


def _test(node: nodes.Node, shown: str) -> Test:
    """Reads a question. Raises FillInError."""
    if isinstance(node, nodes.Not):
        inner = _test(node.node, shown)
        return Test("", inner.refs, lambda values: not inner.ask(values))
    if isinstance(node, nodes.And | nodes.Or):
        left, right = _test(node.left, shown), _test(node.right, shown)
        both = isinstance(node, nodes.And)
        return Test(
            "",
            left.refs + right.refs,
            lambda values: (
                (left.ask(values) and right.ask(values))
                if both
                else (left.ask(values) or right.ask(values))
            ),
        )
    if isinstance(node, nodes.Compare) and len(node.ops) == 1:
        ref, operand = _ref(node.expr), node.ops[0]
        if ref and operand.op in _COMPARE and isinstance(operand.expr, nodes.Const):
            return Test("", (ref,), _comparison(ref, operand.op, operand.expr.value))
        if (
            ref
            and operand.op in ("in", "notin")
            and isinstance(operand.expr, nodes.List)
            and all(isinstance(i, nodes.Const) for i in operand.expr.items)
        ):
            wanted = [i.value for i in operand.expr.items if isinstance(i, nodes.Const)]
            return Test("", (ref,), _membership(ref, wanted, operand.op == "in"))
    ref = _ref(node)
    if ref is None:
        raise FillInError(
            Wording(
                "“%(shown)s” is not a condition that works here. Compare a field with a word "
                "in quotes or a number.",
                shown=shown,
            )
        )
    return Test("", (ref,), lambda values: bool(reach(values, ref)))


def _membership(ref: str, wanted: list[Any], inside: bool) -> Callable[[Mapping[str, Any]], bool]:
    return lambda values: (reach(values, ref) in wanted) is inside


def _comparison(ref: str, op: str, wanted: Any) -> Callable[[Mapping[str, Any]], bool]:
    compare = _COMPARE[op]

    def ask(values: Mapping[str, Any]) -> bool:
        value = reach(values, ref)
        if isinstance(value, list | tuple) and op in ("eq", "ne"):
            # Of several choices, one is enough.
            return (wanted in value) is (op == "eq")
        try:
            return bool(compare(*_alike(value, wanted)))
        except TypeError:
            # Blank, or a text beside a number: matches nothing.
            return False

    return ask


def _alike(value: Any, wanted: Any) -> tuple[Any, Any]:
    """Two values to compare. Where one is a number and the other a text that is one, both as
    numbers; yes and no are none."""
    one, other = isinstance(value, int | float), isinstance(wanted, int | float)
    if one == other or isinstance(value, bool) or isinstance(wanted, bool):
        return value, wanted
    try:
        return (value, float(wanted)) if one else (float(value), wanted)
    except (TypeError, ValueError):
        return value, wanted


def tag(part: str) -> Tag:
    """Reads one `{% … %}`. Raises FillInError."""
    shown, words = _short(part), part[2:-2].strip().strip("-").strip()
    kind = words.split(None, 1)[0] if words else ""
    if words in ("else", "endif", "endfor"):
        return Tag(words, "{% " + words + " %}")
    if kind in ("if", "elif"):
        try:
            (made,) = _parsed("{% if " + words[len(kind) :] + " %}{% endif %}").body
        except (jinja2.TemplateSyntaxError, ValueError):
            raise FillInError(
                Wording("“%(shown)s” is not a complete condition.", shown=shown)
            ) from None
        if not isinstance(made, nodes.If):
            raise FillInError(Wording("“%(shown)s” is not a condition.", shown=shown))
        test = _test(made.test, shown)
        return Tag(kind, part, dataclasses.replace(test, source=words[len(kind) :].strip()))
    found = re.fullmatch(r"for item in (feed(?:\.[A-Za-z]\w*){1,6})(?:\[:(\d{1,2})\])?", words)
    if not found and kind == "for":
        raise FillInError(
            Wording(
                "“%(shown)s” cannot be listed. Write “{%% for item in feed.… %%}” with "
                "the feed’s name and the way to its list, and item.… for what each one holds.",
                shown=shown,
            )
        )
    if not found:
        raise FillInError(
            Wording(
                "“%(shown)s” does not work in a message; only if, elif, else, endif, "
                "and for over a feed.",
                shown=shown,
            )
        )
    return Tag(
        "for", part, None, found.group(1), min(MOST_ITEMS, int(found.group(2) or MOST_ITEMS))
    )


@dataclasses.dataclass(frozen=True, slots=True)
class When:
    """Words by condition: the first branch whose test holds, else `otherwise`."""

    branches: tuple[tuple[Test, tuple["Node", ...]], ...]
    otherwise: tuple["Node", ...]


@dataclasses.dataclass(frozen=True, slots=True)
class Each:
    """Words for each item of a feed's list."""

    ref: str
    most: int
    body: tuple["Node", ...]


Node = str | FillIn | When | Each


def tree(text: str) -> tuple[Node, ...]:
    """A text as nested parts. Raises FillInError naming the part at fault, also where an if or for
    is not closed."""
    parts = list(reversed(split(text)))
    found, closing = _until(parts, 0)
    if closing is not None:
        raise FillInError(
            Wording("There is a “%(text)s” without its beginning.", text=closing.text)
        )
    return found


def _until(
    parts: list["str | FillIn | Tag"], depth: int, looped: bool = False
) -> tuple[tuple[Node, ...], Tag | None]:
    """Nodes up to the tag that ends their branch, which comes back, too; None at the end of the
    text."""
    if depth > _DEEPEST:
        raise FillInError(
            Wording(
                "Conditions are nested more than %(deepest)s deep in each other.", deepest=_DEEPEST
            )
        )
    found: list[Node] = []
    while parts:
        part = parts.pop()
        if not isinstance(part, Tag):
            found.append(part)
        elif part.kind == "if":
            found.append(_branches(part, parts, depth, looped))
        elif part.kind == "for":
            if looped:
                # Fifty times fifty times fifty: a short text would become a very long one.
                raise FillInError(
                    Wording(
                        "“%(short)s” is in another list. One list in another cannot be filled in.",
                        short=_short(part.text),
                    )
                )
            body, closing = _until(parts, depth + 1, True)
            if closing is None or closing.kind != "endfor":
                raise FillInError(
                    Wording("“%(short)s” has no {%% endfor %%}.", short=_short(part.text))
                )
            found.append(Each(part.ref, part.most, body))
        else:
            return tuple(found), part
    return tuple(found), None


def _branches(first: Tag, parts: list["str | FillIn | Tag"], depth: int, looped: bool) -> When:
    branches: list[tuple[Test, tuple[Node, ...]]] = []
    now: Tag = first
    while True:
        body, closing = _until(parts, depth + 1, looped)
        if (
            closing is None
            or closing.kind == "endfor"
            or now.kind == "else"
            and closing.kind != "endif"
        ):
            raise FillInError(
                Wording("“%(short)s” has no {%% endif %%}.", short=_short(first.text))
            )
        if now.test is not None:
            branches.append((now.test, body))
        if closing.kind == "endif":
            return When(tuple(branches), body if now.kind == "else" else ())
        now = closing


def split(text: str) -> list[str | FillIn | Tag]:
    """The text cut into plain parts, fill-ins and tags. Raises FillInError at the first part that
    is none of them."""
    found: list[str | FillIn | Tag] = []
    place, depth = 0, 0
    for match in PART.finditer(text):
        if match.start() > place:
            depth = _plain(text[place : match.start()], depth)
            found.append(text[place : match.start()])
        found.append(parse(match.group()) if match.group().startswith("{{") else tag(match.group()))
        place = match.end()
    if place < len(text):
        _plain(text[place:], depth)
        found.append(text[place:])
    return found


#: How many braces each sign closes, of those that style sheets open: `@media print{.a{width:100%}}`
#: is no fill-in.
_CLOSES = {"}": 1, "}}": 2, "%}": 1, "#}": 1}


def _plain(text: str, depth: int) -> int:
    """Looks through a text for signs of fill-ins that are none, `depth` braces of a style sheet
    being open before it; gives how many are open after it. Raises FillInError."""
    for match in _SIGNS.finditer(text):
        sign = match.group()
        if sign == "{":
            depth += 1
        elif sign == "{#" and not _COMMENT.match(text, match.start()):
            # A rule for an id: {#head{…
            depth += 1
        elif sign == "}" or sign in _CLOSES and depth >= _CLOSES[sign]:
            depth = max(0, depth - _CLOSES[sign])
        else:
            near = text[max(0, match.start() - 15) : match.start() + 15].strip()
            raise FillInError(
                Wording(
                    "There is a stray “%(sign)s” near “%(near)s”. Remove it, or type @ to fill in "
                    "a field.",
                    sign=sign,
                    near=near,
                )
            )
    return depth


def walk(parts: Iterable[Node]) -> Iterator[Node]:
    """Every part of a tree, those inside branches included."""
    for part in parts:
        yield part
        if isinstance(part, When):
            for _, body in part.branches:
                yield from walk(body)
            yield from walk(part.otherwise)
        elif isinstance(part, Each):
            yield from walk(part.body)


def used(text: str) -> list[FillIn]:
    """The fill-ins of a text, those inside conditions included."""
    return [part for part in split(text) if isinstance(part, FillIn)]


def refs(text: str) -> set[str]:
    """Every name a text needs to know, for fill-ins, questions and lists. What an item of a list
    holds is not among them."""
    found: set[str] = set()
    for part in split(text):
        if isinstance(part, FillIn):
            found.add(part.ref)
        elif isinstance(part, Tag):
            found |= {part.ref} if part.ref else set(part.test.refs) if part.test else set()
    return {ref for ref in found if not ref.startswith("item.")}


def named(text: str) -> str:
    """A text for a list: each fill-in as the name of what it stands for, ‹first name›; questions
    are left out."""

    def name(match: re.Match[str]) -> str:
        if match.group().startswith("{%"):
            return ""
        return (
            "‹"
            + match.group().strip("{} ").split("|")[0].strip().split(".", 1)[-1].replace("_", " ")
            + "›"
        )

    return PART.sub(name, text)
