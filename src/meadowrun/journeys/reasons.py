"""Why people went on in a journey, or are not inside any more, in words."""

from collections.abc import Callable

from meadowrun.core.guardrails.outcomes import WORDS
from meadowrun.core.journeys.steps import Itinerary
from meadowrun.core.journeys.words import Names, exit_words
from meadowrun.core.language import Wording

#: Why people are not inside any more, in words.
ENDS = {
    "end": Wording("came to the end"),
    "jumped": Wording("went over to another journey or lane"),
    "failed": Wording("the other server did not answer, or refused"),
    "exit": Wording("exited"),
    "goal": Wording("reached the goal"),
    "withdrew": Wording("withdrew all consent"),
    "by_hand": Wording("taken out by hand"),
    "merged": Wording("merged into another record"),
    "erased": Wording("erased"),
    "ended": Wording("the journey was ended"),
    "removed": Wording("their step was removed"),
}
#: Why somebody went on, in words.
WHY = {
    "start": Wording("came in"),
    "by_hand": Wording("brought in by hand"),
    "jumped_in": Wording("came over from another journey or lane"),
    "time": Wording("the time was up"),
    "answered": Wording("the other server answered"),
    "failed": Wording("the other server did not answer, or refused"),
    "past": Wording("the moment to wait for had passed, or there was none"),
    "done": Wording("done"),
    "sent": Wording("it was sent"),
    "edited": Wording("the step was removed"),
    **{key: word for key, word in ENDS.items() if key not in ("by_hand",)},
}


def ends(itinerary: Itinerary, names: Names) -> Callable[[str], str]:
    """Says why somebody is not inside any more."""
    rules = {rule.id: exit_words(rule, names) for rule in itinerary.exits}
    return lambda because: (
        ENDS.get(because) or rules.get(because) or WORDS.get(because) or _no_rule(because)
    )


def _no_rule(because: str) -> str:
    """What is said of an exit rule that was taken away since."""
    return Wording("an exit rule that is gone") if because[:1] == "s" else because
