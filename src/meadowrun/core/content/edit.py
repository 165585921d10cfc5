"""Edits of a message's document, one small verb at a time; each returns a new document and never
changes the old.

A change is {"do": verb, …}. Lines are named by their ids, variants of an “only if” line by
theirs, lists of lines by their addresses (tree.py).
"""

import copy
import html
import re
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from meadowrun.core.content import in_app, push, sms
from meadowrun.core.content.document import DocumentError, renewed
from meadowrun.core.content.lines import LINE_TYPES, Json, fresh_id, new_line
from meadowrun.core.content.tree import case_at, find, place_for
from meadowrun.core.language import Wording

Change = Mapping[str, Any]
#: What a document holds besides its lines that is set by a path: “buttons.0.label”.
HOLDERS = ("settings", "in_app", "push")
#: Slots of the whole after which its own plain text may no longer say what it says.
_BESIDE_PLAIN = ("plain", "code")
_WHOLE = ("subject", "preheader", "plain", "code")
#: what holds buttons → its rules of them
_BUTTONS = {"in_app": in_app, "push": push}


class Around:
    """What an edit asks of the world outside the document. A caller gives what it has."""

    def groups(self, grouping: int) -> Sequence[tuple[str, str]]:
        """The groups of a grouping in order, as (key, name)."""
        return ()

    def shared(self, part: int, version: int) -> Sequence[Json]:
        """The lines of one version of a shared part. Raises DocumentError when there is none."""
        raise DocumentError("There is no such shared part.")

    def keep(self, name: str, line: Json) -> tuple[int, int]:
        """Saves a line as a shared part under a name: its number and version."""
        raise DocumentError("Nothing can be saved as a shared part here.")

    def pages(self) -> Sequence[Json]:
        """The organisation's pages elsewhere, as icons that lead to them."""
        return ()

    def plain(self, document: Json) -> str:
        """The plain text that is generated from the lines now."""
        return ""


def apply(document: Json, change: Change, around: Around) -> tuple[Json, str | None]:
    """Applies one change. Returns the new document, which may still hold values that `take`
    refuses, and the id of the line it made or touched, None where that is gone. Raises
    DocumentError naming the line."""
    verb = change.get("do")
    if not isinstance(verb, str) or verb not in VERBS:
        raise DocumentError(
            Wording("“%(verb)s” is not a change that can be made to a message.", verb=verb)
        )
    document = copy.deepcopy(document)
    return document, VERBS[verb](document, change, around)


def _line(document: Json, change: Change, kind: str = "") -> Json:
    held, index = find(document, change.get("line"))
    if kind and held[index]["type"] != kind:
        raise DocumentError(
            Wording("That line is no “%(line_types)s”.", line_types=LINE_TYPES[kind][0]),
            held[index]["id"],
        )
    return held[index]


def _number(value: Any) -> int:
    try:
        return int(value)
    except (TypeError, ValueError, OverflowError):
        raise DocumentError(Wording("“%(value)s” is not a whole number.", value=value)) from None


# What is typed


def _set(document: Json, change: Change, around: Around) -> str | None:
    line, slot, value = change.get("line"), str(change.get("slot")), change.get("value")
    if line in HOLDERS and isinstance(document.get(line), dict):
        _set_path(document[line], slot, value)
        return None
    if not line:
        if slot not in _WHOLE:
            raise DocumentError(Wording("A message has no “%(slot)s”.", slot=slot), None, slot)
        if slot in _BESIDE_PLAIN:
            document.pop("plain_of", None)
        document[slot] = value
        return None
    found = _line_or_case(document, line)
    _set_path(found, slot, value)
    return str(found["id"])


def _line_or_case(document: Json, ident: Any) -> Json:
    try:
        held, index = find(document, ident)
        return held[index]
    except DocumentError:
        line, index = case_at(document, ident)
        case: Json = line["cases"][index]
        return case


def _set_path(holder: Any, path: str, value: Any) -> None:
    """Sets what a path leads to: “width”, “buttons.0.label”, or “systems.web”, which puts a word
    into a list or takes it out."""
    *way, last = path.split(".")
    try:
        for step in way:
            holder = holder[int(step)] if isinstance(holder, list) else holder[step]
        if not isinstance(holder, list):
            if last in ("id", "type") or last not in holder:
                raise KeyError(last)
            holder[last] = value
        elif last.isdigit():
            holder[int(last)] = value
        elif value and last not in holder:
            holder.append(last)
        elif not value and last in holder:
            holder.remove(last)
    except (KeyError, IndexError, ValueError, TypeError):
        raise DocumentError(
            Wording("There is no “%(path)s” here any more.", path=path), None, path
        ) from None


def _suggested(document: Json, change: Change, around: Around) -> str | None:
    """Takes a suggestion: behind what a text says, or in place of a heading or subject."""
    slot, text = str(change.get("slot")), str(change.get("text", ""))
    holder = _line(document, change) if change.get("line") else document
    if slot == "html" and "html" in holder:
        before = re.sub(r"<p>\s*</p>\Z", "", holder["html"])
        holder["html"] = f"{before}<p>{html.escape(text, quote=False)}</p>"
    elif slot == "plain":
        before = str(document.get("plain") or "").rstrip()
        document["plain"] = f"{before} {text}".strip()
        document.pop("plain_of", None)
    elif slot in ("subject", "preheader", "text", "label") and slot in holder:
        holder[slot] = text
    else:
        raise DocumentError("There are no suggestions for this place.", None, slot)
    return str(change["line"]) if change.get("line") else None


# Lines


def _add(document: Json, change: Change, around: Around) -> str:
    """A new line at the end of a list, before a footer there."""
    kind, address = change.get("type"), str(change.get("into") or "")
    if not isinstance(kind, str) or kind not in LINE_TYPES:
        raise DocumentError(Wording("There is no line of the type “%(kind)s”.", kind=kind))
    line = new_line(kind)
    if kind == "only":
        line["cases"].append(_new_case())
    if kind == "icons":
        line["icons"] = [dict(page) for page in around.pages()]
    held = place_for(document, line, address)
    footer = next((n for n, one in enumerate(held) if one["type"] == "footer"), len(held))
    held.insert(len(held) if kind == "footer" else footer, line)
    return str(line["id"])


def _new_case() -> Json:
    return {"id": fresh_id(), "name": "", "lines": [], "group": "", "content": []}


def _add_picture(document: Json, change: Change, around: Around) -> str:
    """A picture behind a line, or before all others."""
    line = new_line("picture", src=str(change.get("src", "")))
    if change.get("after"):
        held, index = find(document, change["after"])
        held.insert(index + 1, line)
    else:
        document["lines"].insert(0, line)
    return str(line["id"])


def _remove(document: Json, change: Change, around: Around) -> None:
    held, index = find(document, change.get("line"))
    del held[index]


def _copy(document: Json, change: Change, around: Around) -> str:
    held, index = find(document, change.get("line"))
    twin = renewed([held[index]])[0]
    held.insert(index + 1, copy.deepcopy(twin))
    return str(twin["id"])


def _switch(document: Json, change: Change, around: Around) -> str:
    line = _line(document, change)
    line["off"] = not line["off"]
    return str(line["id"])


def _move(by: int) -> "Verb":
    def move(document: Json, change: Change, around: Around) -> str:
        held, index = find(document, change.get("line"))
        line = held[index]
        if 0 <= index + by < len(held):
            held[index], held[index + by] = held[index + by], line
        return str(line["id"])

    return move


def _put(document: Json, change: Change, around: Around) -> str:
    """Puts a line into a list, at a place counted without the line itself."""
    held, index = find(document, change.get("line"))
    line, address = held[index], str(change.get("into") or "")
    target = place_for(document, line, address)
    del held[index]
    target.insert(max(0, _number(change.get("index"))), line)
    return str(line["id"])


# Columns, shared parts, icons


def _split(document: Json, change: Change, around: Around) -> str:
    """One to four columns of widths in percent, typed as “33 67”. What was in columns that are
    gone moves into the last one left."""
    line = _line(document, change, "columns")
    typed = re.split(r"[^0-9.]+", str(change.get("value", "")))
    widths = [round(float(n)) for n in typed if re.fullmatch(r"\d{1,4}(\.\d*)?", n) and float(n)]
    if not widths:
        raise DocumentError("Type one to four widths, such as 33 67.", line["id"], "split")
    widths, columns = widths[:4], line["columns"]
    columns += [[] for _ in range(len(widths) - len(columns))]
    gone = columns[len(widths) :]
    del columns[len(widths) :]
    for held in gone:
        columns[-1] += held
    line["split"] = widths
    return str(line["id"])


def _part(document: Json, change: Change, around: Around) -> str:
    """Which shared part stands here, and which version of it: “3:2”."""
    line = _line(document, change, "shared")
    part, _, version = str(change.get("value", "")).partition(":")
    line["part"], line["version"] = _number(part), _number(version)
    return str(line["id"])


def _unpack(document: Json, change: Change, around: Around) -> str | None:
    """A shared part as lines of the message's own."""
    line = _line(document, change, "shared")
    held, index = find(document, line["id"])
    own = renewed(list(around.shared(line["part"], line["version"])))
    held[index : index + 1] = copy.deepcopy(own)
    return str(own[0]["id"]) if own else None


def _keep(document: Json, change: Change, around: Around) -> str:
    """Saves a line as a shared part, which then stands in its place."""
    held, index = find(document, change.get("line"))
    part, version = around.keep(str(change.get("name", "")), held[index])
    held[index] = new_line("shared", part=part, version=version)
    return str(held[index]["id"])


def _add_icon(document: Json, change: Change, around: Around) -> str:
    line = _line(document, change, "icons")
    line["icons"].append({"icon": "web", "href": ""})
    return str(line["id"])


def _remove_icon(document: Json, change: Change, around: Around) -> str:
    line = _line(document, change, "icons")
    _drop(line["icons"], change)
    return str(line["id"])


def _drop(held: list[Any], change: Change) -> None:
    at = _number(change.get("at"))
    if not 0 <= at < len(held):
        raise DocumentError("That is no longer there.")
    del held[at]


# Who sees what


def _add_variant(document: Json, change: Change, around: Around) -> str:
    line = _line(document, change, "only")
    line["cases"].append(_new_case())
    return str(line["cases"][-1]["id"])


def _remove_variant(document: Json, change: Change, around: Around) -> str:
    line, index = case_at(document, change.get("line"))
    del line["cases"][index]
    return str(line["id"])


def _raise_variant(document: Json, change: Change, around: Around) -> str:
    """Moves a variant before the one above it: the first that fits is what somebody sees."""
    line, index = case_at(document, change.get("line"))
    if index:
        line["cases"].insert(index - 1, line["cases"].pop(index))
    return str(change["line"])


def _ask(document: Json, change: Change, around: Around) -> str:
    """Who sees a variant: lines as in a segment, and what the variant is called."""
    line, index = case_at(document, change.get("line"))
    line["cases"][index] |= {"lines": change.get("lines"), "name": str(change.get("name") or "")}
    return str(change["line"])


def _grouping(document: Json, change: Change, around: Around) -> str:
    """Who sees what goes by the groups of a grouping, each with what the variant at its place
    showed; by sentences again for 0."""
    line = _line(document, change, "only")
    number = _number(change.get("value"))
    before = line["cases"]
    line["grouping"] = number
    if not number:
        for case in before:
            case["group"] = ""
        return str(line["id"])
    groups = around.groups(number)
    line["cases"] = [
        _new_case() | {"name": name, "group": key, "content": before[n]["content"]}
        if n < len(before)
        else _new_case() | {"name": name, "group": key}
        for n, (key, name) in enumerate(groups)
    ]
    # What more variants showed than there are groups is not lost.
    for case in before[len(groups) :]:
        line["otherwise"] += case["content"]
    return str(line["id"])


# The plain text, buttons and custom data


def _own_plain(document: Json, change: Change, around: Around) -> None:
    document["plain"] = around.plain(document)
    document.pop("plain_of", None)


def _made_plain(document: Json, change: Change, around: Around) -> None:
    document["plain"] = None


def _same_plain(document: Json, change: Change, around: Around) -> None:
    """The author's own plain text still says what the lines say."""
    document.pop("plain_of", None)


def _plainer(document: Json, change: Change, around: Around) -> None:
    document["plain"] = sms.plainer(str(document.get("plain") or ""))


def _holder(document: Json, change: Change) -> tuple[str, Json]:
    name = str(change.get("of"))
    if name not in _BUTTONS or name not in document:
        raise DocumentError("This message has no buttons of that kind.")
    return name, document[name]


def _add_button(document: Json, change: Change, around: Around) -> None:
    name, holder = _holder(document, change)
    rules = _BUTTONS[name]
    most = rules.MOST_BUTTONS
    if len(holder["buttons"]) >= most:
        raise DocumentError(
            Wording("There can be at most %(most)s buttons.", most=most), name, "buttons"
        )
    holder["buttons"].append(rules.next_button(holder["buttons"]))


def _remove_button(document: Json, change: Change, around: Around) -> None:
    _drop(_holder(document, change)[1]["buttons"], change)


def _add_pair(document: Json, change: Change, around: Around) -> None:
    _, holder = _holder(document, {"of": "push"})
    if len(holder["data"]) >= push.MOST_DATA:
        raise DocumentError(
            Wording("There can be at most %(most_data)s keys.", most_data=push.MOST_DATA),
            "push",
            "data",
        )
    holder["data"].append(["", ""])


def _remove_pair(document: Json, change: Change, around: Around) -> None:
    _drop(_holder(document, {"of": "push"})[1]["data"], change)


#: Changes the document in place; returns the id of the line it made or touched.
Verb = Callable[[Json, Change, Around], str | None]
#: What can be done to a document, each with what it takes of {"do": verb, …}.
VERBS: dict[str, Verb] = {
    "set": _set,  # line (an id, "", or one of HOLDERS), slot, value
    "suggested": _suggested,  # line, slot, text
    "add": _add,  # type, into
    "add_picture": _add_picture,  # src, after
    "remove": _remove,  # line
    "copy": _copy,  # line
    "off": _switch,  # line: off, or on again
    "up": _move(-1),  # line
    "down": _move(1),  # line
    "put": _put,  # line, into, index
    "split": _split,  # line, value
    "part": _part,  # line, value
    "unpack": _unpack,  # line
    "keep": _keep,  # line, name
    "add_icon": _add_icon,  # line
    "remove_icon": _remove_icon,  # line, at
    "add_variant": _add_variant,  # line
    "remove_variant": _remove_variant,  # line: the variant's id
    "raise_variant": _raise_variant,  # line: the variant's id
    "ask": _ask,  # line: the variant's id; lines, name
    "grouping": _grouping,  # line, value
    "own_plain": _own_plain,
    "made_plain": _made_plain,
    "same_plain": _same_plain,
    "plainer": _plainer,
    "add_button": _add_button,  # of: in_app or push
    "remove_button": _remove_button,  # of, at
    "add_pair": _add_pair,
    "remove_pair": _remove_pair,  # at
}
