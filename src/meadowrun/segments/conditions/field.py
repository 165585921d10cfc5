"""Fields: their SQL, and the forms of comparisons and values."""

import datetime as dt
import json
from typing import Any

from sqlalchemy import orm

from meadowrun.core.audience.fields import Dictionary, FieldSpec
from meadowrun.core.audience.nodes import FieldLine
from meadowrun.core.audience.operands import BLANK, OPERATORS
from meadowrun.people.queries import common_values
from meadowrun.segments.compile import Compiler
from meadowrun.segments.condition import Condition, Form, Json
from meadowrun.segments.conditions.values import compared, read_value, value_form


def sql(compiler: Compiler, line: FieldLine) -> str:
    """The comparison; one about days by the contact’s own clock."""
    spec = compiler.words.fields[line.field]
    if spec.is_day and line.op in (
        "in_next",
        "in_last",
        "ago",
        "ahead",
        "yearly_next",
        "yearly_last",
    ):
        by_clock = compiler.by_clock(
            compiler.clock.today, lambda today: _owned(compiler, spec, line, today)
        )
        return f"({by_clock})"
    return _owned(compiler, spec, line, compiler.clock.today())


def _owned(compiler: Compiler, spec: FieldSpec, line: FieldLine, today: dt.date) -> str:
    """The comparison where the field lives: on the contact, or on their company."""
    if spec.owner != "company":
        return _compare(compiler, spec, "c", line.op, line.value, today, line.compare)
    if line.op == "blank":
        filled = _compare(compiler, spec, "k", "not_blank", None, today)
        return f"coalesce(c.company_id NOT IN (SELECT k.id FROM companies k WHERE {filled}), TRUE)"
    inner = _compare(compiler, spec, "k", line.op, line.value, today, line.compare)
    return f"c.company_id IN (SELECT k.id FROM companies k WHERE {inner})"


def _compare(
    compiler: Compiler,
    spec: FieldSpec,
    table: str,
    op: str,
    value: Any,
    today: dt.date,
    compare: str = "letters",
) -> str:
    if (
        not spec.column
        and op in ("is", "yes", "no")
        and spec.type in ("choice", "yes_no")
        and (spec.type == "yes_no" or len(value) < 50)
    ):
        # Containment can use the index on attributes.
        wanted = [op == "yes"] if spec.type == "yes_no" else list(value)
        found = [
            f"{table}.attributes @> CAST({compiler.bind(json.dumps({spec.key: w}))} AS jsonb)"
            for w in wanted
        ]
        return "(" + " OR ".join(found) + ")"
    key = compiler.bind(spec.key)
    text = f"{table}.{spec.column}" if spec.column else f"({table}.attributes->>{key})"
    if op == "blank":
        return f"coalesce({text}, '') IN ('', '[]')"
    if op == "not_blank":
        return f"coalesce({text}, '') NOT IN ('', '[]')"
    return compiler.typed(spec.type, op, value, text, f"{table}.attributes->{key}", today, compare)


def form(session: orm.Session, node: Json, slot: str, words: Dictionary) -> Json:
    """Another field, comparison, way to compare text, or value."""
    spec = words.fields[node["field"]]
    found: Json = {"spec": spec, "label": spec.label}
    if slot == "field":
        return found | {"form": "about"}
    if slot == "op":
        ops = (*OPERATORS[spec.type], *BLANK)
        return found | {"form": "op", "ops": ops, "text": spec.type == "text"}
    if slot == "compare":
        return found | {"form": "compare"}
    suggested = list(spec.options)
    if spec.type in ("choice", "text") and not suggested:
        suggested = common_values(session, spec)
    return found | value_form(spec.type, node.get("op", ""), node.get("value"), suggested)


def patch(node: Json, slot: str, given: Form, words: Dictionary) -> Json:
    """Another comparison, way to compare text, or value."""
    if slot == "op":
        return compared(given)
    if slot == "compare":
        return {"compare": given.get("compare", "letters")}
    kind = words.fields[node["field"]].type
    return {"value": read_value(kind, node.get("op", ""), given, node["id"])}


CONDITION = Condition("field", sql, form, patch)
