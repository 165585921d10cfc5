"""What changed from one draft to the next, in words."""

import re
from collections.abc import Iterator
from typing import Any

from meadowrun.core.content import fillins
from meadowrun.core.content.document import DESIGN
from meadowrun.core.content.lines import LINE_TYPES, Json, places, walk
from meadowrun.core.language import Wording

#: slot → how a change of it is said
_SLOTS = {
    "text": "words",
    "html": "words",
    "label": "words",
    "href": "link",
    "link": "link",
    "src": "image",
    "alt": Wording("alternative text"),
    "align": "alignment",
    "colour": "colour",
    "fill": "colour",
    "width": "width",
    "height": "height",
    "split": Wording("column widths"),
    "reverse": Wording("order on phones"),
    "unsubscribe": Wording("unsubscribe link"),
    "icons": "icons",
    "by": Wording("who said it"),
    "code": "code",
    "feed": "feed",
    "most": Wording("number of items"),
    "version": "version",
    "part": Wording("shared part"),
    "grouping": "grouping",
    "off": "switch",
}
#: a particular of a push notification or an in-app message → how a change of it is said
_PARTICULARS = {
    "picture": "picture",
    "icon": "icon",
    "href": "link",
    "tap": Wording("what a tap does"),
    "page": Wording("page it opens"),
    "buttons": "buttons",
    "ttl": Wording("life span"),
    "close_after": Wording("closing by itself"),
    "data": Wording("custom data"),
    "inbox": "inbox",
    "systems": "systems",
    "shape": "shape",
    "event": Wording("when it is shown"),
    "from": Wording("first day"),
    "until": Wording("last day"),
    "times": Wording("how often it is shown"),
    "gap_days": Wording("days between"),
    "unless": Wording("what ends it"),
}


def differences(old: Json, new: Json) -> list[str]:
    """Each change in words, those of the whole first: “button of line 3 says “Book now””."""
    return [*_of_the_whole(old, new), *_of_lines(old["lines"], new["lines"])]


def _of_the_whole(old: Json, new: Json) -> Iterator[str]:
    """What changed of a message apart from its lines."""
    for slot in ("subject", "preheader"):
        if old[slot] != new[slot]:
            yield Wording("%(slot)s says “%(short)s”", slot=slot, short=_short(new[slot]))
    if old.get("plain") != new.get("plain"):
        edited = Wording("plain text edited")
        yield edited if new.get("plain") else Wording("plain text follows the lines again")
    if old.get("code") != new.get("code"):
        if old.get("code") and new.get("code"):
            yield Wording("code changed")
        else:
            turned = Wording("turned into code")
            yield turned if new.get("code") else Wording("lines instead of code")
    if bool(old.get("text_only")) != bool(new.get("text_only")):
        yield Wording("text only") if new.get("text_only") else Wording("designed again")
    for kind in ("push", "in_app"):
        before, after = old.get(kind) or {}, new.get(kind) or {}
        changed = [
            name for slot, name in _PARTICULARS.items() if before.get(slot) != after.get(slot)
        ]
        if before and after and changed:
            yield Wording("%(changed)s changed", changed=", ".join(changed))
    design = [
        name
        for setting, name in DESIGN.items()
        if old["settings"].get(setting) != new["settings"].get(setting)
    ]
    if design:
        yield Wording("design changed: %(design)s", design=", ".join(design))


def _of_lines(old: list[Json], new: list[Json]) -> Iterator[str]:
    """What changed of the lines: added, changed, removed, moved."""
    before, after = ({line["id"]: line for line in walk(lines)} for lines in (old, new))
    where_before, where = places(old), places(new)
    for ident, line in after.items():
        name = LINE_TYPES[line["type"]][0].lower()
        if ident in before:
            called = Wording("%(name)s of line %(where)s", name=name, where=where[ident])
            yield from _of_line(before[ident], line, called)
        else:
            yield Wording("%(name)s added as line %(where)s", name=name, where=where[ident])
    for ident, line in before.items():
        if ident not in after:
            name = LINE_TYPES[line["type"]][0].lower()
            gone = where_before[ident]
            yield Wording("%(name)s of line %(where)s removed", name=name, where=gone)
    if [i for i in before if i in after] != [i for i in after if i in before]:
        yield Wording("lines moved")


def _of_line(old: Json, new: Json, name: str) -> list[str]:
    said: list[str] = []
    for slot, value in new.items():
        if old.get(slot) == value or slot in ("id", "type", "columns", "otherwise"):
            continue
        if slot == "off":
            said.append(
                Wording("%(name)s switched %(value)s", name=name, value="off" if value else "on")
            )
        elif slot in ("text", "label", "html"):
            same = _short(old.get(slot, "")) == _short(value)
            asks = _asks(old.get(slot, "")) != _asks(value)
            said.append(
                Wording("who reads some words of %(name)s changed", name=name)
                if same and asks
                else Wording("%(name)s says “%(short)s”", name=name, short=_short(value))
            )
        elif slot == "cases":
            said += _of_cases(old.get("cases", []), value, name)
        else:
            said.append(Wording("%(slot)s of %(name)s changed", slot=_SLOTS[slot], name=name))
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
    said: list[str] = [
        Wording("version “%(name)s” added to %(name_2)s", name=c["name"], name_2=name)
        for i, c in after.items()
        if i not in before
    ]
    said += [
        Wording("version “%(name)s” removed from %(name_2)s", name=c["name"], name_2=name)
        for i, c in before.items()
        if i not in after
    ]
    said += [
        Wording("who reads “%(name)s” in %(name_2)s changed", name=c["name"], name_2=name)
        for i, c in after.items()
        if i in before and (before[i]["lines"], before[i]["group"]) != (c["lines"], c["group"])
    ]
    if [i for i in before if i in after] != [i for i in after if i in before]:
        said.append(Wording("order of the versions in %(name)s changed", name=name))
    return said


def _short(value: Any) -> str:
    """Words without markup, fill-ins as their names, at most 50 characters."""
    text = " ".join(re.sub(r"<[^>]*>", " ", fillins.named(str(value))).split())
    return text if len(text) <= 50 else text[:49] + "…"
