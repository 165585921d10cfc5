"""A message that is HTML from elsewhere: cleaned of what runs, laid out as a whole page, and
measured."""

import dataclasses
import html
import re
from collections import Counter
from collections.abc import Callable, Iterator

import nh3

from meadowrun.core.content import fillins
from meadowrun.core.content.markup import Element, elements

_TAGS = nh3.ALLOWED_TAGS | {
    "center",
    "font",
    "section",
    "main",
    "article",
    "header",
    "footer",
    "nav",
    "figure",
    "figcaption",
    "big",
    "tt",
    "u",
    "s",
    "strike",
    "map",
    "area",
}
_ATTRIBUTES = {
    "*": {
        "style",
        "class",
        "id",
        "align",
        "valign",
        "width",
        "height",
        "bgcolor",
        "background",
        "border",
        "cellpadding",
        "cellspacing",
        "bordercolor",
        "role",
        "dir",
        "lang",
        "title",
        "color",
        "face",
        "size",
        "colspan",
        "rowspan",
        "nowrap",
        "hspace",
        "vspace",
        "scope",
        "headers",
        "abbr",
        "start",
        "type",
        "aria-label",
        "aria-hidden",
        "aria-roledescription",
    },
    "a": {"href", "target", "name"},
    "img": {"src", "alt", "usemap"},
    "map": {"name"},
    "area": {"href", "shape", "coords", "alt", "target"},
}
#: What a page is made of anyway, or a parser adds by itself.
_FRAME = frozenset({"html", "head", "body", "title", "meta", "tbody", "style", "link"})
_HEAD = re.compile(r"<head\b[^<>]*+>(.*?)(?:</head>|\Z)", re.DOTALL | re.IGNORECASE)
_BODY = re.compile(r"<body\b([^<>]*+)>", re.IGNORECASE)
_BODY_END = re.compile(r"</body\s*+>", re.IGNORECASE)
#: One that nobody closes goes on to the end, as it does in a browser; so none is looked for again
#: and again.
_COMMENT_OR_SHEET = re.compile(
    r"<!--.*?(?:-->|\Z)|<style\b([^<>]*+)>(.*?)(?:</style\s*+>|\Z)", re.DOTALL | re.IGNORECASE
)
#: What a style sheet never needs, and what would end it, or fetch or run something.
_LEAVES = re.compile(r"<|-->|@import[^;]*+;?|expression\s*+\(|javascript:", re.IGNORECASE)
_WRAPPED = re.compile(r"<!--MRFILL(\d+)X-->|MRFILL(\d+)X")
_SHEET = re.compile(r"MRSHEET(\d+)X")
#: Declarations with which something gives way on a narrow screen.
_GIVES_WAY = re.compile(
    r"(?:^|[;\s])(?:(?:max-)?width\s*:\s*(?:auto|\d+%|[1-3]?\d?\dpx)|display\s*:\s*none)",
    re.IGNORECASE,
)
#: How wide a phone is, in CSS pixels, when it shows a page as wide as its screen.
PHONE = 375


def cleaned(text: str, clean: Callable[[str], str], comments: bool = False) -> str:
    """Cleans HTML while its fill-ins are hidden behind words, and brings them back."""
    parts: list[str] = []

    def hide(match: re.Match[str]) -> str:
        parts.append(html.unescape(match.group()))
        word = f"MRFILL{len(parts) - 1}X"
        # Between the cells of a table only a comment stays where it is.
        between = (
            comments
            and match.group().startswith("{%")
            and text.rfind("<", 0, match.start()) <= text.rfind(">", 0, match.start())
        )
        return f"<!--{word}-->" if between else word

    hidden = fillins.PART.sub(hide, text)
    # A link's address may be a fill-in, which is no address to a cleaner: give it a scheme while it
    # is hidden.
    hidden = re.sub(r'(href|src)="MRFILL(\d+)X', r'\1="https://mrfill.invalid/MRFILL\2X', hidden)
    safe = clean(hidden).replace("https://mrfill.invalid/", "")
    return _WRAPPED.sub(
        lambda m: parts[n] if (n := int(m.group(1) or m.group(2))) < len(parts) else "", safe
    )


def clean_code(text: str) -> str:
    """HTML from elsewhere without anything that runs. A whole page keeps its style sheets in its
    head and the looks of its body."""
    return cleaned(text, _clean_page, comments=True)


def _clean_page(hidden: str) -> str:
    head, body = _HEAD.search(hidden), _BODY.search(hidden)
    if body is None:
        return _clean_part(hidden)
    end = _BODY_END.search(hidden, body.end())
    inside = hidden[body.end() : end.start() if end else len(hidden)]
    top = "".join(m.group() for m in _COMMENT_OR_SHEET.finditer(head.group(1))) if head else ""
    looks = re.match(
        r"<div([^>]*)>",
        nh3.clean(
            f"<div{body.group(1)}></div>", tags={"div"}, attributes={"div": _ATTRIBUTES["*"]}
        ),
    )
    sheets = f"<head>{_clean_part(top)}</head>" if top else ""
    return f"{sheets}<body{looks.group(1) if looks else ''}>{_clean_part(inside)}</body>"


def _harmless(sheet: str) -> str:
    """A style sheet without what could leave it or run: taken out until nothing of it is left,
    since what stands around it may join."""
    while (cleaner := _LEAVES.sub("", sheet)) != sheet:
        sheet = cleaner
    return sheet


def _clean_part(part: str) -> str:
    # A style sheet's text is no markup, so it is kept aside as it is; in it only what could leave
    # it is taken out.
    sheets: list[str] = []

    def keep(match: re.Match[str]) -> str:
        if match.group().startswith("<!--"):
            return match.group()
        sheets.append(_harmless(match.group(2)))
        return f"MRSHEET{len(sheets) - 1}X"

    safe = nh3.clean(
        _COMMENT_OR_SHEET.sub(keep, part),
        tags=_TAGS - {"style", "title"},
        clean_content_tags={"script", "style", "title"},
        strip_comments=False,
        attributes=_ATTRIBUTES,
        link_rel=None,
        url_schemes={"http", "https", "mailto", "tel"},
    )
    return _SHEET.sub(lambda m: f"<style>{sheets[int(m.group(1))]}</style>", safe)


def lost(source: str, kept: str) -> list[str]:
    """What stands in some HTML and no longer in its cleaned form, in words, the commonest first."""
    tags: Counter[str] = Counter()
    attributes: Counter[tuple[str, str]] = Counter()
    for sign, text in ((1, source), (-1, kept)):
        for element in elements(text):
            if element.tag in _FRAME and element.tag != "body":
                continue
            tags[element.tag] += sign if element.tag not in _FRAME else 0
            for name in element.attributes:
                attributes[element.tag, name] += sign
    gone = {tag for tag, count in tags.items() if count > 0}
    said = [
        f"<{tag}>" + (f" ({count} times)" if count > 1 else "")
        for tag, count in tags.most_common()
        if count > 0
    ]
    return said + [
        f"{name} on <{tag}>" + (f" ({count} times)" if count > 1 else "")
        for (tag, name), count in attributes.most_common()
        if count > 0 and tag not in gone
    ]


@dataclasses.dataclass(frozen=True, slots=True)
class Page:
    """The parts of a page of code. `looks` are the attributes of its body, as they stand in its
    tag."""

    head: str
    looks: str
    body: str

    @classmethod
    def of(cls, code: str) -> "Page":
        """Style sheets come into the head, wherever they stood."""
        head, body = _HEAD.search(code), _BODY.search(code)
        top = head.group(1) if head else ""
        inside, looks = code, ""
        if body is not None:
            end = _BODY_END.search(code, body.end())
            inside, looks = code[body.end() : end.start() if end else len(code)], body.group(1)
        sheets: list[str] = []

        def move(match: re.Match[str]) -> str:
            if match.group().startswith("<!--"):
                return match.group()
            sheets.append(match.group())
            return ""

        inside = _COMMENT_OR_SHEET.sub(move, inside)
        return cls(top + "".join(sheets), looks, inside)


def sheets(code: str) -> Iterator[str]:
    """The style sheets of some HTML, those in comments left out."""
    for match in _COMMENT_OR_SHEET.finditer(code):
        if not match.group().startswith("<!--"):
            yield match.group(2)


def width_on_phone(page: str) -> int:
    """The width in pixels that a page takes on a phone, at least that of the phone: the widest
    thing that does not shrink.

    Rules in style sheets that hold for narrow screens count for what they name by tag, class or id.
    """
    flexible = {selector for sheet in sheets(page) for selector in _narrowed(sheet)}
    return max([PHONE, *(w for e in elements(page) if (w := _fixed(e, flexible)))])


def _fixed(element: Element, flexible: set[str]) -> int:
    """The pixels an element insists on; 0 where it gives way."""
    style = element.style()
    if style.get("display") == "none":
        return 0
    classes = element.attributes.get("class", "").split()
    names = {
        element.tag,
        *(f".{c}" for c in classes),
        *(f"{element.tag}.{c}" for c in classes),
        f"#{element.attributes.get('id', '')}",
    }
    least = re.fullmatch(r"(\d+)px", style.get("min-width", ""))
    if least:
        return int(least.group(1))
    if names & flexible:
        return 0
    most = style.get("max-width", "")
    if (
        most.endswith("%")
        or (limit := re.fullmatch(r"(\d+)px", most))
        and int(limit.group(1)) <= PHONE
    ):
        return 0
    wanted = style.get("width", "") or element.attributes.get("width", "")
    found = re.fullmatch(r"(\d+)(?:px)?", wanted.strip())
    return (
        int(found.group(1))
        if found
        and element.tag
        in ("table", "td", "th", "img", "div", "p", "span", "a", "center", "section")
        else 0
    )


def _narrowed(sheet: str) -> Iterator[str]:
    """The tags, classes and ids that a style sheet makes narrower on a phone."""
    for query, rules in _media(sheet):
        limits = re.findall(r"max-(?:device-)?width\s*:\s*(\d+)", query)
        if not limits or min(map(int, limits)) < PHONE:
            continue
        for selectors, body in re.findall(r"([^{}]+)\{([^{}]*)\}", rules):
            if _GIVES_WAY.search(body):
                for selector in selectors.split(","):
                    last = selector.split()[-1:] or [""]
                    yield re.sub(r"\[[^\]]*\]|:[\w-]+", "", last[0])


def _media(sheet: str) -> Iterator[tuple[str, str]]:
    """The media queries of a style sheet with their rules."""
    for match in re.finditer(r"@media([^{]*)\{", sheet):
        depth, place = 1, match.end()
        while place < len(sheet) and depth:
            depth += {"{": 1, "}": -1}.get(sheet[place], 0)
            place += 1
        yield match.group(1), sheet[match.end() : place - 1]
