"""The JSON Schema (2020-12) of an itinerary, as the API takes and gives it."""

from typing import Any

from meadowrun.core.journeys.reading import (
    MOST_ADDRESS,
    MOST_EXITS,
    MOST_LANES,
    MOST_LINES,
    MOST_PATHS,
    MOST_PEOPLE,
    MOST_STARTS,
    MOST_SUBJECT,
    MOST_VALUE,
)
from meadowrun.core.journeys.steps import (
    AGAIN,
    CHANGES,
    COMPARISONS,
    MOST_BACK,
    MOST_CONTROL,
    PAST,
    REACTIONS,
    REFUSED,
    STARTS,
    UNITS,
)
from meadowrun.core.tasks import KINDS, PRIORITIES

Json = dict[str, Any]


def _whole(least: int = 0, most: int | None = None) -> Json:
    found: Json = {"type": "integer", "minimum": least}
    return found if most is None else found | {"maximum": most}


def _one_of(*values: str) -> Json:
    return {"enum": list(values)}


_TEXT: Json = {"type": "string"}
_FLAG: Json = {"type": "boolean"}
_MINUTES: Json = {"type": ["integer", "null"], "minimum": 0, "maximum": 24 * 60 - 1}
_ID: Json = {"type": "string", "minLength": 1, "maxLength": 100}
_NUMBERS: Json = {"type": "array", "maxItems": MOST_PATHS, "items": _whole()}
_NAME: Json = {"type": "string", "maxLength": 100}
_WHO: Json = {"$ref": "#/$defs/who"}
_SPAN: Json = {"$ref": "#/$defs/span"}
_STEPS: Json = {"type": "array", "items": {"$ref": "#/$defs/step"}}


def _step(kind: str, **members: Json) -> Json:
    """One kind of step: what it must have is what has no default."""
    needed = [name for name in members if not name.startswith("_")]
    may = {name.removeprefix("_"): schema for name, schema in members.items()}
    return {
        "type": "object",
        "properties": {"kind": {"const": kind}, "id": _ID, "name": _NAME, "off": _FLAG, **may},
        "required": ["kind", "id", *needed],
        "additionalProperties": False,
    }


def _paths() -> Json:
    """The ways on from a step: the last one is for everyone else."""
    path = {
        "type": "object",
        "properties": {
            "id": _ID,
            "name": _NAME,
            "steps": _STEPS,
            "who": _WHO,
            "event": _TEXT,
            "reaction": _one_of("", *REACTIONS),
            "link": {"type": "string", "maxLength": MOST_ADDRESS},
            "percent": _whole(0, 99),
            "detail": _NAME,
            "compare": _one_of("", *COMPARISONS),
            "value": _NAME,
        },
        "required": ["id"],
        "additionalProperties": False,
    }
    return {"type": "array", "minItems": 2, "maxItems": MOST_PATHS, "items": path}


#: Every kind of step by its name. Names that begin with a line may be left out.
STEPS: dict[str, Json] = {
    "message": _step(
        "message",
        message=_whole(),
        _hold=_whole(1, 720),
        _refused=_one_of(*REFUSED),
        _note={"type": "string", "maxLength": 100},
        _channel={"type": "string", "maxLength": 100},
        _instead=_NUMBERS,
        _begins=_MINUTES,
        _ends=_MINUTES,
        _best=_FLAG,
    ),
    "wait": _step(
        "wait",
        span=_SPAN,
        _at=_MINUTES,
        _weekday={"type": ["integer", "null"], "minimum": 0, "maximum": 6},
        _date=_TEXT,
        _before=_FLAG,
        _yearly=_FLAG,
        _past=_one_of(*PAST),
    ),
    "branch": _step("branch", paths=_paths()),
    "wait_for": _step("wait_for", span=_SPAN, paths=_paths()),
    "split": _step("split", paths=_paths()),
    "change": _step(
        "change",
        what=_one_of(*CHANGES),
        _number=_whole(),
        _remove=_FLAG,
        _field={"type": "string", "maxLength": 100},
        _value={"type": "string", "maxLength": MOST_VALUE},
    ),
    "task": _step(
        "task",
        what=_one_of(*KINDS),
        subject={"type": "string", "minLength": 1, "maxLength": MOST_SUBJECT},
        due=_SPAN,
        _priority=_one_of(*PRIORITIES),
        _to=_NUMBERS,
    ),
    "tell": _step(
        "tell",
        text={"type": "string", "minLength": 1, "maxLength": MOST_SUBJECT},
        _to=_NUMBERS,
    ),
    "webhook": _step(
        "webhook",
        address={"type": "string", "minLength": 1, "maxLength": MOST_ADDRESS},
        _failed=_one_of(*REFUSED),
    ),
    "jump": _step("jump", journey=_whole(), _lane=_TEXT),
    "goal": _step("goal"),
    "exit": _step("exit"),
}


def schema() -> Json:
    """The schema of a whole itinerary."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "A journey's itinerary",
        "type": "object",
        "properties": {
            "starts": {
                "type": "array",
                "maxItems": MOST_STARTS,
                "items": {
                    "type": "object",
                    "properties": {
                        "id": _ID,
                        "how": _one_of(*STARTS),
                        "event": _TEXT,
                        "who": _WHO,
                        "date": _TEXT,
                        "before": _whole(-3650, 3650),
                        "at": _whole(0, 24 * 60 - 1),
                        "yearly": _FLAG,
                        "rhythm": _TEXT,
                        "first": _TEXT,
                        "back": _whole(0, MOST_BACK),
                        "lane": _TEXT,
                    },
                    "required": ["id", "how"],
                    "additionalProperties": False,
                },
            },
            "steps": _STEPS,
            "goal": {
                "type": ["object", "null"],
                "properties": {
                    "event": {"type": "string", "minLength": 1},
                    "days": _whole(1, 3650),
                    "ends": _FLAG,
                    "control": _whole(0, MOST_CONTROL),
                    "amount": _NAME,
                },
                "required": ["event"],
                "additionalProperties": False,
            },
            "exits": {
                "type": "array",
                "maxItems": MOST_EXITS,
                "items": {
                    "type": "object",
                    "properties": {"id": _ID, "event": _TEXT, "who": _WHO},
                    "required": ["id"],
                    "additionalProperties": False,
                },
            },
            "again": _one_of(*AGAIN),
            "again_days": _whole(1, 3650),
            "subject": _TEXT,
            "door": {
                "type": "object",
                "description": "How many come in within an hour and are inside at once (0: any "
                "number), and the journeys inside of which nobody comes in",
                "properties": {
                    "hourly": _whole(0, MOST_PEOPLE),
                    "most_inside": _whole(0, MOST_PEOPLE),
                    "not_while": {"type": "array", "items": _whole()},
                },
                "additionalProperties": False,
            },
            "ids": _whole(),
            "stays": _FLAG,
            "lane_name": _NAME,
            "beside": {
                "type": "array",
                "maxItems": MOST_LANES - 1,
                "description": "Lanes beside the first one, whose steps are “steps”",
                "items": {
                    "type": "object",
                    "properties": {"id": _ID, "name": _NAME, "steps": _STEPS},
                    "required": ["id"],
                    "additionalProperties": False,
                },
            },
        },
        "additionalProperties": False,
        "$defs": {
            "who": {
                "type": "object",
                "description": "People of a saved segment, or of whom lines of a definition are "
                "true (segment.schema.json)",
                "properties": {
                    "segment": _whole(),
                    "lines": {
                        "type": "array",
                        "maxItems": MOST_LINES,
                        "items": {"type": "object"},
                    },
                },
                "additionalProperties": False,
            },
            "span": {
                "type": "object",
                "properties": {"amount": _whole(0, 1000), "unit": _one_of(*UNITS)},
                "additionalProperties": False,
            },
            "step": {"oneOf": list(STEPS.values())},
        },
    }
