"""The JSON Schema (2020-12) of a segment's definition, from the same tables that its reader
uses."""

from typing import Any

from meadowrun.core.audience.definition import MAIL, MATCH, MOST_LINES
from meadowrun.core.audience.operands import BLANK, COMPARE, MOST_VALUES, OPERATORS, TOTALS
from meadowrun.core.channels import CHANNEL_WORDS

Json = dict[str, Any]
_ID: Json = {"type": "string", "pattern": "^[A-Za-z0-9]{1,12}$"}
_DATE: Json = {"type": "string", "format": "date", "pattern": r"^\d{4}-\d\d-\d\d$"}
_NUMBER: Json = {"type": "integer", "minimum": 1}
_TAG: Json = {
    "description": "A tag by its number or path; those under it count, too",
    "oneOf": [_NUMBER, {"type": "string"}],
}
_VALUE: Json = {
    "type": ["string", "number", "array", "null"],
    "maxItems": MOST_VALUES,
    "items": {"type": ["string", "number"]},
}
_SPAN: Json = {
    "description": "Ever; the last so many calendar days; or from a day to a day, both inclusive",
    "oneOf": [
        {
            "type": "object",
            "additionalProperties": False,
            "properties": {"from": _DATE, "to": _DATE},
        },
        {
            "type": "object",
            "additionalProperties": False,
            "required": ["last"],
            "properties": {"last": {"type": "integer", "minimum": 0, "maximum": 36_500}},
        },
    ],
}


def _line(kind: str | list[str], required: list[str], properties: Json) -> Json:
    kinds = [kind] if isinstance(kind, str) else kind
    return {
        "type": "object",
        "required": ["id", "kind", *required],
        "additionalProperties": False,
        "properties": {
            "id": _ID,
            "kind": {"enum": kinds},
            "off": {"type": "boolean", "description": "kept, but does not count"},
            **properties,
        },
    }


def schema(address: str) -> Json:
    """The schema; `address` is where it is published. What lines name (fields, events, numbers) is
    checked only by reading."""
    operators = sorted({op for ops in OPERATORS.values() for op in ops} | set(BLANK))
    # A detail that was not given is told by asking for the event without it; “blank” is for fields.
    compared: Json = {
        "type": "object",
        "required": ["detail", "op", "value"],
        "additionalProperties": False,
        "properties": {
            "detail": {"type": "string"},
            "op": {"enum": sorted(set(operators) - set(BLANK))},
            "value": _VALUE,
        },
    }
    inside: Json = {"inside": {"type": "boolean", "default": True}}
    nodes = [
        _line(
            "group",
            ["match", "lines"],
            {
                "match": {"enum": list(MATCH)},
                "lines": {"type": "array", "items": {"$ref": "#/$defs/line"}},
            },
        ),
        _line(
            "field",
            ["field", "op"],
            {
                "field": {"type": "string"},
                "op": {"enum": operators},
                "value": _VALUE,
                "compare": {"enum": list(COMPARE)},
            },
        ),
        _line(
            "event",
            ["event"],
            {
                "event": {"type": "string"},
                "did": {"type": "boolean", "default": True},
                "span": _SPAN,
                "where": {"type": "array", "items": compared},
                "times": {
                    "type": "object",
                    "required": ["op", "n"],
                    "additionalProperties": False,
                    "properties": {
                        "op": {"enum": ["at_least", "exactly", "at_most"]},
                        "n": {"type": "integer", "minimum": 0, "maximum": 100_000},
                    },
                },
                "which": {"enum": ["any", "first", "latest"]},
                "total": {
                    **compared,
                    "properties": {
                        **compared["properties"],
                        "op": {"enum": list(TOTALS)},
                        "value": {"type": "number"},
                    },
                },
                "then": {
                    "type": "object",
                    "required": ["event", "days"],
                    "additionalProperties": False,
                    "properties": {
                        "event": {"type": "string"},
                        "did": {"type": "boolean"},
                        "days": {"type": "integer", "minimum": 1, "maximum": 3650},
                    },
                },
            },
        ),
        _line(
            "mail",
            ["what"],
            {
                "what": {"enum": list(MAIL)},
                "did": {"type": "boolean", "default": True},
                "span": _SPAN,
                "among": {"enum": ["sent", "everyone"]},
                "times": {"type": "integer", "minimum": 1, "maximum": 1000},
                "latest": {"type": "integer", "minimum": 1, "maximum": 1000},
                "link": {"type": "integer", "minimum": 0},
                "of": {
                    "type": "object",
                    "maxProperties": 1,
                    "additionalProperties": False,
                    "properties": {
                        "message": _NUMBER,
                        "campaign": _NUMBER,
                        "send": _NUMBER,
                        "tag": _TAG,
                        "channel": {"enum": list(CHANNEL_WORDS)},
                    },
                },
            },
        ),
        _line(
            "consent",
            ["state"],
            {
                "topic": {"type": "integer", "minimum": 0},
                "state": {"enum": ["agreed", "refused", "unasked"]},
                "channel": {"enum": list(CHANNEL_WORDS), "default": "email"},
            },
        ),
        _line(
            "reach",
            [],
            {
                "channel": {"enum": list(CHANNEL_WORDS), "default": "email"},
                "can": {"type": "boolean", "default": True},
            },
        ),
        _line("list", ["list"], {"list": _NUMBER, **inside}),
        _line("segment", ["segment"], {"segment": _NUMBER, **inside}),
        _line(
            "part",
            ["partition", "part"],
            {"partition": _NUMBER, "part": {"type": "string"}, **inside},
        ),
        _line("tag", ["tag"], {"tag": _TAG, **inside}),
        _line(
            "score",
            ["score", "op", "value"],
            {"score": _NUMBER, "op": {"enum": list(TOTALS)}, "value": {"type": "number"}},
        ),
        _line(
            "share",
            ["percent", "salt"],
            {"percent": {"type": "number", "minimum": 0.01, "maximum": 100}, "salt": _ID},
        ),
    ]
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
        "$defs": {"line": {"oneOf": nodes}},
    }
