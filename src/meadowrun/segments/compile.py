"""A segment's lines as SQL, over `contacts c`. Built fresh each time: about a millisecond."""

import dataclasses
import datetime as dt
import json
from collections.abc import Callable, Hashable, Iterable
from typing import Any

from meadowrun.base.db import as_like
from meadowrun.core.audience.dates import Clock, between_month_days, month_days, rolling, zone_of
from meadowrun.core.audience.definition import parse
from meadowrun.core.audience.fields import Dictionary, FieldSpec
from meadowrun.core.audience.judge import SENT, compared, span_moments
from meadowrun.core.audience.letters import FORMS
from meadowrun.core.audience.nodes import (
    ConsentLine,
    Definition,
    Detail,
    EventLine,
    FieldLine,
    Group,
    MailLine,
    Node,
    ReachLine,
    ScoreLine,
    SetLine,
    ShareLine,
    Span,
)
from meadowrun.gateways.channels import CHANNELS

#: Keeps a line on events a set of its own, asked once and looked up in. Left to itself the planner
#: turns it into a join,
#: and where it underestimates how many the other lines leave (it knows nothing of own fields), that
#: join was measured a
#: hundred times slower.
SEPARATE = " IS TRUE"
#: Asks about people of the same company.
COLLEAGUES = "SELECT c.company_id FROM contacts c"
SIGNS = {
    "is": "=",
    "is_not": "<>",
    "more_than": ">",
    "at_least": ">=",
    "less_than": "<",
    "at_most": "<=",
}
_FORM = {"letters": "letters({})", "loose": "loose({})", "exact": "composed({})"}
_SAID = (
    "c.id {1} (SELECT s.contact_id FROM consents s WHERE s.channel = '{0}' AND s.topic_id = "
    "0 AND {2})"
)


class Compiler:
    """Collects bind values while it writes predicates. One for each statement.

    `zones` are the time zones that contacts name; everyone else lives on the organisation's clock.
    """

    def __init__(self, words: Dictionary, clock: Clock, zones: Iterable[str] = ()):
        self.words, self.clock = words, clock
        self.zones = [z for z in zones if zone_of(z) is not None]
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
        match node:
            case Group():
                return self._group(node)
            case FieldLine():
                return self._field(node)
            case EventLine():
                return self._event(node) + SEPARATE
            case MailLine():
                return self._mail(node) + SEPARATE
            case ConsentLine():
                return self._consent(node)
            case ReachLine():
                can = CHANNELS[node.channel].can.format(
                    agreed=_SAID.format(node.channel, "IN", "s.agreed"),
                    unless=_SAID.format(node.channel, "NOT IN", "NOT s.agreed"),
                )
                return f"({can}){SEPARATE}" if node.can else f"({can}) IS NOT TRUE"
            case ScoreLine():
                # Whoever has no row has no points: looked for by what holds, or by what does not,
                # whichever leaves them where 0 belongs.
                zero = compared(node.op, 0, node.value)
                holds = f"s.points {SIGNS[node.op]} {self.bind(node.value)}"
                inner = (
                    f"SELECT s.contact_id FROM contact_scores s WHERE s.score_id = {node.of} "
                    f"AND {'NOT ' if zero else ''}{holds}"
                )
                return f"(c.id {'NOT IN' if zero else 'IN'} ({inner})){SEPARATE}"
            case ShareLine():
                salted = f"md5(c.id || CAST({self.bind(':' + node.salt)} AS text))"
                return (
                    f"CAST(CAST('x' || substr({salted}, 1, 8) AS bit(32)) AS bigint) % 10000 "
                    f"< {round(node.percent * 100)}"
                )
            case SetLine():
                return self._inside(node)

    @staticmethod
    def _consent(node: ConsentLine) -> str:
        """What was said to a channel or topic. A no to the whole channel outweighs a yes to a
        topic, as it does when something is sent."""
        said = {"agreed": " AND s.agreed", "refused": " AND NOT s.agreed", "unasked": ""}[
            node.state
        ]
        asked = (
            f"SELECT s.contact_id FROM consents s WHERE s.channel = '{node.channel}' AND "
            f"s.topic_id = {node.topic}{said}"
        )
        own = f"c.id {'NOT IN' if node.state == 'unasked' else 'IN'} ({asked})"
        if node.topic and node.state == "agreed":
            own = f"({own} AND {_SAID.format(node.channel, 'NOT IN', 'NOT s.agreed')})"
        return f"({own}){SEPARATE}"

    def _group(self, node: Group) -> str:
        parts = [f"({self.node(n)})" for n in node.lines if not n.off]
        if node.match == "colleagues":
            # Inside, c is somebody of the same company: the inner name hides the outer one.
            inner = " AND ".join(parts) or "TRUE"
            return (
                f"(c.company_id IN ({COLLEAGUES} WHERE c.company_id IS NOT NULL AND "
                f"{inner})){SEPARATE}"
            )
        if not parts:
            return "TRUE"
        if node.match == "all":
            return " AND ".join(parts)
        union = " OR ".join(parts)
        # A part may be unknown for a blank value; unknown is not a match, so it must not survive
        # the NOT.
        return union if node.match == "any" else f"NOT coalesce({union}, FALSE)"

    def _inside(self, node: SetLine) -> str:
        if node.kind == "list":
            inner = f"c.id IN (SELECT m.contact_id FROM list_members m WHERE m.list_id = {node.of})"
            return f"({inner}){SEPARATE}" if node.inside else f"({inner}) IS NOT TRUE"
        if node.kind == "tag":
            under = ", ".join(map(str, sorted(self.words.under(node.of)))) or "0"
            inner = f"c.id IN (SELECT t.contact_id FROM contact_tags t WHERE t.tag_id IN ({under}))"
            return f"({inner}){SEPARATE}" if node.inside else f"({inner}) IS NOT TRUE"
        if node.kind == "segment":
            inner = self.definition(parse(self.words.segment(node.of), self.words))
        else:
            inner = self.part(node.of, node.part)
        return f"({inner})" if node.inside else f"({inner}) IS NOT TRUE"

    def part(self, partition: int, key: str) -> str:
        """Who falls in one part: matches it, and none of the parts before it."""
        before: list[str] = []
        for part in self.words.partition(partition) or []:
            own = f"({self.definition(parse({'lines': part['lines']}, self.words))})"
            if part["key"] == key:
                return " AND ".join([own, *(f"{p} IS NOT TRUE" for p in before)])
            before.append(own)
        return " AND ".join(f"{p} IS NOT TRUE" for p in before) or "TRUE"

    def _by_clock(
        self,
        of: Callable[[str | None], Hashable],
        say: Callable[[Any], str],
        zone: str = "c.timezone",
    ) -> str:
        """An expression that depends on the contact's clock, by what `of` says of their zone;
        written once where all agree."""
        default = of(None)
        others: dict[Hashable, list[str]] = {}
        for name in self.zones:
            if (found := of(name)) != default:
                others.setdefault(found, []).append(name)
        if not others:
            return say(default)
        cases = " ".join(
            f"WHEN {zone} = ANY({self.bind(names)}) THEN {say(found)}"
            for found, names in others.items()
        )
        return f"CASE {cases} ELSE {say(default)} END"

    def _field(self, line: FieldLine) -> str:
        spec = self.words.fields[line.field]
        if spec.is_day and line.op in (
            "in_next",
            "in_last",
            "ago",
            "ahead",
            "yearly_next",
            "yearly_last",
        ):
            by_clock = self._by_clock(
                self.clock.today, lambda today: self._owned(spec, line, today)
            )
            return f"({by_clock})"
        return self._owned(spec, line, self.clock.today())

    def _owned(self, spec: FieldSpec, line: FieldLine, today: dt.date) -> str:
        """The comparison where the field lives: on the contact, or on their company."""
        if spec.owner != "company":
            return self._compare(spec, "c", line.op, line.value, today, line.compare)
        if line.op == "blank":
            filled = self._compare(spec, "k", "not_blank", None, today)
            return (
                f"coalesce(c.company_id NOT IN (SELECT k.id FROM companies k WHERE {filled}), TRUE)"
            )
        inner = self._compare(spec, "k", line.op, line.value, today, line.compare)
        return f"c.company_id IN (SELECT k.id FROM companies k WHERE {inner})"

    def _compare(
        self,
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
                f"{table}.attributes @> CAST({self.bind(json.dumps({spec.key: w}))} AS jsonb)"
                for w in wanted
            ]
            return "(" + " OR ".join(found) + ")"
        key = self.bind(spec.key)
        text = f"{table}.{spec.column}" if spec.column else f"({table}.attributes->>{key})"
        if op == "blank":
            return f"coalesce({text}, '') IN ('', '[]')"
        if op == "not_blank":
            return f"coalesce({text}, '') NOT IN ('', '[]')"
        return self._typed(spec.type, op, value, text, f"{table}.attributes->{key}", today, compare)

    def _typed(
        self,
        kind: str,
        op: str,
        value: Any,
        text: str,
        json_value: str,
        today: dt.date,
        compare: str = "letters",
        given: bool = False,
    ) -> str:
        """A comparison of `text` (an SQL text expression), by the type of what it holds; `given` by
        others, and held to nothing."""
        if kind == "yes_no":
            return f"{json_value} = CAST({self.bind('true' if op == 'yes' else 'false')} AS jsonb)"
        if kind == "choices":
            wanted = f"({json_value}) ?| {self.bind(list(value))}"
            return wanted if op == "has" else f"(NOT {wanted} AND {text} NOT IN ('', '[]'))"
        if kind == "choice":
            return f"{text} {'= ANY' if op == 'is' else '<> ALL'}({self.bind(list(value))})" + (
                "" if op == "is" else f" AND {text} <> ''"
            )
        if kind == "text":
            return self._text(op, value, text, compare)
        if kind == "number":
            as_number = f"as_number({json_value})"
            if op == "between":
                return f"{as_number} BETWEEN {self.bind(value[0])} AND {self.bind(value[1])}"
            return f"{as_number} {SIGNS[op]} {self.bind(value)}"
        if op == "hours":
            first, until = value
            inside = [
                f"substr({text}, 12, 5) >= {self.bind(first)}",
                f"substr({text}, 12, 5) < {self.bind(until)}",
            ]
            return f"{text} <> '' AND ({(' AND ' if first < until else ' OR ').join(inside)})"
        if given:
            # A field was read as a day when it came in; a detail may hold anything.
            text = f"as_day({text})"
        elif kind == "datetime":
            text = f"substr({text}, 1, 10)"
        if op in ("yearly_next", "yearly_last", "day_month"):
            days = (
                between_month_days(*value)
                if op == "day_month"
                else month_days(today, value if op == "yearly_next" else -value)
            )
            return f"substr({text}, 6, 5) = ANY({self.bind(sorted(days))})"
        if op in ("ago", "ahead"):
            edge = (
                rolling("in_last", value, today)[0]
                if op == "ago"
                else rolling("in_next", value, today)[1]
            )
            return f"{text} {'<' if op == 'ago' else '>'} {self.bind(edge.isoformat())}"
        if op in ("in_next", "in_last", "between"):
            first, last = value if op == "between" else rolling(op, value, today)
            return (
                f"{text} BETWEEN {self.bind(first.isoformat())} AND {self.bind(last.isoformat())}"
            )
        return (
            f"{text} {({'on': '=', 'before': '<', 'after': '>'})[op]} "
            f"{self.bind(value.isoformat())}"
        )

    def _text(self, op: str, value: Any, text: str, compare: str) -> str:
        shown, form = _FORM[compare].format(text), FORMS[compare]
        if op in ("is", "is_not"):
            wanted = self.bind(list(dict.fromkeys(form(v) for v in value)))
            return f"{shown} {'= ANY' if op == 'is' else '<> ALL'}({wanted})" + (
                "" if op == "is" else f" AND {text} <> ''"
            )
        pattern = self.bind(
            ("" if op == "begins" else "%") + as_like(form(value)) + ("" if op == "ends" else "%")
        )
        return f"{shown} {'NOT ' if op == 'not_contains' else ''}LIKE {pattern} AND {text} <> ''"

    def _moments(self, span: Span, column: str, person: str) -> list[str]:
        """Conditions that keep a moment within a span of days on its person's own clock.

        Only the few hours in which a day has begun for some and not for others are looked at person
        by person.
        """
        found = []
        for place, sign in ((0, ">="), (1, "<")):
            edges = {span_moments(span, self.clock, z)[place] for z in (None, *self.zones)} - {None}
            if not edges:
                continue
            early, late = min(edges), max(edges)  # type: ignore[type-var]
            if early == late:
                found.append(f"{column} {sign} {self.bind(early)}")
                continue
            own = self._by_clock(
                lambda z, p=place: span_moments(span, self.clock, z)[p],  # type: ignore[misc]
                lambda edge: f"CAST({self.bind(edge)} AS timestamptz)",
                "z.timezone",
            )
            looked = f"(SELECT {own} FROM contacts z WHERE z.id = {person})"
            outer, inner = (early, late) if sign == ">=" else (late, early)
            found.append(f"{column} {sign} {self.bind(outer)}")
            found.append(f"({column} {sign} {self.bind(inner)} OR {column} {sign} {looked})")
        return found

    def moments(self, node: EventLine | MailLine) -> str:
        """A query of (contact_id, at): once for each event a line asks for, or for each message its
        first time."""
        if isinstance(node, EventLine):
            return (
                "SELECT e.contact_id, e.at FROM events e WHERE "
                f"{' AND '.join(self._happened(node))}"
            )
        return (
            f"SELECT x.contact_id, min(x.at) AS at FROM ({self._reacted(node)}) x GROUP BY "
            "x.contact_id, x.dispatch_id"
        )

    def _happened(self, line: EventLine) -> list[str]:
        """What must be true of an event `e` for a line to speak of it."""
        where = [
            f"e.kind_id = {self.words.events[line.event].id}",
            *(self._detail(d, line) for d in line.where),
            *self._moments(line.span, "e.at", "e.contact_id"),
        ]
        return [*where, self._followed(line)] if line.then is not None else where

    def _event(self, line: EventLine) -> str:
        if line.which != "any":
            pick = "min" if line.which == "first" else "max"
            where = self._happened(dataclasses.replace(line, span=Span()))
            ever = (
                f"SELECT e.contact_id, {pick}(e.at) AS at FROM events e WHERE "
                f"{' AND '.join(where)} GROUP BY e.contact_id"
            )
            within = " AND ".join(self._moments(line.span, "o.at", "o.contact_id")) or "TRUE"
            return f"(c.id IN (SELECT o.contact_id FROM ({ever}) o WHERE {within}))"
        source = f"SELECT e.contact_id FROM events e WHERE {' AND '.join(self._happened(line))}"
        if not line.did:
            return f"(c.id NOT IN ({source}))"
        if line.total is not None:
            summed = f"sum(as_number(e.details->{self.bind(line.total.detail)}))"
            times = (
                "count(*) "
                f"{({'at_least': '>=', 'exactly': '=', 'at_most': '<='})[line.times_op]} "
                f"{line.times}"
            )
            return (
                f"(c.id IN ({source} GROUP BY e.contact_id HAVING {times} AND {summed} "
                f"{SIGNS[line.total.op]} {self.bind(line.total.value)}))"
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

    def _followed(self, line: EventLine) -> str:
        assert line.then is not None
        length = f"CAST({self.bind(dt.timedelta(days=line.then.days))} AS interval)"
        came = (
            "EXISTS (SELECT 1 FROM events f WHERE f.contact_id = e.contact_id AND f.kind_id = "
            f"{self.words.events[line.then.event].id} AND f.at > e.at AND f.at <= e.at + {length})"
        )
        return (
            came
            if line.then.did
            else f"NOT {came} AND e.at + {length} <= {self.bind(self.clock.now)}"
        )

    def _detail(self, detail: Detail, line: EventLine) -> str:
        spec = self.words.events[line.event].detail(detail.detail)
        kind = spec.type if spec else "text"
        key = self.bind(detail.detail)
        return self._typed(
            kind,
            detail.op,
            detail.value,
            f"(e.details->>{key})",
            f"e.details->{key}",
            self.clock.today(),
            given=True,
        )

    def _mail(self, line: MailLine) -> str:
        sent = self._mailed(line, "sent") if line.latest is None else self._last(line, line.latest)
        source = sent if line.what == "sent" else self._reacted(line)
        found = f"SELECT x.contact_id FROM ({source}) x" + (
            f" GROUP BY x.contact_id HAVING count(DISTINCT x.dispatch_id) >= {line.times}"
            if line.times > 1
            else ""
        )
        if line.did:
            return f"(c.id IN ({found}))"
        if line.among == "everyone":
            return f"(c.id NOT IN ({found}))"
        return f"(c.id IN (SELECT x.contact_id FROM ({sent}) x) AND c.id NOT IN ({found}))"

    def _sends(self, line: MailLine, column: str) -> list[str]:
        """Conditions on the number of the dispatch."""
        kind, what = line.of
        if kind == "any":
            return []
        if kind == "send":
            return [
                (
                    f"{column} IN (SELECT s.id FROM dispatches s WHERE s.owner_kind = 'send' AND "
                    f"s.owner_id = {what})"
                )
            ]
        if kind == "channel":
            return [f"{column} IN (SELECT s.id FROM dispatches s WHERE s.channel = '{what}')"]
        if kind == "tag":
            under = f"CAST({self.bind(sorted(self.words.under(int(what or 0))))} AS bigint[])"
            return [
                f"{column} IN (SELECT s.id FROM dispatches s LEFT JOIN campaigns g ON g.id = "
                "s.campaign_id JOIN messages m ON "
                f"m.id = s.message_id WHERE g.tags && {under} OR m.tags && {under})"
            ]
        return [f"{column} IN (SELECT s.id FROM dispatches s WHERE s.{kind}_id = {what})"]

    def _reacted(self, line: MailLine) -> str:
        """A query of (contact_id, dispatch_id, at) of those for whom what the line asks for
        happened, with the last of what they were sent where only that counts."""
        source = self._mailed(line, line.what)
        if line.latest is None:
            return source
        return (
            f"SELECT x.contact_id, x.dispatch_id, x.at FROM ({source}) x JOIN "
            f"({self._last(line, line.latest)}) l "
            "ON l.contact_id = x.contact_id AND l.dispatch_id = x.dispatch_id"
        )

    def _last(self, line: MailLine, most: int) -> str:
        """A query of (contact_id, dispatch_id, at) of the last so many that each was sent, of those
        the line is about."""
        outcomes = ", ".join(f"'{o}'" for o in SENT)
        where = [
            f"d.outcome IN ({outcomes})",
            "d.at IS NOT NULL",
            *self._sends(line, "d.dispatch_id"),
        ]
        ranked = (
            "SELECT d.contact_id, d.dispatch_id, d.at, row_number() OVER ("
            "PARTITION BY d.contact_id ORDER BY d.at DESC, d.number DESC) AS place "
            f"FROM deliveries d WHERE {' AND '.join(where)}"
        )
        return (
            f"SELECT r.contact_id, r.dispatch_id, r.at FROM ({ranked}) r WHERE r.place <= "
            f"{int(most)}"
        )

    def _mailed(self, line: MailLine, what: str) -> str:
        """A query of (contact_id, dispatch_id, at) of those for whom it happened, within the line's
        span."""
        if what in ("sent", "delivered", "bounced"):
            outcomes = ", ".join(f"'{o}'" for o in (SENT if what == "sent" else (what,)))
            where = [
                f"d.outcome IN ({outcomes})",
                "d.at IS NOT NULL",
                *self._sends(line, "d.dispatch_id"),
                *self._moments(line.span, "d.at", "d.contact_id"),
            ]
            return (
                "SELECT d.contact_id, d.dispatch_id, d.at FROM deliveries d WHERE "
                f"{' AND '.join(where)}"
            )
        if what == "converted":
            where = [
                "d.outcome = 'delivered'",
                *self._sends(line, "d.dispatch_id"),
                *self._moments(line.span, "e.at", "e.contact_id"),
            ]
            return (
                "SELECT d.contact_id, d.dispatch_id, e.at FROM deliveries d JOIN sends w ON "
                "w.dispatch_id = d.dispatch_id JOIN event_kinds k ON "
                "k.key = w.success_event JOIN events e ON e.contact_id = d.contact_id AND "
                "e.kind_id = k.id AND e.at >= d.at "
                "AND e.at < d.at + make_interval(days => w.success_days) WHERE "
                f"{' AND '.join(where)}"
            )
        kinds = "'opened', 'clicked'" if what == "opened" else f"'{what}'"
        where = [
            f"r.kind IN ({kinds})",
            *self._sends(line, "r.dispatch_id"),
            *self._moments(line.span, "r.at", "r.contact_id"),
        ]
        if what in ("opened", "clicked"):
            where.append("NOT r.machine")
        if line.link is not None:
            where.append(f"r.link = {line.link}")
        return (
            f"SELECT r.contact_id, r.dispatch_id, r.at FROM reactions r WHERE {' AND '.join(where)}"
        )
