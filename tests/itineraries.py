"""Random itineraries, for tests that hold for any of them."""

import dataclasses

from hypothesis import strategies as st

from meadowrun.core.journeys.edit import add, add_lane
from meadowrun.core.journeys.steps import (
    BranchStep,
    ChangeStep,
    ExitStep,
    GoalStep,
    Itinerary,
    JumpStep,
    MessageStep,
    Path,
    Span,
    SplitStep,
    TaskStep,
    TellStep,
    WaitForStep,
    WaitStep,
    WebhookStep,
    Who,
)

spans = st.builds(Span, st.integers(1, 5), st.sampled_from(("minute", "hour", "day", "week")))
hours = st.one_of(st.none(), st.integers(0, 24 * 60 - 1))
waits = st.builds(
    WaitStep, st.just(""), spans, hours, st.one_of(st.none(), st.none(), st.integers(0, 6))
)
#: Waits for a date of the person, before or after it, of one year or of each.
dated = st.builds(
    WaitStep,
    st.just(""),
    spans,
    hours,
    st.none(),
    st.just("renewal"),
    st.booleans(),
    st.booleans(),
    st.sampled_from(("go_on", "exit")),
)
exits = st.builds(ExitStep, st.just(""))
#: Where whoever reaches the goal goes on from; inside of a path it takes nobody on.
goals = st.just(GoalStep(""))
#: To a journey that is not there: they leave all the same.
jumps = st.just(JumpStep("", 10**6))
tasks = st.just(TaskStep("", "call", "Ask how it was"))
tells = st.just(TellStep("", "Look at {{ contact.first_name }}"))
#: Its answer is made up by who uses it: nothing is called.
webhooks = st.builds(
    WebhookStep, st.just(""), st.just("https://shop.example/x"), st.sampled_from(("go_on", "exit"))
)
changes = st.builds(ChangeStep, st.just(""), st.just("tag"), st.just(1), st.booleans())
#: People of whom a line is true: here those who have a town.
SOMEWHERE = Who(lines=({"id": "t", "kind": "field", "field": "town", "op": "not_blank"},))

#: What a path asks of the event that started it: its amount.
MORE = {"detail": "amount", "compare": "more", "value": "4"}
NOT_THAT = {"detail": "amount", "compare": "is_not", "value": "2"}


def steps(messages=(1,), segments=(1,), events=("visited",)):
    """Strategies of steps that name some messages, segments and kinds of event."""
    message = st.builds(
        MessageStep,
        st.just(""),
        st.sampled_from(messages),
        st.just(168),
        st.sampled_from(("go_on", "exit")),
        instead=st.sampled_from(((), (), tuple(messages))),
    )
    simple = st.one_of(
        message,
        waits,
        waits,
        dated,
        message,
        exits,
        st.one_of(jumps, tasks, tells, changes, webhooks),
        goals,
    )
    # One in five is switched off: people pass it by.
    simple = st.builds(_switched, simple, st.sampled_from((False,) * 4 + (True,)))
    return st.recursive(simple, lambda inner: _parting(inner, segments, events), max_leaves=6)


def _switched(step, off):
    return dataclasses.replace(step, off=off)


def _parting(inner, segments, events):
    inside = st.lists(inner, max_size=2).map(tuple)
    other = st.builds(Path, st.just(""), inside)
    fits = st.builds(
        lambda held, who, asked: Path("", held, who, **asked),
        inside,
        st.sampled_from((*map(Who, segments), SOMEWHERE)),
        st.sampled_from(({}, {}, MORE, NOT_THAT)),
    )
    happened = st.one_of(
        st.builds(lambda held, key: Path("", held, event=key), inside, st.sampled_from(events)),
        st.builds(
            lambda held, did: Path("", held, reaction=did),
            inside,
            st.sampled_from(("opened", "clicked", "replied")),
        ),
    )
    halves = st.builds(
        lambda one, two, share: (
            Path("", one, percent=share),
            Path("", two, percent=100 - share),
        ),
        inside,
        inside,
        st.integers(1, 99),
    )
    return st.one_of(
        st.builds(lambda a, b: BranchStep("", (a, b)), fits, other),
        st.builds(lambda span, a, b: WaitForStep("", span, (a, b)), spans, happened, other),
        st.builds(
            lambda span, a, b, c: WaitForStep("", span, (a, b, c)),
            spans,
            happened,
            happened,
            other,
        ),
        halves.map(lambda paths: SplitStep("", paths)),
    )


def itineraries(**named):
    """Itineraries of a few steps, each with an id of its own."""

    def made(found):
        whole = Itinerary()
        for step in found:
            whole = add(whole, step)
        return whole

    return st.lists(steps(**named), min_size=1, max_size=5).map(made)


def in_lanes(**named):
    """Itineraries of one to three lanes, the second of which may have no step."""

    def made(whole, beside):
        for place, found in enumerate(beside):
            whole = add_lane(whole, f"Lane {place}" if place else "")
            for step in found:
                whole = add(whole, step, whole.beside[-1].id)
        return whole

    beside = st.lists(st.lists(steps(**named), max_size=3), max_size=2)
    return st.builds(made, itineraries(**named), beside)
