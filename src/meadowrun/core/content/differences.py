"""What changed from one draft to the next, in words."""

import re
from typing import Any

from meadowrun.core.content import fillins
from meadowrun.core.content.lines import LINE_TYPES, Json, places, walk

#: slot → how a change of it is said
_SLOTS = {
    "text": "words",
    "html": "words",
    "label": "words",
    "href": "address",
    "link": "link",
    "src": "picture",
    "alt": "alternative text",
    "align": "place",
    "colour": "colour",
    "fill": "colour",
    "width": "width",
    "height": "height",
    "split": "widths",
    "reverse": "order on phones",
    "unsubscribe": "unsubscribe link",
    "icons": "icons",
    "by": "name under it",
    "code": "code",
    "feed": "feed",
    "most": "number of items",
    "version": "version",
    "part": "shared part",
    "grouping": "grouping",
    "off": "switch",
}
#: a particular of a push notification or an in-app message → how a change of it is said
_PARTICULARS = {
    "picture": "picture",
    "icon": "icon",
    "href": "address",
    "tap": "what a tap does",
    "page": "page it opens",
    "buttons": "buttons",
    "ttl": "life span",
    "close_after": "closing by itself",
    "data": "custom data",
    "inbox": "inbox",
    "systems": "systems",
    "shape": "shape",
    "event": "what it comes at",
    "from": "first day",
    "until": "last day",
    "times": "how often it comes",
    "gap_days": "days between",
    "unless": "what makes it stay away",
}


def differences(old: Json, new: Json) -> list[str]:
    """Each change in words, those of the whole first: “button of line 3 says “Book now””."""
    said = [
        f"{slot} says “{_short(new[slot])}”"
        for slot in ("subject", "preheader")
        if old[slot] != new[slot]
    ]
    if old.get("plain") != new.get("plain"):
        said.append(
            "plain text edited" if new.get("plain") else "plain text follows the lines again"
        )
    if old.get("code") != new.get("code"):
        said.append(
            "code changed"
            if old.get("code") and new.get("code")
            else "turned into code"
            if new.get("code")
            else "lines instead of code"
        )
    if bool(old.get("text_only")) != bool(new.get("text_only")):
        said.append("text only" if new.get("text_only") else "designed again")
    for kind in ("push", "in_app"):
        before, after = old.get(kind) or {}, new.get(kind) or {}
        changed = [
            name for slot, name in _PARTICULARS.items() if before.get(slot) != after.get(slot)
        ]
        if before and after and changed:
            said.append(f"{', '.join(changed)} changed")
    looks = [
        name.replace("_", " ")
        for name in new["settings"]
        if old["settings"].get(name) != new["settings"][name]
    ]
    if looks:
        said.append(f"design changed: {', '.join(looks)}")
    before, after = (
        {line["id"]: line for line in walk(lines)} for lines in (old["lines"], new["lines"])
    )
    where_before, where = places(old["lines"]), places(new["lines"])
    for ident, line in after.items():
        name = LINE_TYPES[line["type"]][0].lower()
        if ident not in before:
            said.append(f"{name} added as line {where[ident]}")
        else:
            said += _of_line(before[ident], line, f"{name} of line {where[ident]}")
    for ident, line in before.items():
        if ident not in after:
            said.append(
                f"{LINE_TYPES[line['type']][0].lower()} of line {where_before[ident]} removed"
            )
    if [i for i in before if i in after] != [i for i in after if i in before]:
        said.append("lines moved")
    return said


def _of_line(old: Json, new: Json, name: str) -> list[str]:
    said = []
    for slot, value in new.items():
        if old.get(slot) == value or slot in ("id", "type", "columns", "otherwise"):
            continue
        if slot == "off":
            said.append(f"{name} switched {'off' if value else 'on'}")
        elif slot in ("text", "label", "html"):
            same = _short(old.get(slot, "")) == _short(value)
            asks = _asks(old.get(slot, "")) != _asks(value)
            said.append(
                f"who reads some words of {name} changed"
                if same and asks
                else f"{name} says “{_short(value)}”"
            )
        elif slot == "cases":
            said += _of_cases(old.get("cases", []), value, name)
        else:
            said.append(f"{_SLOTS.get(slot, slot)} of {name} changed")
    return list(dict.fromkeys(said))


def _asks(text: str) -> list[str]:
    """What the words of a text ask."""
    return [
        part.test.source
        for part in fillins.split(text)
        if isinstance(part, fillins.Tag) and part.test
    ]


def _of_cases(old: list[Json], new: list[Json], name: str) -> list[str]:
    before, after = {c["id"]: c for c in old}, {c["id"]: c for c in new}
    said = [f"version “{c['name']}” added to {name}" for i, c in after.items() if i not in before]
    said += [
        f"version “{c['name']}” taken from {name}" for i, c in before.items() if i not in after
    ]
    said += [
        f"who reads “{c['name']}” in {name} changed"
        for i, c in after.items()
        if i in before and (before[i]["lines"], before[i]["group"]) != (c["lines"], c["group"])
    ]
    if [i for i in before if i in after] != [i for i in after if i in before]:
        said.append(f"order of the versions in {name} changed")
    return said


def _short(value: Any) -> str:
    """Words without markup, fill-ins as their names, at most 50 characters."""
    text = " ".join(re.sub(r"<[^>]*>", " ", fillins.named(str(value))).split())
    return text if len(text) <= 50 else text[:49] + "…"
