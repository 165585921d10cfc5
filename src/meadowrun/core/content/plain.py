"""The plain-text part: as the author wrote it, else generated from the lines."""

import hashlib
import html
import re
from collections.abc import Sequence

from meadowrun.core.content import fillins
from meadowrun.core.content.addresses import attribute_value
from meadowrun.core.content.layout import Parts, branches
from meadowrun.core.content.lines import Json, icon_name

_WORD = re.compile(r"MRPART(\d+)X")
_LINK = re.compile(r"MRLINK(\d+)X")


def plain_text(document: Json, lines: Sequence[Json], unsubscribe: str) -> str:
    """The plain part. Never lacks the way out of a footer, nor of a text-only email; what is a text
    on another channel stays as it is."""
    if document.get("channel") and document.get("text_only"):
        return str(document.get("plain") or "").strip()
    wants_out = document.get("text_only") or any(
        line["type"] == "footer" and line["unsubscribe"] for line in lines
    )
    text = str(document["plain"]).rstrip() if document.get("plain") else made_from(document, lines)
    has_own = "unsubscribe" in fillins.refs(text)
    return text + "\n" + (f"\nUnsubscribe: {unsubscribe}\n" if wants_out and not has_own else "")


def made_from(document: Json, lines: Sequence[Json]) -> str:
    """The lines, or the code, as plain text."""
    return html_text(document["code"]) if document.get("code") else _stack(lines)


def mark_of(document: Json, lines: Sequence[Json]) -> str:
    """A short mark of what the plain text would be made from: tells whether an author's own has
    fallen behind."""
    return hashlib.sha256(made_from(document, lines).encode()).hexdigest()[:16]


def _stack(lines: Sequence[Json]) -> str:
    return "\n\n".join(block for line in lines if (block := _line_text(line)))


def _line_text(line: Json) -> str:
    kind = line["type"]
    if kind == "heading":
        return (
            f"{line['text']}\n{'=' * min(60, len(fillins.PART.sub('xxxxxx', line['text'])))}"
            if line["text"]
            else ""
        )
    if kind in ("text", "footer"):
        return html_text(str(line["html"]))
    if kind == "picture":
        return " ".join(x for x in (f"[{line['alt']}]" if line["alt"] else "", line["link"]) if x)
    if kind == "button":
        return f"{line['label']}: {line['href']}" if line["label"] else str(line["href"])
    if kind == "columns":
        return "\n\n".join(filter(None, (_stack(held) for held in line["columns"])))
    if kind == "only":
        made = [
            f"{{% {'elif' if place else 'if'} {test} %}}{_stack(held)}"
            for place, (test, held) in enumerate(branches(line))
        ]
        if not made:
            return _stack(line["otherwise"])
        return (
            "".join(made)
            + ("{% else %}" + _stack(line["otherwise"]) if line["otherwise"] else "")
            + "{% endif %}"
        )
    if kind == "feed":
        return (
            (
                f"{{% for item in feed.{line['feed']}[:{line['most']}] "
                f"%}}{html_text(line['html'])}\n\n{{% endfor %}}"
            )
            if line["feed"]
            else ""
        )
    if kind == "icons":
        return "\n".join(f"{icon_name(i)}: {i['href']}" for i in line["icons"] if i["href"])
    if kind == "quote":
        quoted = html_text(line["html"]).replace("\n", "\n> ")
        return f"> {quoted}" + (f"\n> {line['by']}" if line["by"] else "") if quoted else ""
    if kind == "code":
        return html_text(line["code"])
    return "-" * 40 if kind == "divider" else ""


def html_text(source: str) -> str:
    """Rich text as plain text: paragraphs apart, list items with a dash, links followed by their
    address."""
    hidden = Parts()
    text = hidden.hide_in(source)
    text = re.sub(
        r"<(style|title|script)[^>]*>.*?</\1>|<!--.*?-->", "", text, flags=re.DOTALL | re.IGNORECASE
    )
    text = re.sub(r'<img\s[^>]*alt="([^"]+)"[^>]*>', r"[\1]", text)
    links: list[str] = []

    def link(match: re.Match[str]) -> str:
        """Words and address; the address is kept aside, since it is not a text any more."""
        href, label = (
            attribute_value(match.group(1)).strip(),
            re.sub(r"<[^>]*>", "", match.group(2)).strip(),
        )
        links.append(href)
        word = f"MRLINK{len(links) - 1}X"
        return word if href == label or not label else f"{label} ({word})"

    text = re.sub(r'<a\s[^>]*href="([^"]*)"[^>]*>(.*?)</a>', link, text, flags=re.DOTALL)
    text = re.sub(r"<br\s*/?>", "\n", text)
    text = re.sub(r"<li[^>]*>", "\n- ", text)
    text = re.sub(r"</(td|th)>\s*(?=<t[dh]\b)", " ", text)
    text = re.sub(r"</(p|ul|ol|h[1-6]|tr|div|table|blockquote)>", "\n\n", text)
    text = html.unescape(re.sub(r"<[^>]*>", "", text))
    text = re.sub(
        r"\n{3,}", "\n\n", "\n".join(" ".join(line.split()) for line in text.splitlines())
    ).strip()
    text = _LINK.sub(lambda m: links[int(m.group(1))], text)
    return _WORD.sub(lambda m: hidden.sources[int(m.group(1))], text)
