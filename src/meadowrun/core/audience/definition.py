"""A segment's definition: between the JSON that is stored or posted and the lines of nodes.py.

    {"format": 1, "lines": [node, …]}

All of the top lines must hold. A node is

    {"id", "kind": "group", "match": "all" | "any" | "none" | "colleagues", "lines": [node, …]}
    {"id", "kind": "field", "field", "op", "value", "compare"}
    {"id", "kind": "event", "event", "did", "times": {"op", "n"}, "span",
           "where": [{"detail", "op", "value"}], "which": "any" | "first" | "latest",
           "total": {"detail", "op", "value"}, "then": {"event", "did", "days"}}
    {"id", "kind": "mail", "what", "did", "link", "times", "span" or "latest", "among",
           "of": {"message" | "campaign" | "send" | "tag": N} or {"channel": "sms"}}
    {"id", "kind": "consent", "topic": N, "state": "agreed" | "refused" | "unasked", "channel"}
    {"id", "kind": "reach", "channel", "can"}
    {"id", "kind": "list", "list": N, "inside"}
    {"id", "kind": "segment", "segment": N, "inside"}
    {"id", "kind": "grouping", "grouping": N, "group": "key", "inside"}
    {"id", "kind": "tag", "tag": N or path, "inside"}
    {"id", "kind": "score", "score": N, "op", "value"}
    {"id", "kind": "share", "percent", "salt"}

Any node may carry "off": true: it is kept but does not count. A span is {} (ever), {"last": N}
calendar days, or {"from": "YYYY-MM-DD", "to": "YYYY-MM-DD"} with either end missing. Each kind has
a class of its own in kinds/; schema.py has the JSON Schema of them all.
"""

from typing import Any

from meadowrun.core.audience.kinds import KINDS
from meadowrun.core.audience.kinds.kind import parse as parse
from meadowrun.core.audience.nodes import Definition, Node
from meadowrun.core.audience.operands import DefinitionError as DefinitionError


def dump(definition: Definition) -> dict[str, Any]:
    """The JSON of a Definition; `parse(dump(d)) == d`."""
    return {"format": 1, "lines": [dump_node(node) for node in definition.lines]}


def dump_node(node: Node) -> dict[str, Any]:
    """The JSON of one line."""
    data = {"id": node.id, "kind": node.kind, **KINDS[node.kind].write(node)}
    return data | {"off": True} if node.off else data
