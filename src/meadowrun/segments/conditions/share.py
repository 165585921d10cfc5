"""A steady share picked by chance: its SQL, and its form."""

from sqlalchemy import orm

from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.audience.nodes import ShareLine
from meadowrun.segments.compile import Compiler
from meadowrun.segments.condition import Condition, Form, Json
from meadowrun.segments.conditions.values import a_number


def sql(compiler: Compiler, node: ShareLine) -> str:
    """Those whose hash with the salt lies below the share: the same people every time."""
    salted = f"md5(c.id || CAST({compiler.bind(':' + node.salt)} AS text))"
    return (
        f"CAST(CAST('x' || substr({salted}, 1, 8) AS bit(32)) AS bigint) % 10000 "
        f"< {round(node.percent * 100)}"
    )


def form(session: orm.Session, node: Json, slot: str, words: Dictionary) -> Json:
    """How large the share is."""
    return {"form": slot}


def patch(node: Json, slot: str, given: Form, words: Dictionary) -> Json:
    """Another size."""
    return {"percent": a_number(given.get("value", ""), node["id"])}


CONDITION = Condition("share", sql, form, patch)
