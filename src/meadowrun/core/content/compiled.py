"""From a document to the templates that are filled in for each person, made once.

MJML gives HTML that every mail reader can show; the compiler and the inliner see plain words in place of fill-ins,
because they damage raw Jinja, and every word must come back exactly as often as it went in.
"""

import dataclasses
import html
import re
from collections.abc import Mapping
from typing import Any
from urllib.parse import quote

import css_inline
import mrml

from meadowrun.core.content import fillins
from meadowrun.core.content.document import Json, texts

_WORD = re.compile(r"MRPART(\d+)X")
_HREF = re.compile(r'href="([^"]*)"')
_URL = re.compile(r"https?://[^\s<>\"]+")


class CompileError(ValueError):
    """The document cannot be made into a mail; the text says why."""


@dataclasses.dataclass(frozen=True, slots=True)
class Link:
    """A tracked address of an edition; `href` may hold fill-ins."""

    number: int
    label: str
    href: str


@dataclasses.dataclass(frozen=True)
class Compiled:
    """Template sources and what they use. `refs` are all fields and facts named in them."""

    subject: str
    html: str
    text: str
    links: tuple[Link, ...]
    refs: tuple[str, ...]

    def to_json(self) -> Json:
        return {"subject": self.subject, "html": self.html, "text": self.text, "refs": list(self.refs),
                "links": [dataclasses.asdict(link) for link in self.links]}

    @classmethod
    def from_json(cls, data: Mapping[str, Any]) -> "Compiled":
        return cls(data["subject"], data["html"], data["text"], tuple(Link(**link) for link in data["links"]),
                   tuple(data["refs"]))


@dataclasses.dataclass(frozen=True, slots=True)
class Rendered:
    subject: str
    html: str
    text: str


class _Parts:
    """Hides Jinja behind plain words and brings it back."""

    def __init__(self) -> None:
        self.sources: list[str] = []

    def hide(self, source: str) -> str:
        self.sources.append(source)
        return f"MRPART{len(self.sources) - 1}X"

    def hide_in(self, text: str) -> str:
        return "".join(self.hide(p.source()) if isinstance(p, fillins.FillIn) else p for p in fillins.split(text))

    def check(self, before: str, after: str) -> None:
        """Raises CompileError when a part of `before` does not stand in `after` as often."""
        for number, source in enumerate(self.sources):
            word = f"MRPART{number}X"
            if after.count(word) < before.count(word):
                raise CompileError(f"“{source}” was lost while the mail was laid out; move or retype it.")

    def restore(self, text: str) -> str:
        return _WORD.sub(lambda m: self.sources[int(m.group(1))], text)


def mjml(document: Json, parts: _Parts, public_url: str, legal: str) -> str:
    """The document as MJML, fill-ins hidden in `parts`."""
    looks = document["settings"]
    body = []
    for line in document["lines"]:
        body.append(_line_mjml(line, looks, parts, public_url, legal))
    preheader = html.escape(parts.hide_in(document["preheader"]))
    return (f"<mjml><mj-head><mj-preview>{preheader}</mj-preview><mj-attributes>"
            f'<mj-all font-family="Georgia, serif" /><mj-text color="{looks["ink"]}" font-size="16px" '
            'line-height="1.5" font-family="Helvetica, Arial, sans-serif" padding="8px 28px" />'
            f"</mj-attributes><mj-style>a {{ color: {looks['accent']}; }} p {{ margin: 0 0 12px; }}</mj-style></mj-head>"
            f'<mj-body width="{looks["width"]}px" background-color="{looks["ground"]}">'
            f'<mj-section background-color="{looks["sheet"]}" padding="20px 0"><mj-column>{"".join(body)}'
            "</mj-column></mj-section></mj-body></mjml>")


def _line_mjml(line: Json, looks: Json, parts: _Parts, public_url: str, legal: str) -> str:
    kind = line["type"]
    if kind == "heading":
        text = html.escape(parts.hide_in(line["text"]))
        return (f'<mj-text align="{line["align"]}" font-family="Georgia, serif" font-size="26px" line-height="1.25" '
                f'font-weight="600"><h1 style="margin:0;font-size:26px;font-weight:600">{text}</h1></mj-text>')
    if kind == "text":
        return f'<mj-text align="{line["align"]}">{parts.hide_in(line["html"])}</mj-text>'
    if kind == "picture":
        if not line["src"]:
            return ""
        source = public_url + line["src"] if line["src"].startswith("/") else line["src"]
        pixels = round((looks["width"] - 56) * line["width"] / 100)
        link = f' href="{html.escape(parts.hide_in(line["link"]))}"' if line["link"] else ""
        alt = html.escape(parts.hide_in(line["alt"]))
        return (f'<mj-image src="{html.escape(source)}" alt="{alt}" width="{pixels}px"{link} '
                'padding="8px 28px" fluid-on-mobile="true" />')
    if kind == "button":
        return (f'<mj-button href="{html.escape(parts.hide_in(line["href"]))}" align="{line["align"]}" '
                f'background-color="{looks["accent"]}" color="#ffffff" border-radius="4px" font-size="16px" '
                f'inner-padding="12px 26px" padding="12px 28px">{html.escape(parts.hide_in(line["label"]))}</mj-button>')
    if kind == "divider":
        return '<mj-divider border-width="1px" border-color="#d9d3c2" padding="12px 28px" />'
    if kind == "space":
        return f'<mj-spacer height="{line["height"]}px" />'
    return (f'<mj-text font-size="13px" color="#66716a" padding="16px 28px 4px">{parts.hide_in(line["html"])}'
            f"{legal if line['unsubscribe'] else ''}</mj-text>")


def compile_document(document: Json, public_url: str, tracked: bool = True) -> Compiled:
    """Makes the three templates of a document.

    With `tracked`, links lead through our own signed addresses (`{{ token }}`) and a picture of one pixel tells of
    openings; without, links are as typed: for previews. Raises CompileError.
    """
    parts = _Parts()
    token = parts.hide(fillins.TOKEN) if tracked else "preview"
    stop = f"{public_url}/u/{token}"
    legal = f'<p><a href="{stop}">Unsubscribe</a> or <a href="{public_url}/p/{token}">choose what you get</a></p>'
    source = mjml(document, parts, public_url, legal)
    try:
        page = mrml.to_html(source).content
        page = css_inline.CSSInliner(keep_style_tags=True, load_remote_stylesheets=False).inline(page)
    except Exception as problem:
        raise CompileError(f"The mail could not be laid out: {problem}") from problem
    parts.check(source, page)
    links: list[Link] = []
    if tracked:
        page = _HREF.sub(lambda m: _tracked(m, page, links, parts, public_url, token), page)
        pixel = f'<img src="{public_url}/o/{token}" width="1" height="1" alt="" style="display:block;border:0" />'
        page = page.replace("</body>", pixel + "</body>", 1)
    restored = parts.restore(page)
    text = plain_text(document, f"{public_url}/u/{'{{ token }}' if tracked else 'preview'}")
    if tracked:
        text = _track_text(text, links, public_url)
    refs = sorted({part.ref for _, _, t in texts(document) for part in fillins.used(t)})
    return Compiled(document["subject"], restored, text, tuple(links), tuple(refs))


def _tracked(match: re.Match[str], page: str, links: list[Link], parts: _Parts, public_url: str, token: str) -> str:
    href = html.unescape(match.group(1))
    if not href.startswith(("http", "MRPART")) or href.startswith((f"{public_url}/u/", f"{public_url}/p/")):
        return match.group()
    after = page[match.end():match.end() + 2000]
    words = re.sub(r"<[^>]*>", " ", after.split(">", 1)[-1].split("</a>", 1)[0])
    label = " ".join(html.unescape(_WORD.sub("…", words)).split())
    if not label:
        alt = re.search(r'alt="([^"]*)"', after.split("</a>", 1)[0])
        label = (_WORD.sub("…", html.unescape(alt.group(1))) if alt else "") or "Picture"
    number = len(links)
    links.append(Link(number, label[:80], parts.restore(href)))
    return f'href="{public_url}/c/{token}/{number}"'


def _track_text(text: str, links: list[Link], public_url: str) -> str:
    """Addresses in the plain part that are also links of the HTML part lead through the same tracked address."""
    numbers: dict[str, int] = {}
    for link in links:
        numbers.setdefault(link.href, link.number)

    def swap(match: re.Match[str]) -> str:
        trailing = re.search(r"[.,;:)]*$", match.group())
        tail = trailing.group() if trailing else ""
        bare = match.group()[:len(match.group()) - len(tail)]
        if bare.startswith(f"{public_url}/"):
            return match.group()
        return f"{public_url}/c/{{{{ token }}}}/{numbers[bare]}{tail}" if bare in numbers else match.group()

    return _URL.sub(swap, text)


def plain_text(document: Json, unsubscribe: str) -> str:
    """The plain part: as edited by the author, else made from the lines. Never lacks the way out of a footer."""
    has_footer = any(line["type"] == "footer" and line["unsubscribe"] for line in document["lines"])
    if document.get("plain"):
        text = str(document["plain"]).rstrip() + "\n"
    else:
        blocks = [block for line in document["lines"] if (block := _line_text(line))]
        text = "\n\n".join(blocks) + "\n"
    return text + (f"\nUnsubscribe: {unsubscribe}\n" if has_footer else "")


def _line_text(line: Json) -> str:
    kind = line["type"]
    if kind == "heading":
        return f"{line['text']}\n{'=' * min(60, len(fillins.PART.sub('xxxxxx', line['text'])))}"
    if kind in ("text", "footer"):
        return _html_text(str(line["html"]))
    if kind == "picture":
        return " ".join(x for x in (f"[{line['alt']}]" if line["alt"] else "", line["link"]) if x)
    if kind == "button":
        return f"{line['label']}: {line['href']}" if line["label"] else str(line["href"])
    return "-" * 40 if kind == "divider" else ""


def _html_text(source: str) -> str:
    """Rich text as plain text: paragraphs apart, list items with a dash, links followed by their address."""
    hidden = _Parts()
    text = hidden.hide_in(source)
    text = re.sub(r'<a\s[^>]*href="([^"]*)"[^>]*>(.*?)</a>', _link_text, text, flags=re.DOTALL)
    text = re.sub(r"<br\s*/?>", "\n", text)
    text = re.sub(r"<li>", "\n- ", text)
    text = re.sub(r"</(p|ul|ol)>", "\n\n", text)
    text = html.unescape(re.sub(r"<[^>]*>", "", text))
    text = re.sub(r"\n{3,}", "\n\n", "\n".join(line.strip() for line in text.splitlines())).strip()
    return hidden.restore(text)


def _link_text(match: re.Match[str]) -> str:
    href, label = match.group(1), re.sub(r"<[^>]*>", "", match.group(2))
    return href if href == label else f"{label} ({href})"


class Renderer:
    """Fills in the templates of one edition, many times."""

    def __init__(self, compiled: Compiled):
        self.compiled = compiled
        self._subject = fillins.template(compiled.subject, escape=False)
        self._html = fillins.template(compiled.html, escape=True)
        self._text = fillins.template(compiled.text, escape=False)

    def render(self, values: Mapping[str, Any]) -> Rendered:
        """One person's mail. `values` holds contact, company, fact (mappings) and token.

        The subject is one line whatever a value holds, so that a value can never add a header.
        """
        return Rendered(" ".join(self._subject(values).split()), self._html(values), self._text(values))


def render_address(href: str, values: Mapping[str, Any]) -> str:
    """A link's address for one person. Values are percent-encoded, save one that is the address's beginning."""
    parts = []
    for place, part in enumerate(fillins.split(href)):
        if isinstance(part, fillins.FillIn):
            value = fillins.template(part.source(), escape=False)(values)
            parts.append(quote(value, safe="" if place else ":/?#[]@!$&'()*+,;=%"))
        else:
            parts.append(part)
    return "".join(parts)
