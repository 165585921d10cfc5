"""Events: their SQL, and the forms of how often, when, with what details, and what followed."""

import dataclasses
import datetime as dt

import sqlalchemy as sa
from sqlalchemy import orm
from werkzeug.datastructures import MultiDict

from meadowrun.core.audience.fields import Dictionary, EventSpec
from meadowrun.core.audience.nodes import Detail, EventLine, Span
from meadowrun.core.audience.operands import OPERATORS, TOTALS, DefinitionError
from meadowrun.core.values import is_whole
from meadowrun.segments.compile import SEPARATE, SIGNS, Compiler
from meadowrun.segments.condition import Condition, Form, Json
from meadowrun.segments.conditions.values import a_number, read_span, read_value, whole

#: What was given for one detail of a kind of event lately, the most frequent first.
_OCCURRED = """
SELECT v, count(*)
FROM (SELECT details->>:key AS v FROM events WHERE kind_id = :kind ORDER BY at DESC LIMIT 20000) x
WHERE v IS NOT NULL
GROUP BY v
ORDER BY count(*) DESC
LIMIT 60
"""


#: The values of a detail in the newest events of a kind, with how often each came.
SEEN_DETAILS = """SELECT v, count(*) FROM (
    SELECT details->>:key AS v FROM events WHERE kind_id = :kind ORDER BY at DESC LIMIT 20000) x
WHERE v IS NOT NULL GROUP BY v ORDER BY count(*) DESC LIMIT 60"""


def sql(compiler: Compiler, line: EventLine) -> str:
    """Those for whom it happened so often, or did not."""
    return _predicate(compiler, line) + SEPARATE


def _predicate(compiler: Compiler, line: EventLine) -> str:
    if line.which != "any":
        pick = "min" if line.which == "first" else "max"
        where = _happened(compiler, dataclasses.replace(line, span=Span()))
        ever = (
            f"SELECT e.contact_id, {pick}(e.at) AS at FROM events e WHERE "
            f"{' AND '.join(where)} GROUP BY e.contact_id"
        )
        within = " AND ".join(compiler.within(line.span, "o.at", "o.contact_id")) or "TRUE"
        return f"(c.id IN (SELECT o.contact_id FROM ({ever}) o WHERE {within}))"
    source = f"SELECT e.contact_id FROM events e WHERE {' AND '.join(_happened(compiler, line))}"
    if not line.did:
        return f"(c.id NOT IN ({source}))"
    if line.total is not None:
        summed = f"sum(as_number(e.details->{compiler.bind(line.total.detail)}))"
        times = (
            f"count(*) {({'at_least': '>=', 'exactly': '=', 'at_most': '<='})[line.times_op]} "
            f"{line.times}"
        )
        return (
            f"(c.id IN ({source} GROUP BY e.contact_id HAVING {times} AND {summed} "
            f"{SIGNS[line.total.op]} {compiler.bind(line.total.value)}))"
        )
    if line.times_op == "at_least":
        if line.times == 1:
            return f"(c.id IN ({source}))"
        return f"(c.id IN ({source} GROUP BY e.contact_id HAVING count(*) >= {line.times}))"
    if line.times_op == "at_most":
        return f"(c.id NOT IN ({source} GROUP BY e.contact_id HAVING count(*) > {line.times}))"
    if line.times == 0:
        return f"(c.id NOT IN ({source}))"
    return f"(c.id IN ({source} GROUP BY e.contact_id HAVING count(*) = {line.times}))"


def moments(compiler: Compiler, line: EventLine) -> str:
    """A query of (contact_id, at), once for each event a line asks for."""
    happened = " AND ".join(_happened(compiler, line))
    return f"SELECT e.contact_id, e.at FROM events e WHERE {happened}"


def _happened(compiler: Compiler, line: EventLine) -> list[str]:
    """What must be true of an event `e` for a line to speak of it."""
    where = [
        f"e.kind_id = {compiler.words.events[line.event].id}",
        *compiler.only("e.contact_id"),
        *(_detail(compiler, d, line) for d in line.where),
        *compiler.within(line.span, "e.at", "e.contact_id"),
    ]
    return [*where, _followed(compiler, line)] if line.then is not None else where


def _followed(compiler: Compiler, line: EventLine) -> str:
    assert line.then is not None
    length = f"CAST({compiler.bind(dt.timedelta(days=line.then.days))} AS interval)"
    came = (
        "EXISTS (SELECT 1 FROM events f WHERE f.contact_id = e.contact_id AND f.kind_id = "
        f"{compiler.words.events[line.then.event].id} AND f.at > e.at AND f.at <= e.at + {length})"
    )
    return (
        came
        if line.then.did
        else f"NOT {came} AND e.at + {length} <= {compiler.bind(compiler.clock.now)}"
    )


def _detail(compiler: Compiler, detail: Detail, line: EventLine) -> str:
    spec = compiler.words.events[line.event].detail(detail.detail)
    kind = spec.type if spec else "text"
    key = compiler.bind(detail.detail)
    return compiler.typed(
        kind,
        detail.op,
        detail.value,
        f"(e.details->>{key})",
        f"e.details->{key}",
        compiler.clock.today(),
        given=True,
    )


def form(session: orm.Session, node: Json, slot: str, words: Dictionary) -> Json:
    """Another event, how often, when, what its numbers add up to, what followed, or a detail."""
    event = words.events[node["event"]]
    found: Json = {"event": event, "label": event.did, "events": words.events}
    if slot == "event":
        return found | {"form": "about"}
    if slot in ("did", "times", "span", "then", "total"):
        numbers = [detail for detail in event.details if detail.type == "number"]
        return found | {"form": slot, "totals": TOTALS, "numbers": numbers}
    return found | _detail_form(session, node, slot, event)


def _detail_form(session: orm.Session, node: Json, slot: str, event: EventSpec) -> Json:
    place = slot.removeprefix("where")
    index = int(place) if is_whole(place) else len(node.get("where", []))
    existing = node.get("where", [])[index] if index < len(node.get("where", [])) else None
    occurred = {}
    for detail in event.details:
        if detail.type == "text":
            occurred[detail.key] = [
                (row[0], row[1])
                for row in session.execute(
                    sa.text(SEEN_DETAILS),
                    {"key": detail.key, "kind": event.id},
                )
            ]
    return {
        "form": "detail",
        "index": index,
        "existing": existing,
        "occurred": occurred,
        "operators": OPERATORS,
    }


def patch(node: Json, slot: str, given: Form, words: Dictionary) -> Json:
    """The answer to one of the forms."""
    ident = node["id"]
    if slot == "span":
        return {"span": read_span(given, ident)}
    if slot == "did":
        # What only somebody who did can be asked goes when it turns into “did not”.
        if given.get("did") == "yes":
            return {"did": True}
        return {"did": False, "which": "any", "total": None, "then": None}
    if slot == "times":
        return _times(given, ident)
    if slot in ("total", "then") and given.get("remove"):
        return {slot: None}
    if slot == "total":
        total = {
            "detail": given.get("detail"),
            "op": given.get("total_op", "at_least"),
            "value": a_number(given.get("value", ""), ident),
        }
        return {"total": total, "did": True, "which": "any"}
    if slot == "then":
        then = {
            "event": given.get("event"),
            "did": given.get("then_did") == "yes",
            "days": whole(given.get("days"), ident),
        }
        return {"then": then, "did": True, "which": "any"}
    return _patch_detail(node, slot, given, words)


def _times(given: Form, ident: str) -> Json:
    which = given.get("which", "any")
    if which != "any":
        once = {"op": "at_least", "n": 1}
        return {"times": once, "did": True, "which": which, "total": None, "then": None}
    often = {"op": given.get("times_op", "at_least"), "n": whole(given.get("n"), ident)}
    return {"times": often, "did": True, "which": "any"}


def _patch_detail(node: Json, slot: str, form: MultiDict[str, str], words: Dictionary) -> Json:
    where = [dict(w) for w in node.get("where", [])]
    place = slot.removeprefix("where")
    index = int(place) if is_whole(place) else len(where)
    if form.get("remove"):
        return {"where": where[:index] + where[index + 1 :]}
    detail = words.events[node["event"]].detail(form.get("detail", ""))
    if detail is None:
        raise DefinitionError("Choose a detail.", node["id"])
    op = form.get(f"op-{detail.key}", OPERATORS[detail.type][0])
    single = MultiDict(
        [
            ("value", form.get(f"value-{detail.key}", "")),
            ("second", form.get(f"second-{detail.key}", "")),
        ]
    )
    made = {
        "detail": detail.key,
        "op": op,
        "value": read_value(detail.type, op, single, node["id"]),
    }
    return {"where": [*where[:index], made, *where[index + 1 :]]}


CONDITION = Condition("event", sql, form, patch, moments)
