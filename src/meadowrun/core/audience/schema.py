"""The JSON Schema (2020-12) of a segment's definition, from the same classes that read it."""

from typing import Any

from meadowrun.core.audience.kinds import KINDS, Kind
from meadowrun.core.audience.kinds.kind import ID, MOST_LINES, Json


def schema(address: str) -> Json:
    """The schema; `address` is where it is published. What lines name (fields, events, numbers) is
    checked only by reading."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "$id": address,
        "title": "A segment's definition",
        "type": "object",
        "required": ["lines"],
        "additionalProperties": False,
        "properties": {
            "format": {"const": 1},
            "name": {"type": "string"},
            "lines": {"type": "array", "maxItems": MOST_LINES, "items": {"$ref": "#/$defs/line"}},
        },
        "$defs": {"line": {"oneOf": [_line(kind) for kind in KINDS.values()]}},
    }


def _line(kind: Kind[Any]) -> Json:
    """The schema of a line of one kind."""
    return {
        "type": "object",
        "required": ["id", "kind", *kind.required],
        "additionalProperties": False,
        "properties": {
            "id": ID,
            "kind": {"enum": [kind.key]},
            "off": {"type": "boolean", "description": "kept, but does not count"},
            **kind.members(),
        },
    }
