"""A message's document: what is stored, checked when it comes in.

    {"subject", "preheader", "plain": text or null, "settings": {…}, "lines": [line, …]}

Every line has an `id` and a `type`; texts may hold fill-ins (see fillins.py), `html` only the tags in TAGS.
"""

import copy
import html
import re
import secrets
from collections.abc import Iterator
from typing import Any
from urllib.parse import urlsplit

import nh3

from meadowrun.core.content import fillins

Json = dict[str, Any]
TAGS = {"p", "br", "b", "strong", "i", "em", "a", "ul", "ol", "li"}
ALIGN = ("left", "center", "right")
COLOUR = re.compile(r"#[0-9a-fA-F]{6}\Z")
#: type → what it is called, and its settings with their defaults
LINE_TYPES: dict[str, tuple[str, Json]] = {
    "heading": ("Heading", {"text": "", "align": "left"}),
    "text": ("Text", {"html": "<p></p>", "align": "left"}),
    "picture": ("Picture", {"src": "", "alt": "", "link": "", "width": 100}),
    "button": ("Button", {"label": "", "href": "", "align": "center"}),
    "divider": ("Divider", {}),
    "space": ("Space", {"height": 24}),
    "footer": ("Footer", {"html": "<p></p>", "unsubscribe": True}),
}
SETTINGS: Json = {"width": 600, "ground": "#efeadd", "sheet": "#ffffff", "ink": "#1f2b25", "accent": "#2e5e45"}
MOST_LINES = 120
MOST_TEXT = 40_000


class DocumentError(ValueError):
    """Content that cannot be taken; `line` is the id of the line at fault and `slot` the setting of it."""

    def __init__(self, message: str, line: str | None = None, slot: str | None = None):
        super().__init__(message)
        self.line, self.slot = line, slot


def new_line(kind: str) -> Json:
    if kind not in LINE_TYPES:
        raise DocumentError(f"There is no line of the type “{kind}”.")
    return {"id": secrets.token_hex(4), "type": kind, **copy.deepcopy(LINE_TYPES[kind][1])}


def starting(organisation: str, postal_address: str) -> Json:
    """What a new message begins with: the lines nearly every mail has, empty where only the author can know."""
    lines = [new_line(k) for k in ("heading", "text", "button", "footer")]
    lines[1]["html"] = '<p>Dear {{ contact.first_name | default("friend", true) }},</p><p></p>'
    place = f"{organisation}, {postal_address}" if postal_address else organisation
    lines[3]["html"] = f"<p>{html.escape(place)}. You get this because you asked us to write.</p>"
    return {"subject": "", "preheader": "", "plain": None, "settings": dict(SETTINGS), "lines": lines}


def clean_html(text: str) -> str:
    """Rich text with only the tags we write, links with safe schemes, and fill-ins unharmed."""
    parts: list[str] = []

    def hide(match: re.Match[str]) -> str:
        parts.append(html.unescape(match.group()))
        return f"MRFILL{len(parts) - 1}X"

    hidden = fillins.PART.sub(hide, text)
    # A link's address may be a fill-in, which is no address to a cleaner: give it a scheme while it is hidden.
    hidden = re.sub(r'href="MRFILL(\d+)X', r'href="https://mrfill.invalid/MRFILL\1X', hidden)
    safe = nh3.clean(hidden, tags=TAGS, attributes={"a": {"href"}}, link_rel=None,
                     url_schemes={"http", "https", "mailto", "tel"})
    safe = safe.replace("https://mrfill.invalid/", "")
    return re.sub(r"MRFILL(\d+)X", lambda m: parts[int(m.group(1))] if int(m.group(1)) < len(parts) else "", safe)


def texts(document: Json) -> Iterator[tuple[str, str, str]]:
    """Every text a fill-in may stand in: (line id or "", slot, text)."""
    for slot in ("subject", "preheader"):
        yield "", slot, document[slot]
    if document.get("plain"):
        yield "", "plain", document["plain"]
    for line in document["lines"]:
        for slot in ("text", "html", "label", "href", "alt", "link"):
            if isinstance(line.get(slot), str):
                yield line["id"], slot, line[slot]


def take(data: Any) -> Json:
    """Checks and cleans a document that comes from outside.

    Returns a new one. Raises DocumentError naming the line and the setting.
    """
    if not isinstance(data, dict) or not isinstance(data.get("lines"), list):
        raise DocumentError("The message is not an object with a list of lines.")
    if len(data["lines"]) > MOST_LINES:
        raise DocumentError(f"A message can have at most {MOST_LINES} lines.")
    plain = data.get("plain")
    made: Json = {"subject": _one_line(data.get("subject", "")), "preheader": _one_line(data.get("preheader", "")),
                  "plain": str(plain) if plain else None, "settings": dict(SETTINGS), "lines": []}
    for name, value in (data.get("settings") or {}).items():
        if name == "width":
            made["settings"]["width"] = max(320, min(800, _whole(value, None, "width")))
        elif name in SETTINGS:
            if not COLOUR.match(str(value)):
                raise DocumentError(f"“{value}” is not a colour like #2e5e45.", None, name)
            made["settings"][name] = str(value)
    seen: set[str] = set()
    for line in data["lines"]:
        made["lines"].append(_line(line, seen))
    for ident, slot, text in texts(made):
        if len(text) > MOST_TEXT:
            raise DocumentError(f"This text is longer than {MOST_TEXT:,} characters.", ident or None, slot)
        try:
            fillins.split(text)
        except fillins.FillInError as problem:
            raise DocumentError(str(problem), ident or None, slot) from None
    return made


def _one_line(text: Any) -> str:
    return " ".join(str(text).split())


def _whole(value: Any, line: str | None, slot: str) -> int:
    try:
        return int(value)
    except (TypeError, ValueError):
        raise DocumentError(f"“{value}” is not a whole number.", line, slot) from None


def _line(data: Any, seen: set[str]) -> Json:
    if not isinstance(data, dict):
        raise DocumentError("A line is not an object.")
    if data.get("type") not in LINE_TYPES:
        raise DocumentError("A line has no type that exists.", str(data.get("id", ""))[:12] or None)
    ident = str(data.get("id", ""))
    if not re.fullmatch(r"[A-Za-z0-9]{1,12}", ident) or ident in seen:
        raise DocumentError("A line has no id of its own.")
    seen.add(ident)
    line: Json = {"id": ident, "type": data["type"]}
    for name, default in LINE_TYPES[data["type"]][1].items():
        value = data.get(name, default)
        if name == "html":
            line[name] = clean_html(str(value))
        elif name == "align":
            line[name] = value if value in ALIGN else default
        elif name == "width":
            line[name] = max(10, min(100, _whole(value, ident, name)))
        elif name == "height":
            line[name] = max(4, min(200, _whole(value, ident, name)))
        elif isinstance(default, bool):
            line[name] = bool(value)
        else:
            line[name] = _one_line(value)
    return line


def address_problem(href: str) -> str | None:
    """What is wrong with an address to link to, or None. A fill-in may stand anywhere in it."""
    bare = fillins.PART.sub("x", href).strip()
    if not bare:
        return "has no address"
    if bare.startswith(("mailto:", "tel:")) and len(bare) > 8:
        return None
    try:
        parts = urlsplit(bare)
    except ValueError:
        return f"leads to “{href}”, which is no address"
    if fillins.PART.match(href.strip()):
        return None
    if parts.scheme not in ("http", "https"):
        return f"leads to “{href}”, which does not begin with https://"
    if not parts.hostname or " " in bare or ("." not in parts.hostname and parts.hostname not in ("localhost",)):
        return f"leads to “{href}”, which is no complete address"
    return None


def differences(old: Json, new: Json) -> list[str]:
    """What changed from one draft to the next, in words."""
    said = [f"{slot} changed" for slot in ("subject", "preheader") if old[slot] != new[slot]]
    if old.get("plain") != new.get("plain"):
        said.append("plain text edited" if new.get("plain") else "plain text follows the lines again")
    if old["settings"] != new["settings"]:
        said.append("looks changed")
    before = {line["id"]: line for line in old["lines"]}
    after = {line["id"]: line for line in new["lines"]}
    for number, line in enumerate(new["lines"], 1):
        name = LINE_TYPES[line["type"]][0].lower()
        if line["id"] not in before:
            said.append(f"{name} added as line {number}")
        elif line != before[line["id"]]:
            said.append(f"{name} in line {number} changed")
    for number, line in enumerate(old["lines"], 1):
        if line["id"] not in after:
            said.append(f"{LINE_TYPES[line['type']][0].lower()} of line {number} removed")
    if [i for i in before if i in after] != [i for i in after if i in before]:
        said.append("lines moved")
    return said
