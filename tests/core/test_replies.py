"""What answers to text messages mean."""

import pytest

from meadowrun.core.guardrails.replies import meaning


@pytest.mark.parametrize(
    "text",
    [
        "STOP",
        "stop",
        " Stop. ",
        "STOP please",
        "Please stop",
        "pls stop!!",
        "opt out",
        "optout",
        "Opt-out",
        "OPT OUT please",
        "opt me out",
        "ARRET",
        "Arrêt",
        "ＳＴＯＰ",
        "stop texting me",
        "Stop sending me these messages",
        "please stop texting me thanks",
        "unsubscribe me",
        "cancel",
        "END",
        "quit",
        "STOP ALL",
        "stopall",
        "Stop it now",
        "remove me from your list",
        "take me off your list",
        "no more texts",
        "Don’t text me again",
        "never contact me again",
        "STOP. I have asked before.",
        "stop, thanks",
        "I want to stop",
        "Bitte keine SMS mehr",
        "abmelden",
        "I would like to unsubscribe",
        "stop\n\nSent from my phone",
    ],
)
def test_stop(text):
    assert meaning(text) == "stop"


@pytest.mark.parametrize(
    "text",
    [
        "yes",
        "Yes please",
        "",
        "👍",
        "don't stop",
        "please do not unsubscribe me",
        "When does it stop?",
        "Is there a bus stop near?",
        "can we stop by tonight",
        "What time does it end?",
        "The stop watch is great",
        "Thanks!",
        "ok",
        "how do I cancel my booking for Friday",
        "no",
        "I will not stop coming",
        "See you at the end of the road",
        "never mind",
        "text me the address",
    ],
)
def test_nothing_that_concerns_what_somebody_gets(text):
    assert meaning(text) == ""


@pytest.mark.parametrize("text", ["START", "start", "Unstop", "start again"])
def test_start(text):
    assert meaning(text) == "start"
