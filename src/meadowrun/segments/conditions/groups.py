"""Lines within lines: their SQL, and the form of how many must hold."""

from sqlalchemy import orm

from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.audience.nodes import Group
from meadowrun.segments.compile import COLLEAGUES, SEPARATE, Compiler
from meadowrun.segments.condition import Condition, Form, Json


def sql(compiler: Compiler, node: Group) -> str:
    """The lines joined as the group says."""
    live = [n for n in node.lines if not n.off]
    if node.match == "colleagues":
        # Inside, c is somebody of the same company: the inner name hides the outer one.
        with compiler.of_everyone():
            inner = " AND ".join(f"({compiler.node(n)})" for n in live) or "TRUE"
        return (
            f"(c.company_id IN ({COLLEAGUES} WHERE c.company_id IS NOT NULL AND {inner})){SEPARATE}"
        )
    parts = [f"({compiler.node(n)})" for n in live]
    if not parts:
        return "TRUE"
    if node.match == "all":
        return " AND ".join(parts)
    union = " OR ".join(parts)
    # A part may be unknown for a blank value; unknown is not a match, so it must not survive
    # the NOT.
    return union if node.match == "any" else f"NOT coalesce({union}, FALSE)"


def form(session: orm.Session, node: Json, slot: str, words: Dictionary) -> Json:
    """How many of the lines must hold."""
    return {"form": "match"}


def patch(node: Json, slot: str, given: Form, words: Dictionary) -> Json:
    """Another number of lines."""
    return {"match": given.get("match", "any")}


CONDITION = Condition("group", sql, form, patch)
