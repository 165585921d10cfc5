"""When an in-app message may be shown and what comes of it: worked out by hand."""

import datetime as dt

import pytest
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.channels import beginning, checks_of, take_for
from meadowrun.core.content import in_app as in_app_messages
from meadowrun.core.content.compiled import compile_document
from meadowrun.core.content.document import DocumentError
from meadowrun.core.content.fillins import TOKENS
from meadowrun.core.content.findings import MUST, About
from meadowrun.core.content.lines import new_line
from meadowrun.core.content.onpage import on_page
from meadowrun.core.content.rendering import Renderer

NOW = dt.datetime(2026, 11, 23, 9, tzinfo=dt.UTC)
DAY = dt.timedelta(days=1)
OPEN = {"label": "Join", "act": "open", "href": "https://farrowhill.example/join"}
LATER = {"label": "Cancel", "act": "later", "days": 7}


def in_app(**given):
    return in_app_messages.take_in_app({"buttons": [OPEN, LATER]} | given)


def document(**given):
    made = beginning("in_app", "Farrow Hill", "STOP")
    return take_for(
        "in_app",
        made
        | {
            "subject": "Join us",
            "lines": [new_line("heading", text="Hello {{ contact.first_name }}")],
            "in_app": in_app(**given),
        },
    )


@pytest.mark.parametrize(
    "settings, place, event, page, overtaken, expected",
    [
        ({}, in_app_messages.Place(), "page_viewed", "/", False, "show"),
        ({}, in_app_messages.Place(), "ticket_bought", "", False, "other"),
        ({"event": "ticket_bought"}, in_app_messages.Place(), "ticket_bought", "", False, "show"),
        ({"page": "/join"}, in_app_messages.Place(), "page_viewed", "/tickets", False, "other"),
        ({"page": "/join"}, in_app_messages.Place(), "page_viewed", "/join/?x=1", False, "show"),
        ({"page": "/tick*"}, in_app_messages.Place(), "page_viewed", "/tickets/two", False, "show"),
        ({"from": "2026-11-24"}, in_app_messages.Place(), "page_viewed", "/", False, "outside"),
        (
            {"from": "2026-11-23", "until": "2026-11-23"},
            in_app_messages.Place(),
            "page_viewed",
            "/",
            False,
            "show",
        ),
        ({"until": "2026-11-22"}, in_app_messages.Place(), "page_viewed", "/", False, "outside"),
        # somebody elsewhere on a page of no interest is not told of as outside
        (
            {"until": "2026-11-22", "page": "/join"},
            in_app_messages.Place(),
            "page_viewed",
            "/",
            False,
            "other",
        ),
        (
            {"unless": "membership_started"},
            in_app_messages.Place(),
            "page_viewed",
            "/",
            True,
            "overtaken",
        ),
        (
            {"times": 2},
            in_app_messages.Place(times=2, last_at=NOW - 9 * DAY),
            "page_viewed",
            "/",
            False,
            "enough",
        ),
        (
            {"times": 2},
            in_app_messages.Place(times=1, last_at=NOW - DAY),
            "page_viewed",
            "/",
            False,
            "show",
        ),
        (
            {"times": 2, "gap_days": 2},
            in_app_messages.Place(times=1, last_at=NOW - DAY),
            "page_viewed",
            "/",
            False,
            "soon",
        ),
        (
            {"times": 2},
            in_app_messages.Place(not_before=NOW + DAY),
            "page_viewed",
            "/",
            False,
            "put_off",
        ),
        ({"times": 2}, in_app_messages.Place(not_before=NOW), "page_viewed", "/", False, "show"),
        ({}, in_app_messages.Place(ended=True), "page_viewed", "/", True, "ended"),
    ],
)
def test_when_it_is_shown(settings, place, event, page, overtaken, expected):
    assert (
        in_app_messages.may_show(in_app(**settings), place, event, page, NOW, NOW.date(), overtaken)
        == expected
    )


def test_what_a_button_makes_of_it():
    seen = in_app_messages.Place(times=1, last_at=NOW)
    # Putting it off loses nothing: even an in-app message that is shown once comes again.
    later = in_app_messages.after(seen, in_app()["buttons"][1], NOW)
    assert later == in_app_messages.Place(times=0, last_at=None, not_before=NOW + 7 * DAY)
    assert (
        in_app_messages.may_show(
            in_app(), later, "page_viewed", "/", NOW + 6 * DAY, NOW.date(), False
        )
        == "put_off"
    )
    assert (
        in_app_messages.may_show(
            in_app(), later, "page_viewed", "/", NOW + 7 * DAY, NOW.date(), False
        )
        == "show"
    )
    assert in_app_messages.after(seen, in_app()["buttons"][0], NOW).ended
    for act in ("allow", "event"):
        assert in_app_messages.after(seen, {"act": act}, NOW).ended
    assert (
        in_app_messages.after(seen, None, NOW)
        == seen
        == in_app_messages.after(seen, {"act": "close"}, NOW)
    )


def test_of_two_the_one_that_ends_first_comes_then_the_newest():
    assert (
        in_app_messages.first_of(
            [(in_app(), 9), (in_app(until="2026-12-01"), 3), (in_app(until="2026-11-30"), 1)]
        )
        == 2
    )
    assert in_app_messages.first_of([(in_app(), 3), (in_app(), 9), (in_app(), 5)]) == 1


@given(
    st.lists(st.sampled_from(["come", "later", "close", "day", "week"]), max_size=40),
    st.integers(1, 5),
    st.integers(0, 3),
)
def test_it_never_comes_oftener_than_it_may(deeds, times, gap):
    """Shown at most so often besides being put off, and never twice within its days between."""
    made, place, now, counted, last = (
        in_app(times=times, gap_days=gap),
        in_app_messages.Place(),
        NOW,
        0,
        None,
    )
    for deed in deeds:
        now += {"day": DAY, "week": 7 * DAY}.get(deed, dt.timedelta(minutes=1))
        if (
            deed in ("day", "week")
            or in_app_messages.may_show(made, place, "page_viewed", "/", now, now.date(), False)
            != "show"
        ):
            continue
        if deed == "later":
            place = in_app_messages.after(
                in_app_messages.Place(place.times + 1, now), made["buttons"][1], now
            )
            last = None
            continue
        assert last is None or now - last >= gap * DAY
        place, counted, last = (
            in_app_messages.after(in_app_messages.Place(place.times + 1, now), None, now),
            counted + 1,
            now,
        )
    assert counted <= times


@pytest.mark.parametrize(
    "given, slot",
    [
        ({"buttons": [OPEN] * 3}, "buttons"),
        ({"from": "tomorrow"}, "from"),
        ({"event": "Bad Name"}, "event"),
        ({"times": "often"}, "times"),
        ({"buttons": [{"label": "{{ nothing.here }", "act": "open"}]}, "buttons.0.label"),
        ({"unless": "x y"}, "unless"),
        ({"buttons": [LATER | {"days": "soon"}]}, "buttons.0.days"),
    ],
)
def test_what_cannot_be_taken_names_the_place(given, slot):
    with pytest.raises(DocumentError) as problem:
        in_app_messages.take_in_app(given)
    assert (problem.value.line, problem.value.slot) == ("in_app", slot)


def test_limits_are_kept_and_strangers_left_out():
    made = in_app_messages.take_in_app(
        {
            "times": 4000,
            "gap_days": -3,
            "shape": "round",
            "buttons": [{"act": "explode", "days": 9999}],
            "evil": 1,
        }
    )
    assert (
        made["times"],
        made["gap_days"],
        made["shape"],
        made["buttons"][0]["act"],
        made["buttons"][0]["days"],
    ) == (50, 0, "box", "open", 365)
    assert "evil" not in made


def said(**given):
    return [
        c.text
        for c in checks_of(
            "in_app",
            document(**given),
            About(known={"contact.first_name": "first name"}, events={"ticket_bought"}),
        )
    ]


def test_checks():
    assert said(until="2026-12-24") == []
    assert any("no last day" in text for text in said())
    for changed, words in (
        ({"until": "2026-01-01", "from": "2026-02-01"}, "last day is before"),
        ({"buttons": []}, "no button"),
        ({"buttons": [OPEN | {"href": "nowhere"}]}, "does not begin with https"),
        ({"buttons": [OPEN | {"label": ""}]}, "no text"),
        ({"event": "lecture_heard"}, "does not exist"),
        ({"buttons": [{"label": "Yes", "act": "event"}]}, "none was chosen"),
        ({"unless": "gone"}, "does not exist"),
        ({"times": 3, "gap_days": 0}, "without a day between"),
        (
            {"buttons": [OPEN | {"label": "Words that are far too long for a phone"}]},
            "phones break",
        ),
    ):
        assert any(words in text for text in said(**({"until": "2026-12-24"} | changed))), words
    empty = document(until="2026-12-24") | {"lines": [], "subject": ""}
    assert [c.slot for c in checks_of("in_app", empty, About()) if c.level == MUST] == [
        "subject",
        "add",
    ]


def test_compiled_every_button_that_counts_is_a_link():
    made = compile_document(
        document(buttons=[OPEN | {"href": "https://farrowhill.example/{{ contact.town }}"}, LATER]),
        "https://app.example",
    )
    assert [(link.number, link.label, link.href) for link in made.links] == [
        (0, "Join", "https://farrowhill.example/{{ contact.town }}")
    ]
    assert {"contact.first_name", "contact.town"} <= set(made.refs)
    again = type(made).from_json(made.to_json())
    assert again == made
    shown = Renderer(again).render(
        {
            "contact": {"first_name": "<b>", "town": "Farrow"},
            "token": dict.fromkeys(TOKENS, "TOKEN"),
        }
    )
    assert (
        shown.in_app["buttons"][0]["href"] == "https://app.example/c/TOKEN/0"
        and shown.in_app["buttons"][1]["act"] == "later"
    )
    assert (
        "Hello &lt;b&gt;" in shown.html
        and "/u/" not in shown.html
        and "Unsubscribe" not in shown.text
    )
    event = compile_document(
        document(buttons=[{"label": "I was there", "act": "event", "event": "lecture_heard"}]),
        "https://app.example",
    )
    assert [(link.label, link.href) for link in event.links] == [("I was there", "")]


def test_drawn_on_a_page():
    made = compile_document(
        document(buttons=[OPEN | {"label": "<i>Join</i>"}]), "https://app.example", tracked=False
    )
    shown = Renderer(made).render(
        {"contact": {"first_name": "Ann", "town": ""}, "token": dict.fromkeys(TOKENS, "")}
    )
    page = on_page(shown.html, shown.in_app, document()["settings"])
    assert (
        "&lt;i&gt;Join&lt;/i&gt;" in page
        and page.count("mr-in-app") == 2
        and page.index("Hello Ann") < page.index('class="mr-doing"')
    )
