"""Lists, segments, groups and tags: their SQL, and their forms."""

from collections.abc import Callable

from sqlalchemy import orm

from meadowrun.core.audience.definition import parse
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.audience.nodes import SetLine
from meadowrun.segments.compile import SEPARATE, Compiler
from meadowrun.segments.condition import Condition, Form, Json
from meadowrun.segments.conditions.values import whole


def _either(node: SetLine, inside: str, separate: bool = False) -> str:
    """Being in it, or not; what is blank is not in it."""
    if not node.inside:
        return f"({inside}) IS NOT TRUE"
    return f"({inside}){SEPARATE}" if separate else f"({inside})"


def list_sql(compiler: Compiler, node: SetLine) -> str:
    """Those on a list."""
    named = [f"m.list_id = {node.of}", *compiler.only("m.contact_id")]
    members = f"SELECT m.contact_id FROM list_members m WHERE {' AND '.join(named)}"
    return _either(node, f"c.id IN ({members})", separate=True)


def tag_sql(compiler: Compiler, node: SetLine) -> str:
    """Those with a tag or one under it."""
    under = ", ".join(map(str, sorted(compiler.words.under(node.of)))) or "0"
    named = [f"t.tag_id IN ({under})", *compiler.only("t.contact_id")]
    tagged = f"SELECT t.contact_id FROM contact_tags t WHERE {' AND '.join(named)}"
    return _either(node, f"c.id IN ({tagged})", separate=True)


def segment_sql(compiler: Compiler, node: SetLine) -> str:
    """Those in another segment."""
    definition = parse(compiler.words.segment(node.of), compiler.words)
    return _either(node, compiler.definition(definition))


def grouping_sql(compiler: Compiler, node: SetLine) -> str:
    """Those who fall in one group: match it, and none of the groups before it."""
    before: list[str] = []
    for group in compiler.words.grouping(node.of) or []:
        lines = parse({"lines": group["lines"]}, compiler.words)
        own = f"({compiler.definition(lines)})"
        if group["key"] == node.group:
            return _either(node, " AND ".join([own, *(f"{p} IS NOT TRUE" for p in before)]))
        before.append(own)
    return _either(node, " AND ".join(f"{p} IS NOT TRUE" for p in before) or "TRUE")


def form(session: orm.Session, node: Json, slot: str, words: Dictionary) -> Json:
    """Which one, and whether they are in it."""
    kind = node["kind"]
    if slot == "of":
        return {"form": "named", "options": words.named.get(kind, {}), "chosen": node.get(kind)}
    return {"form": slot}


def grouping_form(session: orm.Session, node: Json, slot: str, words: Dictionary) -> Json:
    """Which group of the grouping, and whether they are in it."""
    if slot != "group":
        return form(session, node, slot, words)
    rest = {"key": "else", "name": "everyone else"}
    return {"form": "group", "groups": [*(words.grouping(node["grouping"]) or []), rest]}


def patch(node: Json, slot: str, given: Form, words: Dictionary) -> Json:
    """The answer to one of the forms."""
    if slot == "inside":
        return {"inside": given.get("inside") == "yes"}
    if slot == "group":
        return {"group": given.get("group")}
    return {node["kind"]: whole(given.get("of"), node["id"])}


def _condition(key: str, sql: Callable[[Compiler, SetLine], str]) -> Condition:
    return Condition(key, sql, form, patch)


LIST = _condition("list", list_sql)
SEGMENT = _condition("segment", segment_sql)
TAG = _condition("tag", tag_sql)
GROUPING = Condition("grouping", grouping_sql, grouping_form, patch)
