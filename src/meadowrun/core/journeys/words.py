"""An itinerary in words: what each line says, and the whole as instructions that can be read."""

import dataclasses
from collections.abc import Mapping

from meadowrun.core.journeys.steps import (
    BranchStep,
    ChangeStep,
    Itinerary,
    MessageStep,
    Parting,
    Path,
    Span,
    SplitStep,
    Step,
    WaitForStep,
    WaitStep,
    numbered,
)
from meadowrun.core.language import Wording
from meadowrun.core.wording import count_of


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


@dataclasses.dataclass(frozen=True, slots=True)
class Line:
    """One line of the itinerary as it is read: when, what kind, what."""

    when: str
    kind: str
    what: str


#: What stands for something that is not there any more.
_GONE = Wording("something that is gone")
_REACTED = {
    "opened": Wording("opened it"),
    "clicked": Wording("clicked in it"),
    "bounced": Wording("it bounced"),
}


def span_words(span: Span) -> str:
    """“3 days”."""
    return count_of(span.amount, span.unit)


def clock_words(minutes: int) -> str:
    """“10:00”."""
    return f"{minutes // 60}:{minutes % 60:02d}"


def line(step: Step, names: Names) -> Line:
    """What a step says."""
    if isinstance(step, MessageStep):
        name, channel = names.messages.get(step.message, (str(_GONE), str(Wording("Message"))))
        return Line("", channel, name)
    if isinstance(step, WaitStep):
        if step.at is None:
            return Line("", Wording("Wait"), span_words(step.span))
        said = Wording(
            "%(span)s, then until %(clock)s their time",
            span=span_words(step.span),
            clock=clock_words(step.at),
        )
        return Line("", Wording("Wait"), said)
    if isinstance(step, WaitForStep):
        upto = Wording("up to %(span)s", span=span_words(step.span))
        return Line(upto, Wording("Wait for"), Wording("the first of these"))
    if isinstance(step, BranchStep):
        return Line("", Wording("Branch"), Wording("the first that is true"))
    if isinstance(step, SplitStep):
        return Line("", Wording("Random split"), Wording("by chance"))
    if isinstance(step, ChangeStep):
        return Line("", Wording("Change"), _change_words(step, names))
    return Line("", Wording("Exit"), Wording("leaves the journey"))


def _change_words(step: ChangeStep, names: Names) -> str:
    if step.what == "tag":
        name = names.tags.get(step.number, _GONE)
        if step.remove:
            return Wording("take the tag “%(name)s”", name=name)
        return Wording("give the tag “%(name)s”", name=name)
    name = names.lists.get(step.number, _GONE)
    if step.remove:
        return Wording("take off the list “%(name)s”", name=name)
    return Wording("put on the list “%(name)s”", name=name)


def path_line(step: Parting, path: Path, names: Names) -> Line:
    """What has to hold for a path."""
    if isinstance(step, SplitStep):
        return Line("", "", Wording("%(percent)s%% of them", percent=path.percent))
    if path is step.paths[-1]:
        if isinstance(step, WaitForStep):
            several = len(step.paths) > 2
            return Line("", Wording("if"), Wording("none of these") if several else Wording("not"))
        return Line("", Wording("else"), Wording("everyone else"))
    if isinstance(step, WaitForStep):
        if path.reaction:
            return Line("", Wording("if they"), _REACTED[path.reaction])
        return Line("", Wording("if they"), names.events.get(path.event, _GONE))
    name = names.segments.get(path.segment, _GONE)
    return Line("", Wording("if"), Wording("in “%(name)s”", name=name))


def start_words(itinerary: Itinerary, names: Names) -> str:
    """What brings somebody in."""
    if itinerary.start.event:
        return Wording("someone %(did)s", did=names.events.get(itinerary.start.event, _GONE))
    if itinerary.start.segment:
        name = names.segments.get(itinerary.start.segment, _GONE)
        return Wording("it is started, for everyone in “%(name)s”", name=name)
    return Wording("nothing yet")


def again_words(itinerary: Itinerary) -> str:
    """How often one person can be in it."""
    return {
        "once": Wording("once per person"),
        "after": Wording("again after %(days)s", days=count_of(itinerary.again_days, "day")),
        "any": Wording("each time"),
    }[itinerary.again]


def as_text(itinerary: Itinerary, names: Names) -> str:
    """The whole itinerary as numbered instructions, one a line."""
    numbers = numbered(itinerary)
    lines = [f"Starts when {start_words(itinerary, names)} ({again_words(itinerary)})"]

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

    tell(itinerary.steps, "")
    if itinerary.goal:
        did = names.events.get(itinerary.goal.event, _GONE)
        days = count_of(itinerary.goal.days, "day")
        lines.append(f"Goal: {did} within {days}")
    return "\n".join(lines)
