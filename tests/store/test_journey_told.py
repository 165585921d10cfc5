"""What a line of a journey says became of its message: on which channel, and what was seen."""

import pytest

from meadowrun.core.journeys.steps import Itinerary, MessageStep, numbered
from meadowrun.core.journeys.words import Names
from meadowrun.journeys.figures import NOBODY, Did, Here, Numbers
from meadowrun.journeys.page import lanes

NAMES = Names({}, {}, {}, {}, {})
ALONE, SEVERAL = MessageStep("s1", 1), MessageStep("s1", 1, instead=(2, 3))


@pytest.mark.parametrize(
    ("step", "did", "said"),
    [
        (ALONE, {}, ""),
        (ALONE, {"email": Did(8, 4, 1)}, "8 of 10 sent, 50% opened"),
        (ALONE, {"push": Did(8, 0, 2)}, "8 of 10 sent, 25% tapped it"),
        # It was a push notification to nobody, and an email to all of them.
        (SEVERAL, {"email": Did(8, 4, 1)}, "8 of 10 sent, all by email, 50% opened"),
        (SEVERAL, {"push": Did(), "email": Did(8, 4, 1)}, "8 of 10 sent, all by email, 50% opened"),
        (
            SEVERAL,
            {"email": Did(2, 1, 1), "push": Did(3, 0, 1), "sms": Did(4, 0, 2)},
            "9 of 10 sent: 2 by email, 3 by push notification and 4 by text message",
        ),
    ],
)
def test_a_message_says_how_it_reached_people(step, did, said):
    itinerary = Itinerary(steps=(step,))
    numbers = Numbers(NOBODY, {"s1": Here(10)}, {}, {}, {"s1": did}, {}, {}, {}, {}, {})
    assert numbered(itinerary) == {"s1": "1"}
    [lane] = lanes(itinerary, NAMES, numbers, [])
    assert lane.rows[0].told == said
