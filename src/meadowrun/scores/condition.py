"""The condition on how much a score is: its SQL, and its forms."""

from sqlalchemy import orm

from meadowrun.core.audience.compare import compared
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.audience.nodes import ScoreLine
from meadowrun.core.audience.operands import TOTALS
from meadowrun.segments.compile import SEPARATE, SIGNS, Compiler
from meadowrun.segments.condition import Condition, Form, Json
from meadowrun.segments.conditions.values import a_number, whole


def sql(compiler: Compiler, node: ScoreLine) -> str:
    """Those with so many points when they were last worked out."""
    # Whoever has no row has no points: looked for by what holds, or by what does not, whichever
    # leaves them where 0 belongs.
    zero = compared(node.op, 0, node.value)
    holds = f"s.points {SIGNS[node.op]} {compiler.bind(node.value)}"
    where = [
        f"s.score_id = {node.of}",
        f"{'NOT ' if zero else ''}{holds}",
        *compiler.only("s.contact_id"),
    ]
    inner = f"SELECT s.contact_id FROM contact_scores s WHERE {' AND '.join(where)}"
    return f"(c.id {'NOT IN' if zero else 'IN'} ({inner})){SEPARATE}"


def form(session: orm.Session, node: Json, slot: str, words: Dictionary) -> Json:
    """Which score, and how it compares with how many points."""
    if slot == "of":
        return {
            "form": "named",
            "options": words.named.get("score", {}),
            "chosen": node.get("score"),
        }
    if slot == "op":
        return {"form": "op", "ops": TOTALS, "text": False}
    label = words.name("score", node["score"])
    return {"form": "number", "label": label, "value": node["value"]}


def patch(node: Json, slot: str, given: Form, words: Dictionary) -> Json:
    """The answer to one of the forms."""
    if slot == "op":
        return {"op": given.get("op", "")}
    if slot == "value":
        return {"value": a_number(given.get("value", ""), node["id"])}
    return {"score": whole(given.get("of"), node["id"])}


SCORE = Condition("score", sql, form, patch)
