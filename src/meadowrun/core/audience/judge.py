"""The plain evaluator: does one person match, and why. Slow and simple, the judge of the fast
ones."""

import dataclasses
import datetime as dt
import hashlib
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

from meadowrun.core.audience.dates import Clock, between_month_days, month_days, rolling
from meadowrun.core.audience.definition import parse
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.audience.letters import FORMS
from meadowrun.core.audience.nodes import (
    ConsentLine,
    Definition,
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
from meadowrun.core.guardrails.verdict import Facts, verdict

#: The smallest step of a moment in the database.
_MOMENT = dt.timedelta(microseconds=1)
_NUMBER = re.compile(r"[+-]?[0-9]{1,200}(?:[.][0-9]{1,200})?")
#: Outcomes under which a mail counts as sent: it left the house.
SENT = ("delivered", "bounced", "in_doubt")


@dataclasses.dataclass(frozen=True, slots=True)
class Happening:
    event: str
    at: dt.datetime
    details: Mapping[str, Any]


@dataclasses.dataclass(frozen=True, slots=True)
class Reacted:
    """`kind` is opened, clicked, unsubscribed, bounced or complained."""

    kind: str
    at: dt.datetime
    link: int | None = None
    machine: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class Mail:
    """One message to a person: what it was of, what became of it, and what they did with it."""

    send: int
    message: int | None
    campaign: int
    #: numbers of the tags of its campaign and of the message itself
    tags: Sequence[int]
    outcome: str
    at: dt.datetime | None
    reactions: Sequence[Reacted] = ()
    #: what counted as success, and for how many days
    success: str | None = None
    success_days: int = 7
    channel: str | None = None


@dataclasses.dataclass(frozen=True, slots=True)
class Person:
    """`values` by field ref; a missing or None value is blank, and so is an empty text."""

    values: Mapping[str, Any]
    events: Sequence[Happening] = ()
    id: int = 0
    company: int | None = None
    #: what was said to a channel (topic 0) or a topic there, by (channel, topic)
    consents: Mapping[tuple[str, int], bool] = dataclasses.field(default_factory=dict)
    lists: frozenset[int] = frozenset()
    mails: Sequence[Mail] = ()
    #: channel → what the verdict needs to know for a message of no topic
    reach: Mapping[str, Facts] = dataclasses.field(default_factory=dict)
    #: numbers of the tags they bear
    tags: frozenset[int] = frozenset()
    #: number of a score → points, as they were last worked out; none where there is none
    scores: Mapping[int, float] = dataclasses.field(default_factory=dict)

    @property
    def zone(self) -> str | None:
        return self.values.get("timezone")


def span_moments(
    span: Span, clock: Clock, zone: str | None
) -> tuple[dt.datetime | None, dt.datetime | None]:
    """The half-open span of moments [from, to) that a Span means: whole calendar days on the zone's
    clock, up to now. What lies ahead has not happened."""
    ends = clock.now + _MOMENT
    if span.last is not None:
        return clock.midnight(rolling("in_last", span.last, clock.today(zone))[0], zone), ends
    return (
        clock.midnight(span.first, zone) if span.first else None,
        min(ends, clock.midnight(span.until + dt.timedelta(days=1), zone)) if span.until else ends,
    )


def share_number(person: int, salt: str) -> int:
    """From 0 to 9,999, the same for a person and salt for ever."""
    return (
        int(hashlib.md5(f"{person}:{salt}".encode(), usedforsecurity=False).hexdigest()[:8], 16)
        % 10_000
    )


def holds(
    kind: str, op: str, wanted: Any, value: Any, today: dt.date, compare: str = "letters"
) -> bool:
    """One comparison. A blank value matches nothing but "is blank"."""
    blank = value is None or value == "" or value == []
    if op in ("blank", "not_blank"):
        return blank == (op == "blank")
    if blank:
        return False
    if kind == "yes_no":
        return bool(value is (op == "yes"))
    if kind == "choice":
        return (value in wanted) == (op == "is")
    if kind == "choices":
        return any(v in wanted for v in value) == (op == "has")
    if kind == "text":
        return _text_holds(op, wanted, str(value), FORMS[compare])
    if kind == "number":
        found = as_number(value)
        if found is None:
            return False
        return (
            bool(wanted[0] <= found <= wanted[1])
            if op == "between"
            else compared(op, found, wanted)
        )
    if op == "hours":
        # From the first time up to, but not at, the second; over midnight when that comes earlier.
        after, before = value[11:16] >= wanted[0], value[11:16] < wanted[1]
        return bool(after and before if wanted[0] < wanted[1] else after or before)
    try:
        day = dt.date.fromisoformat(str(value)[:10])
    except ValueError:
        return False
    return _day_holds(op, wanted, day, today)


def as_number(value: Any) -> float | None:
    """A value as a number: one, or a text that is one in plain digits; of anything else nothing.
    The same as the database's function of that name."""
    if isinstance(value, bool):
        return None
    if isinstance(value, int | float):
        return value if value == value and abs(value) != float("inf") else None
    return float(value) if isinstance(value, str) and _NUMBER.fullmatch(value) else None


def compared(op: str, value: float, wanted: float) -> bool:
    """A number beside the one a line names."""
    return {
        "is": value == wanted,
        "is_not": value != wanted,
        "more_than": value > wanted,
        "at_least": value >= wanted,
        "less_than": value < wanted,
        "at_most": value <= wanted,
    }[op]


def _text_holds(op: str, wanted: Any, value: str, form: Callable[[str], str]) -> bool:
    text = form(value)
    if op in ("is", "is_not"):
        return (text in [form(w) for w in wanted]) == (op == "is")
    if op in ("begins", "ends"):
        return text.startswith(form(wanted)) if op == "begins" else text.endswith(form(wanted))
    return (form(wanted) in text) == (op == "contains")


def _day_holds(op: str, wanted: Any, day: dt.date, today: dt.date) -> bool:
    if op in ("in_next", "in_last"):
        first, last = rolling(op, wanted, today)
        return first <= day <= last
    if op == "ago":
        return day < rolling("in_last", wanted, today)[0]
    if op == "ahead":
        return day > rolling("in_next", wanted, today)[1]
    if op in ("yearly_next", "yearly_last"):
        return f"{day:%m-%d}" in month_days(today, wanted if op == "yearly_next" else -wanted)
    if op == "day_month":
        return f"{day:%m-%d}" in between_month_days(*wanted)
    if op == "between":
        return bool(wanted[0] <= day <= wanted[1])
    return bool({"on": day == wanted, "before": day < wanted, "after": day > wanted}[op])


class Judge:
    """Judges people one by one. `colleagues` gives everyone of a person's company, themselves
    included."""

    def __init__(
        self,
        words: Dictionary,
        clock: Clock,
        colleagues: Callable[[Person], Iterable[Person]] = lambda p: [p],
    ):
        self.words, self.clock, self.colleagues = words, clock, colleagues

    def matches(self, definition: Definition, person: Person) -> bool:
        """Whether one person is in the segment."""
        return all(self.holds(n, person) for n in definition.lines if not n.off)

    def holds(self, node: Node, person: Person) -> bool:
        """Whether one line holds for one person, whatever the lines beside it say."""
        match node:
            case Group():
                return self._group(node, person)
            case FieldLine():
                return holds(
                    self.words.fields[node.field].type,
                    node.op,
                    node.value,
                    person.values.get(node.field),
                    self.clock.today(person.zone),
                    node.compare,
                )
            case EventLine():
                return self._event(node, person)
            case MailLine():
                return self._mail(node, person)
            case ConsentLine():
                said = person.consents.get((node.channel, node.topic))
                if node.topic and said and person.consents.get((node.channel, 0)) is False:
                    # A no to the whole channel outweighs a yes to a topic, as it does when
                    # something is sent.
                    return False
                return {True: "agreed", False: "refused", None: "unasked"}[said] == node.state
            case ReachLine():
                return verdict(person.reach[node.channel]).goes == node.can
            case ScoreLine():
                return compared(node.op, person.scores.get(node.of, 0), node.value)
            case ShareLine():
                return share_number(person.id, node.salt) < round(node.percent * 100)
            case SetLine():
                return self._inside(node, person) == node.inside

    def _group(self, node: Group, person: Person) -> bool:
        live = [n for n in node.lines if not n.off]
        if node.match == "colleagues":
            return person.company is not None and any(
                all(self.holds(n, one) for n in live) for one in self.colleagues(person)
            )
        answers = [self.holds(n, person) for n in live]
        if not answers:
            return True
        return {"all": all(answers), "any": any(answers), "none": not any(answers)}[node.match]

    def _inside(self, node: SetLine, person: Person) -> bool:
        if node.kind == "list":
            return node.of in person.lists
        if node.kind == "tag":
            return bool(self.words.under(node.of) & person.tags)
        if node.kind == "segment":
            return self.matches(parse(self.words.segment(node.of), self.words), person)
        for part in self.words.partition(node.of) or []:
            if self.matches(parse({"lines": part["lines"]}, self.words), person):
                return bool(part["key"] == node.part)
        return node.part == "else"

    def fitting(self, line: EventLine, person: Person, spanned: bool = True) -> list[Happening]:
        """A person's events that a line is about, in order of time; within its span, or at any time
        up to now."""
        first, until = span_moments(line.span if spanned else Span(), self.clock, person.zone)
        spec, today = self.words.events[line.event], self.clock.today()
        found = []
        for happening in sorted(person.events, key=lambda h: h.at):
            if (
                happening.event != line.event
                or (first and happening.at < first)
                or (until and happening.at >= until)
            ):
                continue
            details = [(spec.detail(w.detail), w) for w in line.where]
            if all(
                detail is not None
                and holds(detail.type, w.op, w.value, happening.details.get(w.detail), today)
                for detail, w in details
            ):
                found.append(happening)
        return found

    def _event(self, line: EventLine, person: Person) -> bool:
        if line.which != "any":
            ever = self.fitting(line, person, spanned=False)
            first, until = span_moments(line.span, self.clock, person.zone)
            if not ever:
                return False
            at = ever[0 if line.which == "first" else -1].at
            return not ((first and at < first) or (until and at >= until))
        fits = self._fits(line, person)
        if not line.did:
            return not fits
        n = len(fits)
        if not {
            "at_least": n >= line.times,
            "exactly": n == line.times,
            "at_most": n <= line.times,
        }[line.times_op]:
            return False
        if line.total is None:
            return True
        numbers = [
            found
            for h in fits
            if (found := as_number(h.details.get(line.total.detail))) is not None
        ]
        total = sum(numbers)
        return bool(numbers) and compared(line.total.op, total, line.total.value)

    def _fits(self, line: EventLine, person: Person) -> list[Happening]:
        fits = self.fitting(line, person)
        return (
            [h for h in fits if self._followed(line, h, person)] if line.then is not None else fits
        )

    def moments(self, node: Node, person: Person) -> list[dt.datetime]:
        """When what a line on events or messages asks for happened: once for each event, or for
        each message its first time."""
        if isinstance(node, EventLine):
            return [h.at for h in self._fits(node, person)]
        assert isinstance(node, MailLine)
        within = self._within(node, person)
        found = (
            [at for at in self._moments(node, mail, person) if at is not None and within(at)]
            for mail in self.of_line(node, person)
        )
        return [min(moments) for moments in found if moments]

    def _within(self, line: MailLine, person: Person) -> Callable[[dt.datetime | None], bool]:
        """Tells whether a moment lies in a line's span, on the person's clock."""
        first, until = span_moments(line.span, self.clock, person.zone)
        return lambda at: (
            at is not None and not (first and at < first) and not (until and at >= until)
        )

    def _followed(self, line: EventLine, happening: Happening, person: Person) -> bool:
        """Whether what a line asks to follow did, or did not. “Did not” can be said only when the
        time for it is over."""
        assert line.then is not None
        until = happening.at + dt.timedelta(days=line.then.days)
        came = any(
            h.event == line.then.event and happening.at < h.at <= until for h in person.events
        )
        return came if line.then.did else not came and until <= self.clock.now

    def _mail(self, line: MailLine, person: Person) -> bool:
        within = self._within(line, person)
        of = self.of_line(line, person)
        count = len(
            {m.send for m in of if any(within(at) for at in self._moments(line, m, person))}
        )
        if line.did:
            return count >= line.times
        sent = any(m.outcome in SENT and within(m.at) for m in of)
        return count < line.times and (sent or line.among == "everyone")

    def of_line(self, line: MailLine, person: Person) -> list[Mail]:
        """The messages to a person that a line is about, whatever became of them; or the last of
        them that they were sent."""
        found = self._named(line, person)
        if line.latest is None:
            return found
        sent = [(m.at, m.send, m) for m in found if m.outcome in SENT and m.at is not None]
        return [mail for _, _, mail in sorted(sent, key=lambda s: s[:2])[-line.latest :]]

    def _named(self, line: MailLine, person: Person) -> list[Mail]:
        kind, what = line.of
        if kind == "any":
            return list(person.mails)
        if kind == "tag":
            under = self.words.under(int(what or 0))
            return [m for m in person.mails if under & set(m.tags)]
        return [m for m in person.mails if getattr(m, kind) == what]

    @staticmethod
    def _moments(line: MailLine, mail: Mail, person: Person) -> list[dt.datetime | None]:
        """When what a line asks for happened with one mail."""
        if line.what in ("sent", "delivered", "bounced"):
            return (
                [mail.at] if mail.outcome in (SENT if line.what == "sent" else (line.what,)) else []
            )
        if line.what == "converted":
            if mail.at is None or mail.outcome != "delivered":
                return []
            end = mail.at + dt.timedelta(days=mail.success_days)
            return [
                h.at for h in person.events if h.event == mail.success and mail.at <= h.at < end
            ]
        kinds = ("opened", "clicked") if line.what == "opened" else (line.what,)
        return [
            r.at
            for r in mail.reactions
            if r.kind in kinds
            and not (r.machine and line.what in ("opened", "clicked"))
            and (line.link is None or r.link == line.link)
        ]
