"""How mail readers treat a mail: the page as each shows it, by taking away what it does not
support.

What each supports is from an open data set (data/readers.json, distilled by assets/readers.py).
"""

import functools
import json
import pathlib
import re
from collections.abc import Iterator, Mapping
from typing import Any

from meadowrun.core.language import Wording

_DATA = pathlib.Path(__file__).parent / "data" / "readers.json"
_STYLE = re.compile(r'style="([^"]*)"')
_SHEET = re.compile(r"(<style[^<>]*+>)(.*?)(</style>|\Z)", re.DOTALL | re.IGNORECASE)
_OUTLOOK = re.compile(r"<!--\[if [^\]]*mso[^\]]*\]>(.*?)<!\[endif\]-->", re.DOTALL)
_NOT_OUTLOOK = re.compile(r"<!--\[if !mso[^\]]*\]><!-->(.*?)<!--<!\[endif\]-->", re.DOTALL)
#: Looks that are no mail reader.
_ASKS_DARK = "@media (prefers-color-scheme: dark)"
LOOKS = {
    "desktop": "desktop",
    "phone": "phone",
    "dark": "dark",
    "no-pictures": Wording("pictures off"),
    "plain": "plain",
}
_SIDE_BY_SIDE = Wording("columns stay side by side on phones")
#: What is worth telling an author when it is lost, in words; the rest is how a mail is built and
#: has its own stand-ins.
_TELLING = {
    "border-radius": Wording("rounded corners become square"),
    "background-image": Wording("background pictures are missing"),
    "box-shadow": Wording("shadows are missing"),
    "max-width": Wording("widths are not limited"),
    "float": Wording("floating parts are in a row"),
    "text-transform": Wording("changed capitals are as typed"),
    "letter-spacing": Wording("spaced letters are close together"),
    "position": Wording("placed parts stay where they are written"),
}


@functools.cache
def data() -> dict[str, Any]:
    """{"as_of": date, "readers": {key: {"name", "lost": {kind: [feature, …]}}}}"""
    found: dict[str, Any] = json.loads(_DATA.read_text(encoding="utf-8"))
    return found


def readers() -> dict[str, str]:
    """Every mail reader known, key → name."""
    return {key: reader["name"] for key, reader in data()["readers"].items()}


def shown(page: str, look: str) -> str:
    """The page in a look of LOOKS, or as a mail reader of `readers` treats it. Raises KeyError for
    neither."""
    if look in ("desktop", "phone", "plain"):
        return page
    if look == "dark" and _ASKS_DARK in page:
        # What the message itself says for the dark, as mail apps show it that ask.
        return page.replace(_ASKS_DARK, "@media all")
    if look == "dark":
        # Readers that turn mails dark by themselves turn light and dark around and leave hues and
        # pictures as they are.
        return page.replace(
            "</head>",
            "<style>html{background:#fff;filter:invert(1) hue-rotate(180deg)}"
            "img{filter:invert(1) hue-rotate(180deg)}</style></head>",
            1,
        )
    if look == "no-pictures":
        return re.sub(r"<img\b[^>]*>", _without_picture, page)
    return _treated(page, data()["readers"][look]["lost"], look == "outlook.windows")


def _without_picture(match: re.Match[str]) -> str:
    """A picture that was not loaded: its alternative text in a box, nothing for one of a pixel."""
    tag = match.group()
    if re.search(r'\b(width|height)="1"', tag):
        return ""
    alt = re.search(r'alt="([^"]*)"', tag)
    width = re.search(r'width="(\d+)"', tag)
    return (
        '<span style="display:inline-block;border:1px solid '
        "#bbb;color:#555;padding:6px;font:13px sans-serif;"
        f'max-width:100%;box-sizing:border-box;width:{width.group(1) if width else 120}px">'
        f"{alt.group(1) if alt else ''}</span>"
    )


def _treated(page: str, lost: Mapping[str, list[str]], outlook: bool) -> str:
    properties, values = frozenset(lost.get("css", ())), frozenset(lost.get("value", ()))
    if outlook:
        # It reads what stands in its own comments and nothing of what is meant for others.
        page = _OUTLOOK.sub(lambda m: m.group(1), _NOT_OUTLOOK.sub("", page))
    if "style" in lost.get("tag", ()):
        page = _SHEET.sub("", page)
    page = _SHEET.sub(
        lambda m: m.group(1) + _sheet(m.group(2), lost, properties, values) + m.group(3), page
    )
    page = _STYLE.sub(lambda m: f'style="{_declarations(m.group(1), properties, values)}"', page)
    for tag in set(lost.get("tag", ())) - {"style", "body", "html", "head"}:
        page = re.sub(rf"</?{tag}\b[^>]*>", "", page, flags=re.IGNORECASE)
    return page


def _kept(text: str) -> Iterator[tuple[str, str]]:
    for declaration in re.split(r";(?![^(]*\))", text):
        name, colon, value = declaration.partition(":")
        if colon:
            yield name.strip().lower(), value.strip()


def _declarations(text: str, properties: frozenset[str], values: frozenset[str]) -> str:
    return ";".join(
        f"{name}:{value}"
        for name, value in _kept(text)
        if name not in properties
        and f"{name}:{value.split()[0].lower() if value else ''}" not in values
    )


def _sheet(
    text: str, lost: Mapping[str, list[str]], properties: frozenset[str], values: frozenset[str]
) -> str:
    """A style sheet without the rules, blocks and declarations that a reader does not know."""
    made, place = [], 0
    while (open_at := text.find("{", place)) >= 0:
        head, depth, end = text[place:open_at].strip(), 1, open_at + 1
        while end < len(text) and depth:
            depth += {"{": 1, "}": -1}.get(text[end], 0)
            end += 1
        body = text[open_at + 1 : end - 1]
        at = re.match(r"@([a-z-]+)", head)
        if at:
            if at.group(1) not in lost.get("at", ()):
                made.append(
                    f"{head}{{{_sheet(body, lost, properties, values) if '{' in body else body}}}"
                )
        elif not any(pseudo in head for pseudo in lost.get("pseudo", ())):
            made.append(f"{head}{{{_declarations(body, properties, values)}}}")
        place = end
    return "".join(made)


def losses(page: str) -> dict[str, list[str]]:
    """What readers take from a page that its author would miss: in words → the names of the
    readers."""
    used = {
        name
        for text in (*_STYLE.findall(page), *re.findall(r"\{([^{}]*)\}", page))
        for name, value in _kept(text)
        if not (name == "border-radius" and value.strip("px ") in ("0", ""))
    }
    found: dict[str, list[str]] = {}
    for reader in data()["readers"].values():
        for name in used & set(reader["lost"].get("css", ())) & _TELLING.keys():
            found.setdefault(_TELLING[name], []).append(reader["name"])
        if "@media" in page and "media" in reader["lost"].get("at", ()):
            found.setdefault(_SIDE_BY_SIDE, []).append(reader["name"])
    return dict(sorted(found.items(), key=lambda item: -len(item[1])))
