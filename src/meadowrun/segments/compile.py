"""A segment's lines as SQL, over `contacts c`. Built fresh each time: about a millisecond."""

import datetime as dt
import json
import zoneinfo
from typing import Any

from meadowrun.core.audience.dates import month_days, rolling
from meadowrun.core.audience.definition import Definition, Detail, EventLine, FieldLine, Group, Node
from meadowrun.core.audience.fields import Dictionary, FieldSpec
from meadowrun.core.audience.judge import span_moments

#: Keeps a line on events a set of its own, asked once and looked up in. Left to itself the planner turns it into a join,
#: and where it underestimates how many the other lines leave (it knows nothing of own fields), that join was measured a
#: hundred times slower.
SEPARATE = " IS TRUE"


class Compiler:
    """Collects bind values while it writes predicates. One for each statement."""

    def __init__(self, words: Dictionary, now: dt.datetime, zone: zoneinfo.ZoneInfo):
        self.words, self.now, self.zone = words, now, zone
        self.today = now.astimezone(zone).date()
        self.values: dict[str, Any] = {}

    def bind(self, value: Any) -> str:
        name = f"v{len(self.values)}"
        self.values[name] = value
        return f":{name}"

    def definition(self, definition: Definition) -> str:
        """The predicate that a whole definition is."""
        parts = [self.node(n) for n in definition.lines if not n.off]
        return " AND ".join(f"({p})" for p in parts) or "TRUE"

    def node(self, node: Node) -> str:
        if isinstance(node, Group):
            parts = [f"({self.node(n)})" for n in node.lines if not n.off]
            if not parts:
                return "TRUE"
            if node.match == "all":
                return " AND ".join(parts)
            union = " OR ".join(parts)
            # A part may be unknown for a blank value; unknown is not a match, so it must not survive the NOT.
            return union if node.match == "any" else f"NOT coalesce({union}, FALSE)"
        if isinstance(node, FieldLine):
            return self._field(node)
        return self._event(node) + SEPARATE

    def _field(self, line: FieldLine) -> str:
        spec = self.words.fields[line.field]
        if spec.owner == "company":
            inner = self._compare(spec, "k", line.op, line.value)
            if line.op == "blank":
                filled = self._compare(spec, "k", "not_blank", None)
                return f"coalesce(c.company_id NOT IN (SELECT k.id FROM companies k WHERE {filled}), TRUE)"
            return f"c.company_id IN (SELECT k.id FROM companies k WHERE {inner})"
        return self._compare(spec, "c", line.op, line.value)

    def _compare(self, spec: FieldSpec, table: str, op: str, value: Any) -> str:
        if not spec.column and op in ("is", "yes", "no") and spec.type in ("choice", "yes_no"):
            # Containment can use the index on attributes.
            wanted = [op == "yes"] if spec.type == "yes_no" else list(value)
            found = [f"{table}.attributes @> CAST({self.bind(json.dumps({spec.key: w}))} AS jsonb)" for w in wanted]
            return "(" + " OR ".join(found) + ")"
        key = self.bind(spec.key)
        text = f"{table}.{spec.column}" if spec.column else f"({table}.attributes->>{key})"
        if op == "blank":
            return f"coalesce({text}, '') IN ('', '[]')"
        if op == "not_blank":
            return f"coalesce({text}, '') NOT IN ('', '[]')"
        return self._typed(spec.type, op, value, text, f"{table}.attributes->{key}")

    def _typed(self, kind: str, op: str, value: Any, text: str, json_value: str) -> str:
        """A comparison of `text` (an SQL text expression), by the type of what it holds."""
        if kind == "yes_no":
            return f"{text} = {self.bind('true' if op == 'yes' else 'false')}"
        if kind == "choices":
            wanted = f"({json_value}) ?| {self.bind(list(value))}"
            return wanted if op == "has" else f"(NOT {wanted} AND {text} NOT IN ('', '[]'))"
        if kind == "choice":
            return f"{text} {'= ANY' if op == 'is' else '<> ALL'}({self.bind(list(value))})" + (
                "" if op == "is" else f" AND {text} <> ''")
        if kind == "text":
            if op in ("is", "is_not"):
                wanted = self.bind([v.lower() for v in value])
                return f"lower({text}) {'= ANY' if op == 'is' else '<> ALL'}({wanted})"
            escaped = value.lower().replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
            pattern = self.bind(f"{escaped}%" if op == "begins" else f"%{escaped}%")
            return f"lower({text}) {'NOT ' if op == 'not_contains' else ''}LIKE {pattern}"
        if kind == "number":
            as_number = f"CAST({text} AS numeric)"
            if op == "between":
                return f"{as_number} BETWEEN {self.bind(value[0])} AND {self.bind(value[1])}"
            return f"{as_number} {({'is': '=', 'at_least': '>=', 'at_most': '<='})[op]} {self.bind(value)}"
        if op == "yearly_next":
            return f"substr({text}, 6, 5) = ANY({self.bind(sorted(month_days(self.today, value)))})"
        if op in ("in_next", "in_last", "between"):
            first, last = value if op == "between" else rolling(op, value, self.today)
            return f"{text} BETWEEN {self.bind(first.isoformat())} AND {self.bind(last.isoformat())}"
        return f"{text} {({'on': '=', 'before': '<', 'after': '>'})[op]} {self.bind(value.isoformat())}"

    def _event(self, line: EventLine) -> str:
        first, until = span_moments(line.span, self.now, self.zone)
        spec = self.words.events[line.event]
        where = [f"e.kind_id = {spec.id}"]
        if first:
            where.append(f"e.at >= {self.bind(first)}")
        if until:
            where.append(f"e.at < {self.bind(until)}")
        where += [self._detail(d, line) for d in line.where]
        source = f"SELECT e.contact_id FROM events e WHERE {' AND '.join(where)}"
        if not line.did:
            return f"(c.id NOT IN ({source}))"
        if line.times_op == "at_least":
            if line.times == 1:
                return f"(c.id IN ({source}))"
            return f"(c.id IN ({source} GROUP BY e.contact_id HAVING count(*) >= {line.times}))"
        if line.times_op == "at_most":
            return f"(c.id NOT IN ({source} GROUP BY e.contact_id HAVING count(*) > {line.times}))"
        if line.times == 0:
            return f"(c.id NOT IN ({source}))"
        return f"(c.id IN ({source} GROUP BY e.contact_id HAVING count(*) = {line.times}))"

    def _detail(self, detail: Detail, line: EventLine) -> str:
        spec = self.words.events[line.event].detail(detail.detail)
        kind = spec.type if spec else "text"
        key = self.bind(detail.detail)
        return self._typed(kind, detail.op, detail.value, f"(e.details->>{key})", f"e.details->{key}")
