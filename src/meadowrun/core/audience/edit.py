"""Edits of a definition's JSON, one small verb at a time; each returns a new definition and never
changes the old."""

import copy
import secrets
from collections.abc import Callable, Mapping
from typing import Any

from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.audience.kinds import KINDS
from meadowrun.core.audience.operands import IN_DAYS, DefinitionError
from meadowrun.core.language import Wording

Json = dict[str, Any]


def new_id() -> str:
    return secrets.token_hex(4)


def fresh(line: Json) -> Json:
    """A line that was read or copied, with new ids for it and for what is inside; what is no line
    there stays for the reader to refuse."""
    inside = (
        {"lines": [fresh(one) if isinstance(one, dict) else one for one in line["lines"]]}
        if isinstance(line.get("lines"), list)
        else {}
    )
    return {**line, **inside, "id": new_id()}


def is_tree(data: Any) -> bool:
    """Whether something posted has the build of a definition, so that its lines can be gone
    through, whatever they say."""
    stack = [data]
    while stack:
        node = stack.pop()
        if not isinstance(node, dict):
            return False
        if node is data or node.get("kind") == "group":
            if not isinstance(node.get("lines"), list):
                return False
            stack += node["lines"]
    return True


def find(data: Json, ident: str) -> tuple[list[Json], int]:
    """The list that holds the node and its place there. Raises DefinitionError when there is
    none."""
    stack: list[list[Json]] = [data["lines"]]
    while stack:
        lines = stack.pop()
        for index, node in enumerate(lines):
            if node.get("id") == ident:
                return lines, index
            if node.get("kind") == "group":
                stack.append(node["lines"])
    raise DefinitionError("That line is no longer there.", ident)


def new_line(about: str, words: Dictionary, options: Mapping[str, list[str]] | None = None) -> Json:
    """A fresh line with sensible settings about a field (`field:town`), an event
    (`event:ticket_bought`), mail (`mail:opened`), consent (`consent:0`, a topic's number, or
    `consent:sms`, a channel), reach (`reach:email`), a list, segment, grouping, tag or score
    (`list:3`), or a share (`share:10`). Raises DefinitionError where there is no such thing.
    """
    kind, _, key = about.partition(":")
    try:
        return {"id": new_id(), "kind": kind, **KINDS[kind].begin(key, words, options or {})}
    except KeyError:
        raise DefinitionError(
            Wording("There is nothing called “%(about)s” to write a line about.", about=about)
        ) from None


def apply(data: Json, change: Mapping[str, Any], words: Dictionary) -> tuple[Json, str | None]:
    """Applies one change, {"do": verb, …}; returns the new definition and the id of the line it
    made or touched, None where that is gone. Raises DefinitionError."""
    verb = change.get("do")
    if not isinstance(verb, str) or verb not in VERBS:
        raise DefinitionError(
            Wording("“%(verb)s” is not a change that can be made to a line.", verb=verb)
        )
    data = copy.deepcopy(data)
    return data, VERBS[verb](data, change, words)


def _add(data: Json, change: Mapping[str, Any], words: Dictionary) -> str:
    lines, holder = _lines_to_add_to(data, change.get("into"))
    node = _given_line(change, words)
    if change.get("out"):
        lines.append({"id": new_id(), "kind": "group", "match": "none", "lines": [node]})
        return str(node["id"])
    # Several lines that must all hold stand better below each other than in a group of their own,
    # where all must hold as well.
    together = holder is None or holder.get("match") in ("all", "colleagues")
    several = node.get("kind") == "group" and node.get("match") == "all" and node.get("lines")
    added = node["lines"] if together and several else [node]
    lines += added
    return str(added[0]["id"])


def _group(data: Json, change: Mapping[str, Any], words: Dictionary) -> str:
    lines, _ = _lines_to_add_to(data, change.get("into"))
    node = new_line(f"group:{change.get('match', 'any')}", words)
    lines.append(node)
    return str(node["id"])


def _become(data: Json, change: Mapping[str, Any], words: Dictionary) -> str:
    lines, index = _place(data, change)
    before = lines[index]
    off = {"off": True} if before.get("off") else {}
    lines[index] = {**_given_line(change, words), "id": before["id"], **off}
    return str(before["id"])


def _set(data: Json, change: Mapping[str, Any], words: Dictionary) -> str:
    lines, index = _place(data, change)
    node, patch = lines[index], dict(change.get("patch") or {})
    if node["kind"] == "field" and "op" in patch and "value" not in patch:
        patch |= _fitting_value(node, patch["op"], words)
    if node["kind"] == "group" and set(patch) - {"match"}:
        raise DefinitionError("Only what a group asks for can be set on it.", node["id"])
    node.update(patch)
    return str(node["id"])


def _remove(data: Json, change: Mapping[str, Any], words: Dictionary) -> None:
    lines, index = _place(data, change)
    del lines[index]
    _drop_empty_exclusions(data["lines"])


def _move(by: int) -> "Verb":
    def move(data: Json, change: Mapping[str, Any], words: Dictionary) -> str:
        lines, index = _place(data, change)
        node = lines[index]
        if 0 <= index + by < len(lines):
            lines[index], lines[index + by] = lines[index + by], node
        return str(node["id"])

    return move


def _into(data: Json, change: Mapping[str, Any], words: Dictionary) -> str:
    lines, index = _place(data, change)
    node = lines[index]
    if index == 0 or lines[index - 1].get("kind") != "group":
        raise DefinitionError("There is no group before this line to move it into.", node["id"])
    lines[index - 1]["lines"].append(lines.pop(index))
    return str(node["id"])


def _out(data: Json, change: Mapping[str, Any], words: Dictionary) -> str:
    lines, index = _place(data, change)
    node = lines[index]
    _move_out(data["lines"], node)
    _drop_empty_exclusions(data["lines"])
    return str(node["id"])


def _switch(data: Json, change: Mapping[str, Any], words: Dictionary) -> str:
    lines, index = _place(data, change)
    lines[index]["off"] = not lines[index].get("off", False)
    return str(lines[index]["id"])


def _copy(data: Json, change: Mapping[str, Any], words: Dictionary) -> str:
    lines, index = _place(data, change)
    twin = copy.deepcopy(lines[index])
    _renew(twin)
    lines.insert(index + 1, twin)
    return str(twin["id"])


#: Changes the definition in place; returns the id of the line it made or touched.
Verb = Callable[[Json, Mapping[str, Any], Dictionary], str | None]
#: What can be done to a definition, each with what it takes of {"do": verb, …}.
VERBS: dict[str, Verb] = {
    "add": _add,  # about or line, into, out
    "group": _group,  # match, into
    "become": _become,  # id, about or line
    "set": _set,  # id, patch
    "remove": _remove,  # id
    "up": _move(-1),  # id
    "down": _move(1),  # id
    "into": _into,  # id: into the group before it
    "out": _out,  # id: out of its group
    "switch": _switch,  # id: off, or on again
    "copy": _copy,  # id
}


def _place(data: Json, change: Mapping[str, Any]) -> tuple[list[Json], int]:
    return find(data, str(change.get("id")))


def _lines_to_add_to(data: Json, into: Any) -> tuple[list[Json], Json | None]:
    """The lines that something is added to, and the group they are in, None for the outermost."""
    if not into:
        return data["lines"], None
    lines, index = find(data, str(into))
    if lines[index].get("kind") != "group":
        raise DefinitionError("Lines can only be put into a group.", str(into))
    return lines[index]["lines"], lines[index]


def _given_line(change: Mapping[str, Any], words: Dictionary) -> Json:
    given = change.get("line")
    return fresh(given) if isinstance(given, dict) else new_line(str(change.get("about")), words)


def _fitting_value(node: Json, op: str, words: Dictionary) -> Json:
    """A value that suits a newly chosen operator, so that changing the operator never leaves a
    broken line."""
    spec = words.fields[node["field"]]
    old = node.get("value")
    if op in ("blank", "not_blank") or spec.type == "yes_no":
        return {"value": None}
    if spec.type == "text":
        if op in ("is", "is_not"):
            return {"value": old if isinstance(old, list) else [old or "…"]}
        return {"value": old[0] if isinstance(old, list) else old or "…"}
    if spec.type in ("choice", "choices"):
        return {"value": old or list(spec.options[:1]) or ["…"]}
    if spec.type == "number":
        single = (old[0] if isinstance(old, list) else old) or 1
        return {"value": [single, single] if op == "between" else single}
    if op in IN_DAYS:
        return {"value": old if isinstance(old, int) else 30}
    if op == "day_month":
        return {"value": ["12-01", "12-31"]}
    if op == "hours":
        return {"value": ["18:00", "22:00"]}
    first = old[0] if isinstance(old, list) else old
    if not isinstance(first, str) or len(first) < 10:
        first = "2026-01-01"
    return {"value": [first, first] if op == "between" else first}


def _move_out(lines: list[Json], node: Json) -> None:
    """Puts a line right behind the group it is in; one at the top stays."""
    for index, group in enumerate(lines):
        if group.get("kind") == "group":
            if any(child is node for child in group["lines"]):
                group["lines"] = [child for child in group["lines"] if child is not node]
                lines.insert(index + 1, node)
                return
            _move_out(group["lines"], node)


def _renew(node: Json) -> None:
    node["id"] = new_id()
    for child in node.get("lines", []):
        _renew(child)


def _drop_empty_exclusions(lines: list[Json]) -> None:
    """An exclusion whose only line was removed goes with it."""
    lines[:] = [
        n
        for n in lines
        if not (n.get("kind") == "group" and n["match"] == "none" and not n["lines"])
    ]
    for node in lines:
        if node.get("kind") == "group":
            _drop_empty_exclusions(node["lines"])
