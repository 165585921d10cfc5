"""An itinerary in words: what each line says, and the whole as instructions that can be read."""

import dataclasses
import datetime as dt
import urllib.parse
from collections.abc import Mapping

from meadowrun.core.audience import definition as d
from meadowrun.core.audience.english import read_aloud
from meadowrun.core.audience.fields import Dictionary, FieldSpec
from meadowrun.core.channels import KINDS as KINDS_OF_CHANNEL
from meadowrun.core.content import fillins
from meadowrun.core.journeys.details import ANSWER
from meadowrun.core.journeys.steps import (
    BranchStep,
    ChangeStep,
    Door,
    ExitRule,
    GoalStep,
    Itinerary,
    JumpStep,
    MessageStep,
    Parting,
    Path,
    Span,
    SplitStep,
    Start,
    Step,
    TaskStep,
    TellStep,
    WaitForStep,
    WaitStep,
    WebhookStep,
    Who,
    lettered,
    numbered,
)
from meadowrun.core.language import Wording
from meadowrun.core.tasks import KINDS
from meadowrun.core.timing.hours import DAY_NAMES
from meadowrun.core.timing.rhythm import Rhythm
from meadowrun.core.wording import count_of, joined, number, people


@dataclasses.dataclass(frozen=True, slots=True)
class Names:
    """What the things are called that an itinerary speaks of by number."""

    #: message → its name, and what its channel calls one (“Email”)
    messages: Mapping[int, tuple[str, str]]
    segments: Mapping[int, str]
    #: event kind → in the past tense: “bought a ticket”
    events: Mapping[str, str]
    tags: Mapping[int, str]
    lists: Mapping[int, str]
    #: topics that people can be subscribed to
    topics: Mapping[int, str] = dataclasses.field(default_factory=dict)
    scores: Mapping[int, str] = dataclasses.field(default_factory=dict)
    #: colleagues who can get a task
    colleagues: Mapping[int, str] = dataclasses.field(default_factory=dict)
    #: journeys that have not ended
    journeys: Mapping[int, str] = dataclasses.field(default_factory=dict)
    #: the lanes of the itinerary that is spoken of, where there are several
    lanes: Mapping[str, str] = dataclasses.field(default_factory=dict)
    #: everything that lines of an audience can be about, and the day they are read on
    words: Dictionary = dataclasses.field(default_factory=lambda: Dictionary({}, {}))
    today: dt.date = dt.date(2026, 1, 1)

    def of(self, itinerary: Itinerary) -> "Names":
        """These, with what the lanes of an itinerary are called: by their names, or letters."""
        letters = lettered(itinerary)
        lanes = {one.id: one.name or letters[one.id] for one in itinerary.lanes}
        return dataclasses.replace(self, lanes=lanes if itinerary.beside else {})

    @property
    def dates(self) -> dict[str, str]:
        """The fields that hold a day → what they are called."""
        return {
            ref: spec.label
            for ref, spec in self.words.fields.items()
            if spec.is_day and not spec.retired
        }

    @property
    def fields(self) -> dict[str, FieldSpec]:
        """The fields that a step can set."""
        return {
            ref: spec
            for ref, spec in self.words.fields.items()
            if not spec.retired and (spec.column is None or ref in ("town", "language", "timezone"))
        }


@dataclasses.dataclass(frozen=True, slots=True)
class Line:
    """One line of the itinerary as it is read: when, what kind, what."""

    when: str
    kind: str
    what: str


#: What takes people out of every journey, unless its author has them stay.
WITHDREW = Wording("they withdraw all consent")
#: What stands for something that is not there any more.
_GONE = Wording("something that is gone")
_REACTED = {
    "opened": Wording("opened it"),
    "clicked": Wording("clicked in it"),
    "replied": Wording("replied to it"),
    "bounced": Wording("it bounced"),
}


def link_words(address: str) -> str:
    """An address as it is shown in a line: without what every address has, and not too long."""
    said = fillins.named(address).removeprefix("https://").removeprefix("http://").rstrip("/")
    return said if len(said) <= _MOST_SHOWN else f"{said[: _MOST_SHOWN - 1]}…"


#: So many characters of an address are shown.
_MOST_SHOWN = 50


def _hours_words(step: MessageStep) -> str:
    """The hours of its own within which a message goes, and whether at the best of them; empty
    where it has none."""
    best = Wording("at their best hour") if step.best else ""
    if step.begins is None or step.ends is None:
        return best
    begins, ends = clock_words(step.begins), clock_words(step.ends)
    if best:
        return Wording(
            "at their best hour between %(begins)s and %(ends)s", begins=begins, ends=ends
        )
    return Wording("between %(begins)s and %(ends)s", begins=begins, ends=ends)


def span_words(span: Span) -> str:
    """“3 days”."""
    return count_of(span.amount, span.unit)


def clock_words(minutes: int) -> str:
    """“10:00”."""
    return f"{minutes // 60}:{minutes % 60:02d}"


def line(step: Step, names: Names) -> Line:
    """What a step says, behind the name that its author gave it."""
    said = _line(step, names)
    if step.off:
        said = dataclasses.replace(said, when=Wording("switched off"))
    return dataclasses.replace(said, what=f"{step.name}: {said.what}") if step.name else said


def _line(step: Step, names: Names) -> Line:
    if isinstance(step, MessageStep):
        unknown = Wording("(%(note)s)", note=step.note) if step.note else _GONE
        kind = KINDS_OF_CHANNEL.get(step.channel)
        of_note = kind.name[:1].upper() + kind.name[1:] if kind else str(Wording("Message"))
        name, channel = names.messages.get(step.message, (str(unknown), of_note))
        for number in step.instead:
            other, of = names.messages.get(number, (str(_GONE), str(Wording("Message"))))
            name = Wording(
                "%(first)s, or else %(other)s (%(channel)s)",
                first=name,
                other=other,
                channel=of.lower(),
            )
        return Line(_hours_words(step), channel, name)
    if isinstance(step, WaitStep):
        return Line("", Wording("Wait"), _wait_words(step, names))
    if isinstance(step, WaitForStep):
        upto = Wording("up to %(span)s", span=span_words(step.span))
        return Line(upto, Wording("Wait for"), Wording("the first of these"))
    if isinstance(step, BranchStep):
        return Line("", Wording("Branch"), Wording("the first that is true"))
    if isinstance(step, SplitStep):
        return Line("", Wording("Random split"), Wording("by chance"))
    if isinstance(step, ChangeStep):
        return Line("", Wording("Change"), _change_words(step, names))
    if isinstance(step, WebhookStep):
        parts = urllib.parse.urlsplit(step.address)
        return Line("", Wording("Webhook"), f"{parts.hostname or step.address}{parts.path}")
    if isinstance(step, TaskStep):
        return Line("", KINDS[step.what], fillins.named(step.subject))
    if isinstance(step, TellStep):
        return Line("", Wording("Tell"), fillins.named(step.text))
    if isinstance(step, JumpStep) and not step.journey:
        name = names.lanes.get(step.lane, _GONE)
        return Line("", Wording("Go over"), Wording("to the lane “%(name)s”", name=name))
    if isinstance(step, JumpStep):
        name = names.journeys.get(step.journey, _GONE)
        return Line("", Wording("Go over"), Wording("to the journey “%(name)s”", name=name))
    if isinstance(step, GoalStep):
        return Line("", Wording("Goal"), Wording("people who reach it earlier continue from here"))
    return Line("", Wording("Exit"), Wording("leaves the journey"))


def _wait_words(step: WaitStep, names: Names) -> str:
    """How long, or until when."""
    span = span_words(step.span)
    clock = clock_words(step.at) if step.at is not None else ""
    if step.date:
        date = names.dates.get(step.date, _GONE)
        day: str = Wording("their next %(date)s", date=date) if step.yearly else date
        if not step.span.amount:
            said = Wording("until the day of %(day)s", day=day)
        elif step.before:
            said = Wording("until %(span)s before %(day)s", span=span, day=day)
        else:
            said = Wording("until %(span)s after %(day)s", span=span, day=day)
        return Wording("%(said)s, %(clock)s", said=said, clock=clock) if clock else said
    if not clock and step.weekday is None:
        return span
    weekday = DAY_NAMES[step.weekday] if step.weekday is not None else ""
    until = f"{weekday} {clock}".strip()
    if not step.span.amount:
        return Wording("until %(until)s their time", until=until)
    return Wording("%(span)s, then until %(until)s their time", span=span, until=until)


def who_words(who: Who, names: Names) -> str:
    """Certain people: “who is in the segment “Members””, “whose town is Farrow”."""
    if who.segment:
        name = names.segments.get(who.segment, _GONE)
        return Wording("who is in “%(name)s”", name=name)
    if not who.lines:
        return Wording("with no condition yet")
    try:
        definition = d.parse({"lines": list(who.lines)}, names.words)
    except d.DefinitionError as problem:
        return Wording("(%(problem)s)", problem=problem)
    return read_aloud(definition, names.words, names.today).removeprefix("Everyone ").rstrip(".")


def tell_words(step: TellStep, names: Names) -> str:
    """Who is told: “Hetty Brook and Otto Lind by email”."""
    to = [names.colleagues.get(one, str(_GONE)) for one in step.to]
    who: str = joined(to, "and") if to else Wording("the person who started it")
    return Wording("%(who)s by email", who=who)


def task_words(step: TaskStep, names: Names) -> str:
    """Who gets a task, and until when: “to Hetty Brook in turn, due after 2 days”."""
    to = [names.colleagues.get(one, str(_GONE)) for one in step.to]
    who: str = joined(to, "and") if to else Wording("the person who started it")
    if len(to) > 1:
        who = Wording("%(who)s in turn", who=who)
    due = span_words(step.due)
    return Wording("to %(who)s, due after %(due)s", who=who, due=due)


def _change_words(step: ChangeStep, names: Names) -> str:
    if step.what == "tag":
        name = names.tags.get(step.number, _GONE)
        if step.remove:
            return Wording("remove the tag “%(name)s”", name=name)
        return Wording("add the tag “%(name)s”", name=name)
    if step.what == "topic":
        name = names.topics.get(step.number, _GONE)
        if step.remove:
            return Wording("unsubscribe from “%(name)s”", name=name)
        return Wording("subscribe to “%(name)s”", name=name)
    if step.what == "score":
        name, points = names.scores.get(step.number, _GONE), step.value
        if step.remove:
            return Wording("subtract %(points)s points from “%(name)s”", points=points, name=name)
        return Wording("add %(points)s points to “%(name)s”", points=points, name=name)
    if step.what == "field":
        spec = names.fields.get(step.field)
        label = spec.label if spec else _GONE
        if not step.value:
            return Wording("empty “%(label)s”", label=label)
        return Wording("set “%(label)s” to “%(value)s”", label=label, value=step.value)
    name = names.lists.get(step.number, _GONE)
    if step.remove:
        return Wording("remove from the list “%(name)s”", name=name)
    return Wording("add to the list “%(name)s”", name=name)


def path_line(step: Parting, path: Path, names: Names) -> Line:
    """What has to hold for a path, behind the name that its author gave it."""
    said = _path_line(step, path, names)
    return dataclasses.replace(said, what=f"{path.name}: {said.what}") if path.name else said


def _path_line(step: Parting, path: Path, names: Names) -> Line:
    if isinstance(step, SplitStep):
        return Line("", "", Wording("%(percent)s%% of them", percent=path.percent))
    if path is step.paths[-1]:
        if isinstance(step, WaitForStep):
            several = len(step.paths) > 2
            return Line("", Wording("if"), Wording("none of these") if several else Wording("not"))
        return Line("", Wording("else"), Wording("everyone else"))
    if isinstance(step, WaitForStep):
        if path.reaction == "bounced":
            return Line("", Wording("if"), _REACTED[path.reaction])
        if path.link:
            where = Wording("clicked the link to %(where)s", where=link_words(path.link))
            return Line("", Wording("if they"), where)
        if path.reaction:
            return Line("", Wording("if they"), _REACTED[path.reaction])
        return Line("", Wording("if they"), names.events.get(path.event, _GONE))
    return _branch_line(path, names)


def _detail_words(path: Path) -> str:
    """What a path asks of the event that started the journey, or of another server's answer."""
    name, value = path.detail.removeprefix(ANSWER).replace("_", " "), path.value or "…"
    it: str = Wording("the event’s %(name)s", name=name)
    if path.detail.startswith(ANSWER):
        it = Wording("the answer’s %(name)s", name=name)
    return {
        "is": Wording("%(it)s is %(value)s", it=it, value=value),
        "is_not": Wording("%(it)s is not %(value)s", it=it, value=value),
        "more": Wording("%(it)s is more than %(value)s", it=it, value=value),
        "less": Wording("%(it)s is less than %(value)s", it=it, value=value),
    }[path.compare]


def _branch_line(path: Path, names: Names) -> Line:
    """What has to be true of a person, or of the event that started the journey, for a path."""
    if path.detail:
        asked = _detail_words(path)
        if path.who:
            who = who_words(path.who, names)
            asked = Wording("%(asked)s, and one %(who)s", asked=asked, who=who)
        return Line("", Wording("if"), asked)
    if path.who.segment:
        name = names.segments.get(path.who.segment, _GONE)
        return Line("", Wording("if"), Wording("in “%(name)s”", name=name))
    return Line("", Wording("if one"), who_words(path.who, names))


def step_words(step: Step, names: Names) -> str:
    """A step with its paths, on one line."""
    said = line(step, names)
    if not isinstance(step, Parting):
        kind = f"{said.kind} {said.when}" if said.when else said.kind
        return f"{kind}: {said.what}"
    last = -1 if isinstance(step, WaitForStep) else None
    ways = [str(path_line(step, path, names).what) for path in step.paths[:last]]
    if isinstance(step, WaitForStep):
        return f"{said.kind} {said.when}: {', '.join(ways)}"
    return f"{said.kind}: {' / '.join(ways)}"


def starts_words(itinerary: Itinerary, names: Names) -> str:
    """All that brings somebody in."""
    said = [start_words(one, names) for one in itinerary.starts]
    return Wording(" or ").join(said) if said else Wording("nothing yet")


def start_words(start: Start, names: Names) -> str:
    """What brings somebody in, by one of its starts."""
    who = who_words(start.who, names)
    if start.how == "everyone":
        return Wording("it is started, for everyone %(who)s", who=who)
    if start.how == "rhythm":
        return Wording(
            "it is %(days)s, at %(clock)s their time, for everyone %(who)s",
            days=rhythm_words(start),
            clock=clock_words(start.at),
            who=who,
        )
    if start.how == "turns":
        return Wording("someone becomes one %(who)s", who=who)
    if start.how == "turns_not":
        return Wording("someone is no longer one %(who)s", who=who)
    if start.how == "event":
        did = names.events.get(start.event, _GONE)
        said: str = Wording("someone %(did)s", did=did)
        if start.back:
            days = count_of(start.back, "day")
            said = Wording("%(said)s, also in the last %(days)s", said=said, days=days)
    else:
        said = _date_words(start, names)
    return Wording("%(said)s, if it is one %(who)s", said=said, who=who) if start.who else said


def rhythm_words(start: Start) -> str:
    """“every second Wednesday”."""
    first = dt.datetime.combine(dt.date.fromisoformat(start.first), dt.time())
    return Rhythm.of(start.rhythm).words(first)


def _date_words(start: Start, names: Names) -> str:
    """“it is 7 days before their renewal date, 9:00 their time”."""
    date, days = names.dates.get(start.date, _GONE), count_of(abs(start.before), "day")
    clock = clock_words(start.at)
    if start.yearly:
        date = Wording("%(date)s, whatever the year", date=date)
    if start.before > 0:
        said = Wording("it is %(days)s before their %(date)s", days=days, date=date)
    elif start.before < 0:
        said = Wording("it is %(days)s after their %(date)s", days=days, date=date)
    else:
        said = Wording("it is the day of their %(date)s", date=date)
    return Wording("%(said)s, at %(clock)s their time", said=said, clock=clock)


def exit_words(rule: ExitRule, names: Names) -> str:
    """What takes people out."""
    if rule.event:
        return Wording("they %(did)s", did=names.events.get(rule.event, _GONE))
    return Wording("they become one %(who)s", who=who_words(rule.who, names))


def again_words(itinerary: Itinerary) -> str:
    """How often one person can be in it."""
    if itinerary.subject:
        return {
            "once": Wording("once for each %(one)s", one=itinerary.subject),
            "after": Wording("each %(one)s, and again later", one=itinerary.subject),
            "any": Wording("each %(one)s, each time", one=itinerary.subject),
        }[itinerary.again]
    return {
        "once": Wording("once per person"),
        "after": Wording("again after %(days)s", days=count_of(itinerary.again_days, "day")),
        "any": Wording("each time"),
    }[itinerary.again]


def door_words(door: Door, names: Names) -> str:
    """How many come in, and who does not; empty: all of them."""
    said = []
    if door.hourly:
        said.append(Wording("at most %(people)s an hour", people=people(door.hourly)))
    if door.most_inside:
        said.append(Wording("at most %(n)s inside at once", n=number(door.most_inside)))
    if door.not_while:
        others = [f"“{names.journeys[one]}”" for one in door.not_while if one in names.journeys]
        said.append(Wording("nobody who is in %(journeys)s", journeys=joined(others, "or")))
    return ", ".join(said)


def as_text(itinerary: Itinerary, names: Names) -> str:
    """The whole itinerary as numbered instructions, one a line."""
    numbers, letters, names = numbered(itinerary), lettered(itinerary), names.of(itinerary)
    lines = []

    def tell(steps: tuple[Step, ...], indent: str) -> None:
        for step in steps:
            said = line(step, names)
            when = f", {said.when}" if said.when else ""
            lines.append(f"{indent}{numbers[step.id]}. {said.kind}{when}: {said.what}")
            if isinstance(step, Parting):
                for path in step.paths:
                    case = path_line(step, path, names)
                    words = f"{case.kind} {case.what}".strip()
                    lines.append(f"{indent}   {numbers[path.id]}. {words}")
                    tell(path.steps, f"{indent}      ")

    for lane in itinerary.lanes:
        alone = itinerary.alone(lane)
        if itinerary.beside:
            lines.append(f"Lane {letters[lane.id]} {lane.name}".strip())
        lines.append(f"Starts when {starts_words(alone, names)} ({again_words(itinerary)})")
        tell(lane.steps, "")
    if limits := door_words(itinerary.door, names):
        lines.append(f"Can come in: {limits}")
    for rule in itinerary.exits:
        lines.append(f"Leaves as soon as {exit_words(rule, names)}")
    if not itinerary.stays:
        lines.append(f"Leaves as soon as {WITHDREW}")
    if itinerary.goal:
        did = names.events.get(itinerary.goal.event, _GONE)
        days = count_of(itinerary.goal.days, "day")
        control = itinerary.goal.control
        compared = f"; {control}% walk it without its marketing messages" if control else ""
        lines.append(f"Goal: {did} within {days}{compared}")
    return "\n".join(lines)
