"""Messages out of and into open formats: MJML both ways, HTML from elsewhere."""

import html
import re
from collections.abc import Iterator
from xml.etree import ElementTree

from meadowrun.core.content.compiled import Rows, placed
from meadowrun.core.content.document import COLOUR, clean_html, empty, take
from meadowrun.core.content.layout import Parts, mjml
from meadowrun.core.content.lines import Json, new_line

MOST_BYTES = 1_000_000
#: Elements whose content is HTML, which need not be well-formed XML: kept aside while the rest is read.
_HTML = re.compile(r"<(mj-text|mj-button|mj-raw|mj-table|mj-social-element|mj-title|mj-preview)\b([^>]*?)(?<!/)>(.*?)</\1>", re.DOTALL)
_SOCIAL = ("web", "mail", "phone", "map", "calendar", "camera", "film", "chat", "news", "ticket")


class ExchangeError(ValueError):
    """What was given cannot be read; the text says where."""


def to_mjml(document: Json, rows: Rows | None, public_url: str) -> str:
    """A message as MJML, its fill-ins standing as they are written."""
    parts = Parts()
    legal = f'<p><a href="{public_url}/u/preview">Unsubscribe</a></p>'
    made = mjml(document, placed(document, rows), parts, public_url, legal)
    made = re.sub(r"MRCODE(\d+)X", lambda m: parts.blocks[int(m.group(1))], made)
    return re.sub(r"MRPART(\d+)X", lambda m: parts.sources[int(m.group(1))], made)


def from_mjml(source: str) -> tuple[Json, list[str]]:
    """A document read from MJML, and what of it could not be taken, in words. Raises ExchangeError."""
    if len(source) > MOST_BYTES:
        raise ExchangeError("This file is larger than 1 MB.")
    if re.search(r"<!DOCTYPE|<!ENTITY", source, re.IGNORECASE):
        raise ExchangeError("MJML has no document type; take the lines with <! out.")
    aside: list[str] = []

    def hide(match: re.Match[str]) -> str:
        aside.append(match.group(3))
        return f"<{match.group(1)}{match.group(2)}>MRHELD{len(aside) - 1}X</{match.group(1)}>"

    text = _HTML.sub(hide, re.sub(r"<!--.*?-->", lambda m: "" if "<mj-" in m.group() else m.group(), source, flags=re.DOTALL))
    text = re.sub(r"&(?!(?:amp|lt|gt|quot|apos|#\d+|#x[0-9a-fA-F]+);)(\w+;)?", lambda m: html.unescape(m.group()) if m.group(1) else "&amp;", text)
    try:
        root = ElementTree.fromstring(text.strip())
    except ElementTree.ParseError as problem:
        raise ExchangeError(f"This is not well-formed MJML: {problem}.") from None
    if root.tag != "mjml":
        raise ExchangeError("MJML begins with <mjml>.")
    return _Reading(aside).document(root)


class _Reading:
    def __init__(self, aside: list[str]):
        self.aside, self.lost = aside, dict[str, None]()

    def content(self, element: ElementTree.Element) -> str:
        return re.sub(r"MRHELD(\d+)X", lambda m: self.aside[int(m.group(1))], element.text or "").strip()

    def document(self, root: ElementTree.Element) -> tuple[Json, list[str]]:
        made = empty()
        head, body = root.find("mj-head"), root.find("mj-body")
        if body is None:
            raise ExchangeError("There is no <mj-body>.")
        if head is not None:
            for slot, tag in (("subject", "mj-title"), ("preheader", "mj-preview")):
                found = head.find(tag)
                made[slot] = html.unescape(self.content(found)) if found is not None else ""
            for path, setting, attribute in (("mj-attributes/mj-text", "ink", "color"), ("mj-attributes/mj-button", "accent", "background-color")):
                self.looks(made, head.find(path), setting, attribute)
        self.looks(made, body, "ground", "background-color")
        width = re.sub(r"\D", "", body.get("width", ""))
        if width:
            made["settings"]["width"] = int(width)
        for child in body:
            made["lines"] += self.section(child, made)
        return take(made), list(self.lost)

    def looks(self, made: Json, element: ElementTree.Element | None, setting: str, attribute: str) -> None:
        value = element.get(attribute, "") if element is not None else ""
        if COLOUR.match(value):
            made["settings"][setting] = value

    def section(self, element: ElementTree.Element, made: Json) -> Iterator[Json]:
        if element.tag in ("mj-wrapper", "mj-hero"):
            for child in element:
                yield from self.section(child, made) if child.tag in ("mj-section", "mj-raw") else self.line(child)
            return
        if element.tag == "mj-raw":
            yield from self.line(element)
            return
        if element.tag != "mj-section":
            self.lost[f"<{element.tag}> is not taken"] = None
            return
        self.looks(made, element, "sheet", "background-color")
        columns = [c for child in element for c in (child if child.tag == "mj-group" else [child])]
        held = [[line for child in column for line in self.line(child)] for column in columns if column.tag == "mj-column"]
        yield from (line for child in columns if child.tag == "mj-raw" for line in self.line(child))
        if 2 <= len(held) <= 4:
            widths = [re.fullmatch(r"([\d.]+)%", column.get("width", "")) for column in columns if column.tag == "mj-column"]
            split = [round(float(w.group(1))) if w else round(100 / len(held)) for w in widths]
            yield new_line("columns", split=split, columns=held)
        else:
            for lines in held:
                yield from lines

    def line(self, element: ElementTree.Element) -> Iterator[Json]:
        content, align = self.content(element), element.get("align", "left")
        if element.tag == "mj-text":
            yield from self.text(content, align, element.get("color", ""))
        elif element.tag == "mj-image":
            width = int(re.sub(r"\D", "", element.get("width", "")) or 0)
            yield new_line("picture", src=element.get("src", ""), alt=element.get("alt", ""), link=element.get("href", ""),
                           width=min(100, max(10, round(width / 5.44))) if width else 100)
        elif element.tag == "mj-button":
            fill = element.get("background-color", "")
            yield new_line("button", label=html.unescape(re.sub(r"<[^>]*>", "", content)), href=element.get("href", ""),
                           align=element.get("align", "center"), fill=fill if COLOUR.match(fill) else "")
        elif element.tag == "mj-divider":
            yield new_line("divider")
        elif element.tag == "mj-spacer":
            yield new_line("space", height=int(re.sub(r"\D", "", element.get("height", "")) or 20))
        elif element.tag == "mj-social":
            yield new_line("icons", icons=[{"icon": next((i for i in _SOCIAL if i in child.get("src", "")), "web"),
                                            "href": child.get("href", "")} for child in element if child.get("href")])
        elif element.tag == "mj-table":
            yield new_line("code", code=f"<table>{content}</table>")
        elif element.tag == "mj-raw":
            if re.search(r"\{%", content) and not re.sub(r"<!--.*?-->", "", content, flags=re.DOTALL).strip():
                self.lost["conditions between lines are not taken; add “Only if” lines for them"] = None
            else:
                yield new_line("code", code=content)
        else:
            self.lost[f"<{element.tag}> is not taken"] = None

    def text(self, content: str, align: str, colour: str) -> Iterator[Json]:
        heading = re.fullmatch(r"\s*<h[1-3][^>]*>(.*?)</h[1-3]>\s*", content, re.DOTALL)
        looks = {"align": align, "colour": colour if COLOUR.match(colour) else ""}
        if heading:
            yield new_line("heading", text=html.unescape(re.sub(r"<[^>]*>", "", heading.group(1))), **looks)
        elif re.search(r"<(table|img|div|center)\b", content):
            yield new_line("code", code=content)
        else:
            rich = clean_html(content)
            yield new_line("text", html=rich if rich.lstrip().startswith(("<p", "<ul", "<ol")) else f"<p>{rich}</p>", **looks)
