"""Steps of journeys as people type them, each with the reading that must stand first and leave no
word out."""

import datetime as dt
import pathlib

import pytest

from meadowrun.core.journeys import typed
from meadowrun.core.journeys.steps import MessageStep, Span, TaskStep, WaitForStep
from meadowrun.core.journeys.words import Names, step_words
from tests.core.house import WORDS

LINES = [
    line.split(" => ")
    for line in pathlib.Path(__file__).with_name("typed_steps.txt").read_text("utf-8").splitlines()
    if not line.startswith("#")
]
NAMES = Names(
    messages={
        1: ("Welcome", "Email"),
        2: ("Get the sky app", "Text message"),
        3: ("Tonight", "Push notification"),
        4: ("Come back", "Email"),
    },
    segments={1: "Members", 2: "Dome regulars"},
    events={one.key: one.did for one in WORDS.events.values()},
    tags={1: "season/leonids", 2: "vip"},
    lists={1: "Open night guests"},
    topics={1: "Sky diary", 2: "Night alerts"},
    scores={1: "Interest"},
    colleagues={1: "Hetty Brook", 2: "Otto Lind"},
    journeys={1: "Win back", 2: "Renewal"},
    lanes={"": "A", "s9": "Sponsors"},
    words=WORDS,
    today=dt.date(2026, 11, 29),
)


@pytest.mark.parametrize(("text", "first"), LINES, ids=[line[0] for line in LINES])
def test_a_step_is_read_to_its_last_word(text, first):
    reading = typed.read(text, NAMES)[0]
    assert step_words(reading.step, NAMES) == first and reading.unused == ()


@pytest.mark.parametrize(
    ("text", "unused"),
    [
        ("wait a day or two", ("two",)),
        ("push Tonight to their phone", ("phone",)),
        ("wait until they click, then go on", ("go", "on")),
        ("send Come back to whoever did not open Welcome", ("whoever", "open", "Welcome")),
    ],
)
def test_what_is_not_understood_is_said(text, unused):
    assert typed.read(text, NAMES)[0].unused == unused


@pytest.mark.parametrize(
    ("text", "times", "span", "message"),
    [
        ("nudge them with Come back every 2 days until they renew, three times", 3, 2, 4),
        ("remind them every day with Welcome until they click, at most 4 times", 4, 1, 1),
        ("text Get the sky app again after 1 day if they have not clicked", 1, 1, 2),
        ("remind after 3 days with Come back", 1, 3, 4),
    ],
)
def test_a_reminder_waits_and_sends_so_often(text, times, span, message):
    step = typed.read(text, NAMES)[0].step
    for _ in range(times):
        assert isinstance(step, WaitForStep) and step.span == Span(span, "day")
        # Whoever did it has no steps of their own; the others are sent it.
        did, rest = step.paths
        assert did.steps == ()
        assert rest.steps[0] == MessageStep("", message)
        step = rest.steps[1] if len(rest.steps) > 1 else None
    assert step is None


def test_a_message_that_is_not_there_is_still_to_be_written():
    wanted = MessageStep("", 0, note="How was your night", channel="email")
    assert typed.read("email How was your night", NAMES)[0].step == wanted
    # Its name is kept as it is written.
    assert typed.read("send an email: A word to you", NAMES)[0].step.note == "A word to you"
    push = MessageStep("", 0, note="Clear skies", channel="push")
    assert typed.read("push Clear skies", NAMES)[0].step == push
    # Without a channel nobody knows what it should be.
    assert typed.read("send How was your night", NAMES) == []


@pytest.mark.parametrize(
    ("text", "step"),
    [
        (
            "task for Hetty and Otto: welcome them, within 1 day",
            TaskStep("", "task", "welcome them", Span(1, "day"), "usual", (1, 2)),
        ),
        (
            "have Hetty phone them tomorrow",
            TaskStep("", "call", "Call", Span(1, "day"), "usual", (1,)),
        ),
        (
            "create a lead for Hetty or Otto",
            TaskStep("", "lead", "Lead", Span(2, "day"), "usual", (1, 2)),
        ),
        (
            "appointment with Hetty: first visit",
            TaskStep("", "appointment", "first visit", Span(2, "day"), "usual", (1,)),
        ),
    ],
)
def test_a_task_is_for_whom_it_names(text, step):
    assert typed.read(text, NAMES)[0].step == step


def messages_of(step):
    """The message of each reminder, the first one first."""
    found = []
    while step is not None:
        reminder, *further = step.paths[-1].steps
        found.append(reminder.message)
        step = further[0] if further else None
    return found


@pytest.mark.parametrize(
    ("text", "messages"),
    [
        ("remind twice with Come back, then Welcome, until they buy a ticket", [4, 1]),
        ("remind with Come back then with Welcome every 2 days until they click", [4, 1]),
        ("remind 4 times with Welcome and then Come back until they open it", [1, 4, 4, 4]),
        ("remind twice with Come back, then Nobody wrote this, until they click", None),
    ],
)
def test_reminders_in_other_words_each_time(text, messages):
    found = typed.read(text, NAMES)[0]
    if messages is None:
        assert found.unused, "what is not understood is said"
    else:
        assert messages_of(found.step) == messages and found.unused == ()


def hours_of(step):
    """From and to which hour each reminder goes, the first one first; None: at any."""
    found = []
    while step is not None:
        reminder, *further = step.paths[-1].steps
        found.append(None if reminder.begins is None else (reminder.begins, reminder.ends))
        step = further[0] if further else None
    return found


@pytest.mark.parametrize(
    ("text", "hours"),
    [
        (
            "remind up to three times with Come back, 2 days apart, at 9:00, 12:30 and 18:00, "
            "until they buy a ticket",
            [(540, 600), (750, 810), (1080, 1140)],
        ),
        (
            "remind twice with Come back at 8am then 7pm until they open it",
            [(480, 540), (1140, 1200)],
        ),
        ("remind 3 times with Welcome at 23:30 until they click", [(1410, 1439)] * 3),
        ("remind twice with Welcome at 9:00 until they click", [(540, 600)] * 2),
        ("remind twice with Welcome until they click", [None, None]),
    ],
)
def test_reminders_go_at_another_hour_each_time(text, hours):
    reading = typed.read(text, NAMES)[0]
    assert isinstance(reading.step, WaitForStep) and reading.unused == ()
    assert hours_of(reading.step) == hours
