"""Itineraries to begin from, by what they are for: without an audience, dates or messages.

Each message says what it should do; its author chooses or writes one for it.
"""

import dataclasses

from meadowrun.core.journeys import edit
from meadowrun.core.journeys.steps import (
    ExitStep,
    Itinerary,
    MessageStep,
    Path,
    Span,
    SplitStep,
    Step,
    TaskStep,
    WaitForStep,
    WaitStep,
)
from meadowrun.core.language import Wording


@dataclasses.dataclass(frozen=True, slots=True)
class Beginning:
    """An itinerary to begin from."""

    name: str
    #: when it is of use, in a sentence
    purpose: str
    steps: tuple[Step, ...]

    def itinerary(self) -> Itinerary:
        """It with ids of its own."""
        found = Itinerary()
        for step in self.steps:
            found = edit.add(found, step)
        return found


def _says(what: str) -> MessageStep:
    """A message that is still to be chosen."""
    return MessageStep("", 0, note=str(what))


def _days(count: int, hour: int | None = None) -> WaitStep:
    """A wait of some days, until an hour of their own day."""
    return WaitStep("", Span(count, "day"), None if hour is None else hour * 60)


def _if_they(
    reaction: str, days: int, then: tuple[Step, ...], otherwise: tuple[Step, ...]
) -> WaitForStep:
    """Two ways by whether they react to the message before."""
    ways = (Path("", then, reaction=reaction), Path("", otherwise))
    return WaitForStep("", Span(days, "day"), ways)


#: By their keys, in the order in which they are offered.
BEGINNINGS = {
    "welcome": Beginning(
        Wording("A welcome over two weeks"),
        Wording("Greet someone new, and show more to people who are curious."),
        (
            _says("welcome them"),
            _days(2, 10),
            _if_they("opened", 3, (_says("show them more"),), (_says("say it in other words"),)),
            _days(5, 10),
            _says("invite them"),
        ),
    ),
    "channels": Beginning(
        Wording("First steps over several channels"),
        Wording(
            "Help people set up an app or a service, one step per message, where they will see it."
        ),
        (
            _says("say what to do first, by email"),
            _days(1, 10),
            _says("the same in a text message"),
            _days(3, 17),
            _says("a push notification for those who have the app"),
        ),
    ),
    "remind": Beginning(
        Wording("Remind until they act"),
        Wording("Ask for something, remind twice, and stop once it is done."),
        (
            _says("ask for it"),
            _if_they(
                "clicked",
                3,
                (ExitStep(""),),
                (
                    _says("remind them"),
                    _if_they("clicked", 4, (ExitStep(""),), (_says("remind them once more"),)),
                ),
            ),
        ),
    ),
    "before": Beginning(
        Wording("Before something ends"),
        Wording("An agreement runs out: write in good time, write again, then have somebody call."),
        (
            _says("say in good time that it is ending"),
            _days(14, 10),
            _says("make it easy to go on"),
            _days(7, 10),
            TaskStep("", "call", str(Wording("Ask whether they want to go on")), Span(3, "day")),
        ),
    ),
    "after": Beginning(
        Wording("After a visit"),
        Wording("Thank people who came, and invite them again."),
        (
            _days(1, 17),
            _says("thank them"),
            _days(5, 10),
            _says("invite them again"),
        ),
    ),
    "looked": Beginning(
        Wording("Looked, did not buy"),
        Wording("They nearly bought: a reminder while it is fresh, and one more."),
        (
            WaitStep("", Span(2, "hour")),
            _says("a reminder while it is fresh"),
            _days(2, 18),
            _says("answer what may be holding them back"),
        ),
    ),
    "back": Beginning(
        Wording("Win somebody back"),
        Wording("Not seen for a long time: ask, offer something, then leave them alone."),
        (
            _says("say that you miss them"),
            _if_they(
                "opened",
                7,
                (_says("what is new since"),),
                (_says("offer something"), _days(7), ExitStep("")),
            ),
        ),
    ),
    "event": Beginning(
        Wording("Around a day"),
        Wording("A lecture or an open night: invite, remind, and thank afterwards."),
        (
            _says("invite them"),
            _if_they("clicked", 5, (), (_says("invite them in other words"),)),
            _days(2, 10),
            _says("all that they need on the day"),
            _days(3, 10),
            _says("thank them, and ask how it was"),
        ),
    ),
    "survey": Beginning(
        Wording("Ask how it was, in two ways"),
        Wording("An enquiry is answered or a case closed: half get one wording, half the other."),
        (
            _days(1, 10),
            SplitStep(
                "",
                (
                    Path("", (_says("one question"),), percent=50),
                    Path("", (_says("a few questions"),), percent=50),
                ),
            ),
            _if_they("clicked", 4, (), (_says("ask once more"),)),
        ),
    ),
    "birthday": Beginning(
        Wording("A birthday"),
        Wording("Once a year, on the morning of their day. Let the date start it."),
        (_says("wish them a happy birthday"), _days(7, 10), _says("say what is left of a gift")),
    ),
    "lead": Beginning(
        Wording("From interest to a colleague"),
        Wording("Somebody asks for more: if they read on, a colleague gets them as a lead."),
        (
            _says("what they asked for"),
            _if_they(
                "clicked",
                4,
                (TaskStep("", "lead", str(Wording("Speak with them while they are interested"))),),
                (_says("an example that helps"), _days(5, 10), _says("offer to speak")),
            ),
        ),
    ),
    "bounced": Beginning(
        Wording("When an email does not arrive"),
        Wording("An important message bounces: a colleague asks for the right address."),
        (
            _says("what matters"),
            _if_they(
                "bounced",
                2,
                (TaskStep("", "call", str(Wording("Ask for their email address"))), ExitStep("")),
                (),
            ),
        ),
    ),
}
