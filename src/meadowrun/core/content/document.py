"""A message's document: what is stored, checked when it comes in.

    {"channel" (none for email), "subject", "preheader", "plain": text or null, "text_only": false,
     "code": html or null, "settings": {…}, "lines": [line, …]}

Every line has an `id` and a `type` (see lines.py); texts may hold fill-ins (see fillins.py), `html`
only the tags in TAGS. With `code`, the body is that HTML and the lines are not used; with
`text_only`, there is no HTML at all.
"""

import html
import re
from collections.abc import Callable, Iterator
from typing import Any
from urllib.parse import urlsplit

import nh3

from meadowrun.core import wording
from meadowrun.core.content import fillins
from meadowrun.core.content.code import clean_code, cleaned
from meadowrun.core.content.lines import (
    EVERY,
    ICONS,
    LINE_TYPES,
    MOST_CASES,
    TEXT_SLOTS,
    Json,
    among,
    fresh_id,
    listed,
    live,
    new_line,
    one_line,
    walk,
)
from meadowrun.core.content.plain import mark_of
from meadowrun.core.language import Problem, Wording

__all__ = ["LINE_TYPES", "Json", "new_line"]
TAGS = {"p", "br", "b", "strong", "i", "em", "a", "ul", "ol", "li", "span"}
ALIGN = ("left", "center", "right")
#: A host by its labels, in any letters (RFC 1123, 2.1; RFC 5890), or a number.
_HOST = re.compile(
    r"(?:localhost|\[[0-9a-fA-F:.]+\]|\d{1,3}(?:\.\d{1,3}){3}|"
    r"(?:[^\W_](?:[\w-]{0,61}[^\W_])?\.)+(?=[^\d]*[^\W\d_])[^\W_][\w-]*[^\W_])\.?"
)
#: an address to write to, or several, with or without a subject (RFC 6068)
_MAILTO = re.compile(r"mailto:[^\s@,?]+@[^\s@,?]+\.[^\s@,?.]{2,}(?:[,?]|\Z)")
COLOUR = re.compile(r"#[0-9a-fA-F]{6}\Z")
#: Fonts that mail readers have; others would need to be fetched.
FONTS = {
    "Georgia, serif": "Georgia",
    "'Times New Roman', Times, serif": "Times",
    "Helvetica, Arial, sans-serif": "Helvetica",
    "Verdana, Geneva, sans-serif": "Verdana",
    "'Trebuchet MS', Tahoma, sans-serif": "Trebuchet",
    "'Courier New', Courier, monospace": "Courier",
}
#: The design of a message; a house style gives the organisation's own defaults.
SETTINGS: Json = {
    "width": 600,
    "ground": "#efeadd",
    "sheet": "#ffffff",
    "ink": "#1f2b25",
    "accent": "#2e5e45",
    "on_accent": "#ffffff",
    "heading_font": "Georgia, serif",
    "text_font": "Helvetica, Arial, sans-serif",
    "size": 16,
    "round": 4,
}
#: setting of the design → what it is called on screen
DESIGN: dict[str, str] = {
    "width": Wording("width"),
    "size": Wording("text size"),
    "round": Wording("rounded corners"),
    "heading_font": Wording("heading font"),
    "text_font": Wording("text font"),
    "ground": Wording("outer background"),
    "sheet": Wording("message background"),
    "ink": Wording("text colour"),
    "accent": Wording("colour of buttons and links"),
    "on_accent": Wording("colour of button texts"),
}
_SIZES = {"width": (320, 800), "size": (12, 22), "round": (0, 30)}
MOST_LINES = 240
MOST_TEXT = 40_000
MOST_CODE = 400_000
_DEEPEST = 5
#: What a code line may hold: looks and tables, nothing that runs or asks for input.
#: a feed's key and, parted by dots, the way to a list in what it gives
_FEED = re.compile(r"[A-Za-z]\w*(\.[A-Za-z]\w*){0,5}\Z")


class DocumentError(Problem):
    """Content that cannot be taken; `line` is the id of the line at fault and `slot` the setting of
    it."""

    def __init__(self, message: str, line: str | None = None, slot: str | None = None):
        super().__init__(message)
        self.line, self.slot = line, slot


def empty(settings: Json | None = None) -> Json:
    """A document without any line."""
    return {
        "subject": "",
        "preheader": "",
        "plain": None,
        "text_only": False,
        "code": None,
        "settings": SETTINGS | (settings or {}),
        "lines": [],
    }


def starting(organisation: str, postal_address: str, settings: Json | None = None) -> Json:
    """What a new message begins with: the lines nearly every mail has, empty where only the author
    can know."""
    lines = [new_line(k) for k in ("heading", "text", "button")]
    lines[1]["html"] = '<p>Dear {{ contact.first_name | default("friend", true) }},</p><p></p>'
    return empty(settings) | {"lines": [*lines, closing(organisation, postal_address)]}


def closing(organisation: str, postal_address: str) -> Json:
    """The footer that every mail needs: who writes, from where, and the way out."""
    # Many write their name into the address as well.
    place = (
        postal_address
        if postal_address.startswith(organisation)
        else f"{organisation}, {postal_address}"
        if postal_address
        else organisation
    )
    return new_line(
        "footer", html=f"<p>{html.escape(place)}. You get this because you asked us to write.</p>"
    )


def clean_html(text: str) -> str:
    """Rich text with only the tags we write, links with safe schemes, and fill-ins unharmed."""
    return cleaned(
        text,
        lambda hidden: nh3.clean(
            hidden,
            tags=TAGS,
            attributes={"a": {"href"}, "span": {"style"}},
            filter_style_properties={"color"},
            link_rel=None,
            url_schemes={"http", "https", "mailto", "tel"},
        ),
    )


def texts(document: Json) -> Iterator[tuple[str, str, str]]:
    """Every text a fill-in may stand in: (line id or "", slot, text)."""
    for slot in ("subject", "preheader"):
        yield "", slot, document[slot]
    for slot in ("plain", "code"):
        if document.get(slot):
            yield "", slot, document[slot]
    for line in walk(document["lines"]):
        for slot in TEXT_SLOTS:
            if isinstance(line.get(slot), str):
                yield line["id"], slot, line[slot]
        for place, icon in enumerate(line.get("icons", ())):
            yield line["id"], f"icons.{place}.href", icon["href"]


def take(data: Any) -> Json:
    """Checks and cleans a document that comes from outside.

    Returns a new one. Raises DocumentError naming the line and the setting.
    """
    if not isinstance(data, dict) or not isinstance(data.get("lines"), list):
        raise DocumentError("The message is not an object with a list of lines.")
    made: Json = empty() | {
        "subject": one_line(data.get("subject", "")),
        "preheader": one_line(data.get("preheader", "")),
        "plain": str(data["plain"]) if data.get("plain") else None,
        "text_only": bool(data.get("text_only")),
        "code": clean_code(str(data["code"])) if data.get("code") else None,
    }
    if data.get("one_of"):
        made["one_of"] = _one_of(data["one_of"])
    made["settings"] = take_settings(data.get("settings") or {})
    made["lines"] = take_lines(data["lines"])
    if made["plain"]:
        # What the author's own text was written beside; a new one is marked when it comes in.
        made["plain_of"] = str(data.get("plain_of") or mark_of(made, live(made["lines"])))[:16]
    for ident, slot, text in texts(made):
        most = MOST_CODE if slot == "code" else MOST_TEXT
        if len(text) > most:
            raise DocumentError(
                Wording("This text is longer than %(most)s characters.", most=wording.number(most)),
                ident or None,
                slot,
            )
        try:
            fillins.tree(text)
        except fillins.FillInError as problem:
            raise DocumentError(str(problem), ident or None, slot) from None
    return made


def take_settings(data: Any) -> Json:
    """Looks that come from outside, the rest by default. Raises DocumentError."""
    if not isinstance(data, dict):
        raise DocumentError("The looks of the whole are not an object.", None, "looks")
    made = dict(SETTINGS)
    for name, value in data.items():
        if name in _SIZES:
            least, most = _SIZES[name]
            made[name] = max(least, min(most, _whole(value, None, name)))
        elif name in ("heading_font", "text_font"):
            if among(value, FONTS) is None:
                raise DocumentError(
                    Wording("“%(value)s” is not a font that mail apps have.", value=value),
                    None,
                    name,
                )
            made[name] = value
        elif name in SETTINGS:
            made[name] = _colour(value, None, name)
    return made


def take_lines(data: list[Any]) -> list[Json]:
    """Lines that come from outside, checked and cleaned. Raises DocumentError."""
    seen: set[str] = set()
    made = [_line(line, seen, 1, False) for line in data]
    if len(seen) > MOST_LINES:
        raise DocumentError(
            Wording("A message can have at most %(most_lines)s lines.", most_lines=MOST_LINES)
        )
    return made


def _one_of(data: Any) -> Json:
    """A message chosen by a field's value: {"field": ref, "values": {value: message}, "otherwise":
    message or 0}."""
    try:
        values = {str(k)[:200]: int(v) for k, v in data["values"].items()}
        field, otherwise = str(data["field"]), int(data.get("otherwise") or 0)
    except (KeyError, TypeError, ValueError, AttributeError, OverflowError):
        raise DocumentError("What chooses the message is not complete.", None, "one_of") from None
    if not re.fullmatch(r"(contact|company)\.[a-z]\w*", field) or len(values) > MOST_CASES:
        raise DocumentError(
            Wording(
                "Choose one field, and a message for each of at most %(most_cases)s values.",
                most_cases=MOST_CASES,
            ),
            None,
            "one_of",
        )
    return {"field": field, "values": values, "otherwise": otherwise}


def _whole(value: Any, line: str | None, slot: str) -> int:
    try:
        return int(value)
    except (TypeError, ValueError, OverflowError):
        raise DocumentError(
            Wording("“%(value)s” is not a whole number.", value=value), line, slot
        ) from None


def _colour(value: Any, line: str | None, slot: str) -> str:
    if not COLOUR.match(str(value)):
        raise DocumentError(
            Wording("“%(value)s” is not a colour like #2e5e45.", value=value), line, slot
        )
    return str(value)


def _ident(data: Any, seen: set[str]) -> str:
    ident = str(data.get("id", "")) if isinstance(data, dict) else ""
    if not re.fullmatch(r"[A-Za-z0-9]{1,12}", ident) or ident in seen:
        raise DocumentError("A line has no id of its own.")
    seen.add(ident)
    return ident


def _line(data: Any, seen: set[str], depth: int, in_columns: bool) -> Json:
    if not isinstance(data, dict):
        raise DocumentError("A line is not an object.")
    kind = among(data.get("type"), LINE_TYPES)
    if kind is None:
        raise DocumentError("A line has no type that exists.", str(data.get("id", ""))[:12] or None)
    if depth > _DEEPEST:
        raise DocumentError(
            Wording("Lines are nested more than %(deepest)s deep in each other.", deepest=_DEEPEST),
            str(data.get("id", ""))[:12] or None,
        )
    ident = _ident(data, seen)
    if kind == "columns" and in_columns:
        raise DocumentError(
            "Columns cannot be placed inside columns; phones could not stack them.", ident
        )
    line: Json = {"id": ident, "type": kind}
    for name, default in (LINE_TYPES[kind][1] | EVERY).items():
        line[name] = _slot(data.get(name, default), default, ident, name)

    def held(inner: Any, columns: bool) -> list[Json]:
        if not isinstance(inner, list):
            raise DocumentError("What stands inside this line is not a list of lines.", ident)
        return [_line(one, seen, depth + 1, columns) for one in inner]

    if kind == "columns":
        line["split"] = _split(line["split"], ident)
        columns = data.get("columns", [])
        if not isinstance(columns, list) or len(columns) != len(line["split"]):
            raise DocumentError("There must be as many columns as widths.", ident, "split")
        line["columns"] = [held(c, True) for c in columns]
    elif kind == "only":
        if not isinstance(data.get("cases", []), list) or len(data.get("cases", [])) > MOST_CASES:
            raise DocumentError(
                Wording("A line can have at most %(most_cases)s versions.", most_cases=MOST_CASES),
                ident,
            )
        line["cases"] = [
            _case(case, seen, lambda inner: held(inner, in_columns))
            for case in data.get("cases", [])
        ]
        line["otherwise"] = held(data.get("otherwise", []), in_columns)
    elif kind == "icons":
        line["icons"] = [_icon(icon, ident) for icon in listed(data.get("icons"))][:12]
    return line


def _slot(value: Any, default: Any, ident: str, name: str) -> Any:
    if name == "html":
        return clean_html(str(value))
    if name == "code":
        return clean_code(str(value))
    if name == "align":
        return among(value, ALIGN, default)
    if name in ("colour", "fill"):
        return _colour(value, ident, name) if value else ""
    if name == "width":
        return max(10, min(100, _whole(value, ident, name)))
    if name == "height":
        return max(4, min(200, _whole(value, ident, name)))
    if name == "most":
        return max(1, min(fillins.MOST_ITEMS, _whole(value, ident, name)))
    if name == "feed" and value != "" and not (isinstance(value, str) and _FEED.match(value)):
        raise DocumentError(
            Wording(
                "“%(text)s” is not the name of a feed, or of a list in it.", text=str(value)[:60]
            ),
            ident,
            name,
        )
    if isinstance(default, bool):
        return bool(value)
    if isinstance(default, int):
        # The number of something: a grouping, a shared part, a version of one.
        if (number := _whole(value, ident, name)) < 0:
            raise DocumentError(
                Wording("“%(value)s” is not the number of anything here.", value=value), ident, name
            )
        return number
    return one_line(value) if isinstance(default, str) else value


def _split(value: Any, ident: str) -> list[int]:
    """Widths of columns in percent, each at least 10, together 100."""
    if not isinstance(value, list) or not 1 <= len(value) <= 4:
        raise DocumentError("There can be one to four columns.", ident, "split")
    widths = [max(10, min(100, _whole(v, ident, "split"))) for v in value]
    total = sum(widths)
    made = [max(10, round(w * 100 / total)) for w in widths]
    # What rounding and the least width leave too much or too little of, the widest bears.
    made[made.index(max(made))] += 100 - sum(made)
    return made


def _case(data: Any, seen: set[str], held: Callable[[Any], list[Json]]) -> Json:
    if not isinstance(data, dict):
        raise DocumentError("A version is not an object.")
    ident = _ident(data, seen)
    lines = data.get("lines") or []
    if not isinstance(lines, list):
        raise DocumentError("The condition of a version is not a list of lines.", ident)
    return {
        "id": ident,
        "name": one_line(data.get("name", ""), 120),
        "lines": lines,
        "group": str(data.get("group") or "")[:80],
        "content": held(data.get("content", [])),
    }


#: Characters of what an icon is called.
MOST_NAME = 60


def _icon(data: Any, ident: str) -> Json:
    if not isinstance(data, dict) or among(data.get("icon"), ICONS) is None:
        raise DocumentError("There is no such icon.", ident, "icons")
    made = {"icon": data["icon"], "href": one_line(data.get("href", ""))}
    name = one_line(data.get("name", ""), MOST_NAME)
    return made | {"name": name} if name else made


def renewed(lines: list[Json]) -> list[Json]:
    """Copies of lines, with ids of their own at every depth."""
    made = []
    for line in lines:
        copy = line | {"id": fresh_id()}
        if line["type"] == "columns":
            copy["columns"] = [renewed(held) for held in line["columns"]]
        elif line["type"] == "only":
            copy["cases"] = [
                case | {"id": fresh_id(), "content": renewed(case["content"])}
                for case in line["cases"]
            ]
            copy["otherwise"] = renewed(line["otherwise"])
        made.append(copy)
    return made


def address_problem(href: str) -> str | None:
    """What is wrong with an address to link to, or None. A fill-in may stand anywhere in it."""
    bare = fillins.PART.sub("x", href).strip()
    if not bare:
        return Wording("has no link")
    if bare.startswith("mailto:") and not fillins.PART.search(href) and not _MAILTO.match(bare):
        return Wording("writes to “%(bare)s”, which is not a complete email address", bare=bare[7:])
    if bare.startswith(("mailto:", "tel:")) and len(bare) > 8:
        return None
    try:
        parts = urlsplit(bare)
    except ValueError:
        return Wording("leads to “%(href)s”, which is no address", href=href)
    if fillins.PART.match(href.strip()):
        return None
    if parts.scheme not in ("http", "https"):
        return Wording("leads to “%(href)s”, which does not begin with https://", href=href)
    if " " in bare:
        return Wording("leads to “%(href)s”, which has a space in it: write %%20 for it", href=href)
    if not parts.hostname or ("." not in parts.hostname and parts.hostname not in ("localhost",)):
        return Wording("leads to “%(href)s”, which is not a complete address", href=href)
    if (
        not _HOST.fullmatch(parts.hostname)
        or bare.lower().count("://") > 1
        and bare.lower().startswith(("http://http", "https://http"))
    ):
        return Wording("leads to “%(href)s”, whose name is misspelt", href=href)
    try:
        _ = parts.port
    except ValueError:
        return Wording("leads to “%(href)s”, whose port is not a number", href=href)
    return None
