"""A segment's lines as SQL, over `contacts c`. Built fresh each time: about a millisecond."""

import contextlib
import datetime as dt
from collections.abc import Callable, Collection, Hashable, Iterable, Iterator
from typing import Any

from meadowrun.base.db import as_like
from meadowrun.core.audience.dates import Clock, between_month_days, month_days, rolling
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.audience.letters import FORMS
from meadowrun.core.audience.nodes import Definition, Node, Span
from meadowrun.core.audience.spans import span_moments
from meadowrun.core.timing.zones import zone_of
from meadowrun.segments.condition import condition_of

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


class Compiler:
    """Collects bind values while it writes predicates. One for each statement.

    `zones` are the time zones that contacts name; everyone else lives on the organisation's clock.
    `among` are the few contacts that are asked about, where not everybody is: a predicate is true
    of them only where it is, and looks at nothing but theirs.
    """

    def __init__(
        self,
        words: Dictionary,
        clock: Clock,
        zones: Iterable[str] = (),
        among: Collection[int] | None = None,
    ):
        self.words, self.clock = words, clock
        self.zones = [z for z in zones if zone_of(z) is not None]
        self.values: dict[str, Any] = {}
        self._only = among is not None
        if among is not None:
            self.values["among"] = list(among)

    def bind(self, value: Any) -> str:
        name = f"v{len(self.values)}"
        self.values[name] = value
        return f":{name}"

    def only(self, column: str) -> list[str]:
        """Conditions that keep rows of other people out, by the column with their number."""
        return [f"{column} = ANY(:among)"] if self._only else []

    @contextlib.contextmanager
    def of_everyone(self) -> Iterator[None]:
        """What is written inside may speak of others than those who are asked about."""
        before, self._only = self._only, False
        yield
        self._only = before

    def definition(self, definition: Definition) -> str:
        """The predicate that a whole definition is."""
        parts = [self.node(n) for n in definition.lines if not n.off]
        return " AND ".join(f"({p})" for p in parts) or "TRUE"

    def node(self, node: Node) -> str:
        """The predicate that one line is."""
        return condition_of(node.kind).sql(self, node)

    def moments(self, node: Node) -> str:
        """A query of (contact_id, at): once for each time that what a countable line asks for
        happened."""
        moments = condition_of(node.kind).moments
        assert moments is not None, f"{node.kind} cannot be counted"
        return moments(self, node)

    def by_clock(
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

    def typed(
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
            return self._hours(text, *value)
        if given:
            # A field was read as a day when it came in; a detail may hold anything.
            text = f"as_day({text})"
        elif kind == "datetime":
            text = f"substr({text}, 1, 10)"
        return self._day(op, value, text, today)

    def _hours(self, text: str, first: str, until: str) -> str:
        """A time of day from one hour to another, over midnight where the second is earlier."""
        inside = [
            f"substr({text}, 12, 5) >= {self.bind(first)}",
            f"substr({text}, 12, 5) < {self.bind(until)}",
        ]
        return f"{text} <> '' AND ({(' AND ' if first < until else ' OR ').join(inside)})"

    def _day(self, op: str, value: Any, text: str, today: dt.date) -> str:
        """A comparison of a day; `text` is its SQL as YYYY-MM-DD."""
        if op in ("yearly_next", "yearly_last", "day_month"):
            days = (
                between_month_days(*value)
                if op == "day_month"
                else month_days(today, value if op == "yearly_next" else -value)
            )
            return f"substr({text}, 6, 5) = ANY({self.bind(sorted(days))})"
        if op == "ago":
            return f"{text} < {self.bind(rolling('in_last', value, today)[0].isoformat())}"
        if op == "ahead":
            return f"{text} > {self.bind(rolling('in_next', value, today)[1].isoformat())}"
        if op in ("in_next", "in_last", "between"):
            first, last = value if op == "between" else rolling(op, value, today)
            return (
                f"{text} BETWEEN {self.bind(first.isoformat())} AND {self.bind(last.isoformat())}"
            )
        sign = {"on": "=", "before": "<", "after": ">"}[op]
        return f"{text} {sign} {self.bind(value.isoformat())}"

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

    def within(self, span: Span, column: str, person: str) -> list[str]:
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
            own = self.by_clock(
                lambda z, p=place: span_moments(span, self.clock, z)[p],  # type: ignore[misc]
                lambda edge: f"CAST({self.bind(edge)} AS timestamptz)",
                "z.timezone",
            )
            looked = f"(SELECT {own} FROM contacts z WHERE z.id = {person})"
            outer, inner = (early, late) if sign == ">=" else (late, early)
            found.append(f"{column} {sign} {self.bind(outer)}")
            found.append(f"({column} {sign} {self.bind(inner)} OR {column} {sign} {looked})")
        return found
