"""Between a document's text, where fill-ins are Jinja, and the editor's, where they are coloured
words."""

import re
from collections.abc import Iterable, Mapping

from markupsafe import Markup, escape

from meadowrun.core.content import fillins
from meadowrun.core.language import Wording


def words_of(fill: fillins.FillIn, labels: Mapping[str, str]) -> str:
    """How a fill-in reads: “first name, or “friend””."""
    label = label_of(fill.ref, labels)
    if fill.fallback:
        label += Wording(", or “%(fallback)s”", fallback=fill.fallback)
    return label


def label_of(ref: str, labels: Mapping[str, str]) -> str:
    known = {
        "greeting": Wording("greeting that fits the hour"),
        "unsubscribe": Wording("address to unsubscribe"),
        "preferences": Wording("address to choose"),
    }
    return (
        labels.get(ref)
        or known.get(ref)
        or ref.split(".", 1)[-1].replace("_", " ").replace(".", "’s ")
    )


def chip(fill: fillins.FillIn, labels: Mapping[str, str]) -> Markup:
    """A fill-in as one word that the caret steps over."""
    kind = Wording("fill fact") if fill.ref.startswith(("fact.", "feed.", "table.")) else "fill"
    return Markup(
        '<span class="{}" contenteditable="false" data-fill="{}" data-ref="{}" '
        'data-fallback="{}" data-format="{}" '
        'data-label="{}">{}</span>'
    ).format(
        kind,
        fill.source(),
        fill.ref,
        fill.fallback or "",
        "".join(fill.filters[:1]),
        label_of(fill.ref, labels),
        words_of(fill, labels),
    )


def _source(node: fillins.Node) -> str:
    """A part as it stands in a document."""
    if isinstance(node, str):
        return node
    if isinstance(node, fillins.FillIn):
        return node.source()
    if isinstance(node, fillins.Each):
        return f"{{% for item in {node.ref}[:{node.most}] %}}{_sources(node.body)}{{% endfor %}}"
    made = "".join(
        f"{{% {'elif' if place else 'if'} {test.source} %}}{_sources(body)}"
        for place, (test, body) in enumerate(node.branches)
    )
    return (
        made + (f"{{% else %}}{_sources(node.otherwise)}" if node.otherwise else "") + "{% endif %}"
    )


def _sources(nodes: Iterable[fillins.Node]) -> str:
    return "".join(map(_source, nodes))


def _bare(nodes: Iterable[fillins.Node], labels: Mapping[str, str]) -> str:
    return re.sub(
        r"<[^>]*>",
        "",
        "".join(
            n
            if isinstance(n, str)
            else f"‹{words_of(n, labels)}›"
            if isinstance(n, fillins.FillIn)
            else "…"
            for n in nodes
        ),
    )


def block(node: fillins.When | fillins.Each, labels: Mapping[str, str]) -> Markup:
    """Words by condition, or a list from a feed, as one coloured word; a simple question can be
    changed by a click."""
    extra = Markup("")
    if isinstance(node, fillins.Each):
        words = f"for each of {node.ref}: {_bare(node.body, labels)}"
    else:
        first, body = node.branches[0]
        words = f"{_bare(body, labels)} (if {first.source})"
        asked = re.fullmatch(r'((?:contact|company)\.\w+) == "([^"]*)"', first.source)
        said = re.fullmatch(r"when\.(\w+)", first.source)
        plain = all(isinstance(n, str) for n in (*body, *node.otherwise))
        if (asked or said) and plain and len(node.branches) == 1:
            who = asked[2] if asked else labels.get(first.source, first.source)
            words = f"{_bare(body, labels)} ({'if' if asked else 'those'} {escape(who)})"
            extra = Markup(' data-if="{}" data-is="{}" data-then="{}" data-other="{}"').format(
                asked[1] if asked else first.source,
                who,
                Markup(_bare(body, labels)).unescape(),
                Markup(_bare(node.otherwise, labels)).unescape(),
            )
        if node.otherwise:
            words += f", else {_bare(node.otherwise, labels)}"
    return Markup(
        '<span class="fill only" contenteditable="false" data-fill="{}"{}>{}</span>'
    ).format(_source(node), extra, Markup(words).unescape()[:160])


def _drawn(node: fillins.Node, labels: Mapping[str, str]) -> Markup | None:
    if isinstance(node, str):
        return None
    return chip(node, labels) if isinstance(node, fillins.FillIn) else block(node, labels)


def plain(text: str, labels: Mapping[str, str]) -> Markup:
    """A one-line text for the editor."""
    return Markup("").join(_drawn(p, labels) or escape(p) for p in fillins.tree(text))


#: a colour of words, in clean rich text
_COLOURED = re.compile(r'<span style="color:([^"<>]*)">')


def rich(html: str, labels: Mapping[str, str]) -> Markup:
    """A rich text, clean already, for the editor. Fill-ins inside a link's address stay as they
    are; colours come as data, because a page of ours takes no styles from its markup."""
    html = _COLOURED.sub(r'<span data-colour="\1">', html)
    found, inside_tag = [], False
    for part in fillins.tree(html):
        if isinstance(part, str):
            last_open, last_close = part.rfind("<"), part.rfind(">")
            if last_open != -1 or last_close != -1:
                inside_tag = last_open > last_close
            found.append(part)
        else:
            found.append(str(escape(_source(part))) if inside_tag else str(_drawn(part, labels)))
    return Markup("".join(found))
