"""Messages out of and into open formats: MJML both ways, HTML from elsewhere."""

import dataclasses
import html
import json
import re
from collections.abc import Iterator, Mapping, Sequence
from xml.etree import ElementTree

from meadowrun.core.content import asking, fillins
from meadowrun.core.content.compiled import Shared, placed
from meadowrun.core.content.document import COLOUR, clean_html, empty, take
from meadowrun.core.content.layout import RULE, SHEET, Parts, answer_key, mjml, own_style
from meadowrun.core.content.lines import Json, fresh_id, new_line, walk
from meadowrun.core.language import Problem, Wording
from meadowrun.core.values import read_json

MOST_BYTES = 1_000_000
#: Elements whose content is HTML, which need not be well-formed XML: kept aside while the rest is
#: read.
_HTML = re.compile(
    r"<(mj-text|mj-button|mj-raw|mj-table|mj-social-element|mj-title|mj-preview)\b([^<>]*+)(?<!/)>(.*?)(?:</\1>|\Z)",
    re.DOTALL,
)
#: What conditions say, by the key that the tags name: MJML itself has no place for that.
_CONDITIONS = re.compile(r"<!-- conditions: (\{(?:(?!<!--).)*?\}) -->", re.DOTALL)
_WAY_OUT = re.compile(r"<p>\s*<a href=\"\{\{ unsubscribe \}\}\">[^<]*</a>\s*</p>")
COLOUR_IN = r"#[0-9a-fA-F]{3,8}"
_SOCIAL = ("web", "mail", "phone", "map", "calendar", "camera", "film", "chat", "news", "ticket")


class ExchangeError(Problem):
    """What was given cannot be read; the text says where."""


@dataclasses.dataclass(frozen=True)
class Brought:
    """A document that was read, what of its source could not be taken, in words, and the conditions
    that its words ask, by key."""

    document: Json
    lost: list[str]
    asked: dict[str, list[Json]]


def to_mjml(
    document: Json,
    shared: Shared | None,
    public_url: str,
    asked: Mapping[str, list[Json]] | None = None,
) -> str:
    """A message as MJML, its fill-ins standing as they are written; `asked` are the conditions that
    its words name.

    What conditions say stands in a comment, so that they come back when the file is read in.
    """
    parts, lines = Parts(), placed(document, shared)
    made = mjml(
        document, lines, parts, public_url, '<p><a href="{{ unsubscribe }}">Unsubscribe</a></p>'
    )
    made = re.sub(r"MRCODE(\d+)X", lambda m: parts.blocks[int(m.group(1))], made)
    made = re.sub(r"MRPART(\d+)X", lambda m: parts.sources[int(m.group(1))], made)
    said: Json = {key: {"lines": those} for key, those in (asked or {}).items()}
    said |= {
        answer_key(case): {"name": case["name"], "lines": case["lines"]}
        for line in walk(lines)
        if line["type"] == "only" and not line["grouping"]
        for case in line["cases"]
    }
    # Two dashes would end the comment.
    kept = json.dumps(said, ensure_ascii=False).replace("--", "-\\u002d")
    return made.replace("</mj-head>", f"</mj-head><!-- conditions: {kept} -->", 1) if said else made


def from_mjml(source: str, public_url: str = "") -> Brought:
    """What MJML holds; pictures at `public_url` are those of the store. Raises ExchangeError."""
    if len(source) > MOST_BYTES:
        raise ExchangeError("This file is larger than 1 MB.")
    if re.search(r"<!DOCTYPE|<!ENTITY", source, re.IGNORECASE):
        raise ExchangeError("MJML has no document type; take the lines with <! out.")
    aside: list[str] = []
    said: Json = {}
    if found := _CONDITIONS.search(source):
        source = source.replace(found.group(), "", 1)
        try:
            given = read_json(found.group(1))
            if not isinstance(given, dict):
                raise ValueError("it holds no object")
            said = {
                key: one
                for key, one in given.items()
                if isinstance(one, dict) and isinstance(one.get("lines"), list)
            }
        except ValueError as problem:
            raise ExchangeError(
                Wording(
                    "The comment with the conditions cannot be read: %(problem)s.", problem=problem
                )
            ) from None

    def hide(match: re.Match[str]) -> str:
        aside.append(match.group(3))
        return f"<{match.group(1)}{match.group(2)}>MRHELD{len(aside) - 1}X</{match.group(1)}>"

    text = _HTML.sub(
        hide,
        re.sub(
            r"<!--.*?(?:-->|\Z)",
            lambda m: "" if "<mj-" in m.group() else m.group(),
            source,
            flags=re.DOTALL,
        ),
    )
    text = re.sub(
        r"&(?!(?:amp|lt|gt|quot|apos|#\d+|#x[0-9a-fA-F]+);)(\w+;)?",
        lambda m: html.unescape(m.group()) if m.group(1) else "&amp;",
        text,
    )
    try:
        root = ElementTree.fromstring(text.strip())
    except ElementTree.ParseError as problem:
        raise ExchangeError(
            Wording("This is not well-formed MJML: %(problem)s.", problem=problem)
        ) from None
    if root.tag != "mjml":
        raise ExchangeError("MJML begins with <mjml>.")
    return _Reading(aside, said, public_url).brought(root)


class _Reading:
    """`said` is what conditions say, by key. While lines are gathered, the tags between them stand
    among them."""

    def __init__(self, aside: list[str], said: Mapping[str, Json], public_url: str):
        self.aside, self.said, self.public_url, self.lost = (
            aside,
            said,
            public_url,
            dict[str, None](),
        )
        #: the grounds that sections name
        self.grounds = set[str]()
        self.room = 0.0
        #: the colours of the whole message, which a line need not name
        self.ink = self.accent = self.words = ""

    def note(self, what: str) -> None:
        """Something of the source that has no place in our lines."""
        self.lost[what] = None

    def unkept(self, element: ElementTree.Element, *names: str) -> None:
        """Notes attributes of an element that are said and not kept."""
        for name in names:
            if element.get(name):
                self.note(f"{name} of <{element.tag}>")

    def classes(self, root: ElementTree.Element) -> None:
        """Gives each element the attributes of its classes and of its kind (mj-attributes), where
        it has none of its own."""
        said = root.find("mj-head/mj-attributes")
        if said is None:
            return
        named = {child.get("name", ""): child.attrib for child in said if child.tag == "mj-class"}
        kinds = {child.tag: child.attrib for child in said if child.tag != "mj-class"}
        for element in root.iter():
            own = element.attrib.pop("mj-class", "").split()
            for given in (
                *(named.get(name, {}) for name in own),
                kinds.get(element.tag, {}),
                kinds.get("mj-all", {}),
            ):
                for name, value in given.items():
                    if name != "name":
                        element.attrib.setdefault(name, value)
            for name in own:
                if name not in named:
                    self.note(f"the class “{name}”, which nothing defines")

    def content(self, element: ElementTree.Element) -> str:
        return re.sub(
            r"MRHELD(\d+)X", lambda m: self.aside[int(m.group(1))], element.text or ""
        ).strip()

    def brought(self, root: ElementTree.Element) -> Brought:
        made = empty()
        head, body = root.find("mj-head"), root.find("mj-body")
        if body is None:
            raise ExchangeError("There is no <mj-body>.")
        self.classes(root)
        self.grounds = {
            element.get("background-color", "") for element in body.iter("mj-section")
        } - {""}
        if head is not None:
            for child in head:
                said = re.sub(COLOUR_IN, "#", child.text or "")
                if child.tag == "mj-style" and (
                    said == own_style("#") or f".{SHEET}, .{SHEET} table" in said
                ):
                    continue
                if child.tag in ("mj-font", "mj-style", "mj-breakpoint", "mj-html-attributes"):
                    self.note(
                        f"<{child.tag}>" + (f" “{child.get('name')}”" if child.get("name") else "")
                    )
            for slot, tag in (("subject", "mj-title"), ("preheader", "mj-preview")):
                found = head.find(tag)
                made[slot] = html.unescape(self.content(found)) if found is not None else ""
            for path, setting, attribute in (
                ("mj-attributes/mj-text", "ink", "color"),
                ("mj-attributes/mj-button", "accent", "background-color"),
            ):
                self.looks(made, head.find(path), setting, attribute)
        self.ink, self.accent, self.words = (
            made["settings"][slot] for slot in ("ink", "accent", "on_accent")
        )
        self.looks(made, body, "ground", "background-color")
        width = re.sub(r"\D", "", body.get("width", ""))
        if width:
            made["settings"]["width"] = int(width)
        held = [line for child in body for line in self.section(child, made)]
        made["lines"] = self.folded(held)
        document = take(made)
        keys = asking.keys(asking.refs(document, document["lines"]), document["lines"])
        return Brought(
            document,
            list(self.lost),
            {key: self.said[key]["lines"] for key in sorted(keys & self.said.keys())},
        )

    def folded(self, held: Sequence["Json | fillins.Tag"]) -> list[Json]:
        """Lines with tags between them as “only if” lines and lists from feeds."""
        rest, made = list(reversed(held)), list[Json]()
        while rest:
            lines, closing = self.until(rest)
            made += lines
            if closing is not None:
                self.lost[f"“{closing.text}” without its beginning is not taken"] = None
        return made

    def until(self, rest: list["Json | fillins.Tag"]) -> tuple[list[Json], fillins.Tag | None]:
        """Lines up to the tag that ends their branch, which comes back, too; None at the end."""
        made: list[Json] = []
        while rest:
            one = rest.pop()
            if not isinstance(one, fillins.Tag):
                made.append(one)
            elif one.kind == "if":
                made += self.only(one, rest)
            elif one.kind == "for":
                body, _ = self.until(rest)
                texts = [line for line in body if line["type"] == "text"]
                if len(texts) == len(body) == 1:
                    made.append(
                        new_line(
                            "feed",
                            feed=one.ref.removeprefix("feed."),
                            most=one.most,
                            html=texts[0]["html"],
                        )
                    )
                else:
                    self.lost["a list from a feed holds one text; this one is shown once"] = None
                    made += body
            else:
                return made, one
        return made, None

    def only(self, first: fillins.Tag, rest: list["Json | fillins.Tag"]) -> list[Json]:
        branches: list[tuple[str, list[Json]]] = []
        otherwise: list[Json] = []
        now: fillins.Tag | None = first
        while now is not None and now.kind in ("if", "elif", "else"):
            body, closing = self.until(rest)
            if now.test is not None:
                branches.append((now.test.source, body))
            else:
                otherwise = body
            now = closing
        cases = [self.case(test, body) for test, body in branches]
        groupings = {case["grouping"] for case in cases if case}
        if None in cases or len(groupings) != 1:
            self.lost[
                (
                    "conditions that no sentence stands beside are not taken; add “Only if” lines "
                    "for them"
                )
            ] = None
            return [line for _, body in branches for line in body] + otherwise
        return [
            new_line(
                "only",
                grouping=groupings.pop(),
                otherwise=otherwise,
                cases=[
                    {k: v for k, v in case.items() if k != "grouping"} for case in cases if case
                ],
            )
        ]

    def case(self, test: str, body: list[Json]) -> Json | None:
        """A version of an “only if” line with the grouping it asks, 0 for none; None for what is
        not ours."""
        made: Json = {
            "id": fresh_id(),
            "name": "",
            "lines": [],
            "group": "",
            "content": body,
            "grouping": 0,
        }
        if group := re.fullmatch(r'group\.g(\d+) == "([^"]*)"', test):
            return made | {"grouping": int(group[1]), "group": group[2]}
        if (asked := re.fullmatch(r"when\.(\w+)", test)) and asked[1] in self.said:
            return made | {
                "name": str(self.said[asked[1]].get("name", "")),
                "lines": self.said[asked[1]]["lines"],
            }
        return None

    def looks(
        self, made: Json, element: ElementTree.Element | None, setting: str, attribute: str
    ) -> None:
        value = element.get(attribute, "") if element is not None else ""
        if COLOUR.match(value):
            made["settings"][setting] = value

    def section(self, element: ElementTree.Element, made: Json) -> Iterator["Json | fillins.Tag"]:
        if element.tag in ("mj-wrapper", "mj-hero"):
            if element.get("background-color", "") not in self.grounds:
                self.unkept(element, "background-color")
            self.unkept(
                element, "background-url", "border", "border-top", "border-bottom", "full-width"
            )
            for child in element:
                yield from (
                    self.section(child, made)
                    if child.tag in ("mj-section", "mj-raw")
                    else self.line(child)
                )
            return
        if element.tag == "mj-raw":
            yield from self.line(element)
            return
        if element.tag != "mj-section":
            self.lost[f"<{element.tag}> is not taken"] = None
            return
        if len(self.grounds) < 2:
            self.looks(made, element, "sheet", "background-color")
        else:
            # One ground is the whole message's; sections of several colours have no place in ours.
            self.unkept(element, "background-color")
        self.unkept(element, "background-url", "border", "full-width")
        if element.find("mj-group") is not None:
            self.note("<mj-group>: its columns stack on phones")
        for column in element.iter("mj-column"):
            self.unkept(column, "background-color", "border", "inner-background-color")
        columns = [c for child in element for c in (child if child.tag == "mj-group" else [child])]
        own = [column for column in columns if column.tag == "mj-column"]
        widths = [re.fullmatch(r"([\d.]+)%", column.get("width", "")) for column in own]
        split = [round(float(w.group(1))) if w else round(100 / len(own)) for w in widths]
        whole, held = made["settings"]["width"], list[list[Json | fillins.Tag]]()
        for column, share in zip(own, split, strict=True):
            self.room = whole - 56 if len(own) == 1 else (whole - 32) * share / 100 - 24
            held.append([line for child in column for line in self.line(child)])
        yield from (line for child in columns if child.tag == "mj-raw" for line in self.line(child))
        if 2 <= len(held) <= 4:
            # Right to left, the source has the order of phones.
            reverse = element.get("direction") == "rtl"
            turn = -1 if reverse else 1
            yield new_line(
                "columns",
                split=split[::turn],
                reverse=reverse,
                columns=[self.folded(lines) for lines in held][::turn],
            )
        else:
            for lines in held:
                yield from lines

    def line(self, element: ElementTree.Element) -> Iterator["Json | fillins.Tag"]:
        """The lines that an element becomes; what it is not taken for is noted."""
        content, align = self.content(element), element.get("align", "left")
        if element.tag == "mj-text":
            self.unkept(element, "container-background-color")
            colour = element.get("color", "")
            yield from self.text(content, align, "" if colour == self.ink else colour)
        elif element.tag == "mj-image":
            yield self.picture(element)
        elif element.tag == "mj-button":
            yield self.button(element, content)
        elif element.tag == "mj-divider":
            yield self.divider(element)
        elif element.tag == "mj-spacer":
            yield new_line("space", height=int(re.sub(r"\D", "", element.get("height", "")) or 20))
        elif element.tag == "mj-social":
            yield new_line("icons", icons=[_icon(child) for child in element if child.get("href")])
        elif element.tag == "mj-table":
            yield new_line("code", code=f"<table>{content}</table>")
        elif element.tag == "mj-raw":
            tag = re.fullmatch(r"<!--\s*(\{%.*?%\})\s*-->|(\{%.*?%\})", content, re.DOTALL)
            try:
                yield fillins.tag(tag[1] or tag[2]) if tag else new_line("code", code=content)
            except fillins.FillInError as problem:
                self.lost[f"between lines: {problem}"] = None
        else:
            self.lost[f"<{element.tag}> is not taken"] = None

    def picture(self, element: ElementTree.Element) -> Json:
        """A picture; one of our own store by the name it has there."""
        width = int(re.sub(r"\D", "", element.get("width", "")) or 0)
        src = element.get("src", "")
        if self.public_url and src.startswith(f"{self.public_url}/f/"):
            src = src.removeprefix(self.public_url).partition("?")[0]
        return new_line(
            "picture",
            src=src,
            alt=element.get("alt", ""),
            link=element.get("href", ""),
            align=element.get("align", "center"),
            width=min(100, max(10, round(100 * width / (self.room or 544)))) if width else 100,
        )

    def button(self, element: ElementTree.Element, content: str) -> Json:
        """A button; colours that it has from the whole message are left to that."""
        fill, colour = element.get("background-color", ""), element.get("color", "")
        self.unkept(element, "border", "width")
        return new_line(
            "button",
            colour=colour if COLOUR.match(colour) and colour != self.words else "",
            label=html.unescape(re.sub(r"<[^>]*>", "", content)),
            href=element.get("href", ""),
            align=element.get("align", "center"),
            fill=fill if COLOUR.match(fill) and fill != self.accent else "",
        )

    def divider(self, element: ElementTree.Element) -> Json:
        """A divider; its colour is kept, its width and kind are noted as lost."""
        colour = element.get("border-color", "")
        solid = element.get("border-style", "solid") == "solid"
        if not solid or element.get("border-width", "1px") not in ("1px", ""):
            self.note("width and kind of <mj-divider>")
        return new_line("divider", colour=colour if COLOUR.match(colour) and colour != RULE else "")

    def text(self, content: str, align: str, colour: str) -> Iterator[Json]:
        if _WAY_OUT.search(content):
            yield new_line("footer", html=clean_html(_WAY_OUT.sub("", content).strip()))
            return
        heading = re.fullmatch(r"\s*<h[1-3][^>]*>(.*?)</h[1-3]>\s*", content, re.DOTALL)
        looks = {"align": align, "colour": colour if COLOUR.match(colour) else ""}
        if heading:
            yield new_line(
                "heading", text=html.unescape(re.sub(r"<[^>]*>", "", heading.group(1))), **looks
            )
        elif re.search(r"<(table|img|div|center)\b", content):
            yield new_line("code", code=content)
        else:
            rich = clean_html(content)
            yield new_line(
                "text",
                html=rich if rich.lstrip().startswith(("<p", "<ul", "<ol")) else f"<p>{rich}</p>",
                **looks,
            )


def _icon(element: ElementTree.Element) -> Json:
    """A link to one of the firm's own pages, with the icon that its picture is called by."""
    icon = next((i for i in _SOCIAL if i in element.get("src", "")), "web")
    return {"icon": icon, "href": element.get("href", "")}
