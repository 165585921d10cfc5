"""What the village's people make of texts, push notifications and in-app messages: from their
hidden truth, the same whenever asked."""

import datetime as dt

import pytest
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.village import minds
from meadowrun.village.store import Resident

SENT = dt.datetime(2026, 11, 23, 14, tzinfo=dt.UTC).timestamp()
KEEN = Resident("keen@post.example", "takes", 1.0, 1.0, 1.0, 0.0, 0.0, False, 18)
COLD = Resident("cold@post.example", "takes", 0.0, 0.0, 0.0, 0.0, 0.0, False, 18)
GONE = Resident("gone@post.example", "takes", 1.0, 1.0, 1.0, 1.0, 0.0, False, 18)
TEXT = "Clear tonight: http://127.0.0.1:1/s/abc0 and http://127.0.0.1:1/s/abc1 STOP ends these"
NOTICE = {
    "title": "Clear tonight",
    "url": "http://127.0.0.1:1/c/t/0",
    "buttons": [{"label": "Book", "href": "http://127.0.0.1:1/c/t/1"}],
}
OPEN, LATER, RECORD = ({"label": "x", "act": act, "href": ""} for act in ("open", "later", "event"))


def deeds(plans):
    return [plan.deed for plan in plans]


def test_texts():
    tap, spend = minds.of_text(KEEN, "7", "k1", "+441632960801", TEXT, SENT)
    assert (tap.deed, tap.detail) == ("tap", {"link": "http://127.0.0.1:1/s/abc0", "contact": "7"})
    assert (
        spend.deed == "spend"
        and spend.detail["contact"] == "7"
        and spend.detail["amount"] in minds.AMOUNTS
    )
    assert SENT < tap.due < spend.due
    (stop,) = minds.of_text(GONE, "7", "k1", "+441632960801", TEXT, SENT)
    assert (stop.deed, stop.detail) == ("answer", {"number": "+441632960801", "text": "Stop"})
    assert minds.of_text(COLD, "7", "k1", "+441632960801", TEXT, SENT) == []
    assert minds.of_text(KEEN, "7", "k1", "+441632960801", "No link here", SENT) == []
    assert minds.of_text(GONE, "7", "k1", "+441632960801", f"[Proof] {TEXT}", SENT) == []


def test_notifications():
    chosen = {
        minds.of_notification(KEEN, "7", f"k{n}", NOTICE, SENT)[0].detail["link"] for n in range(40)
    }
    assert chosen == {NOTICE["url"], NOTICE["buttons"][0]["href"]}, (
        "most often the push notification, now and then its button"
    )
    assert minds.of_notification(COLD, "7", "k", NOTICE, SENT) == []
    assert (
        minds.of_notification(KEEN, "7", "k", NOTICE | {"title": "[Proof] Clear tonight"}, SENT)
        == []
    )
    assert (
        minds.of_notification(KEEN, "7", "k", {"title": "It opens the app", "url": ""}, SENT) == []
    )


@pytest.mark.parametrize(
    ("buttons", "wanted"),
    [
        ([OPEN, LATER], {(True, 0)}),
        ([LATER, RECORD], {(True, 1)}),
        ([], {(True, None), (False, None)}),
    ],
)
def test_in_app_messages_by_who_is_keen(buttons, wanted):
    assert {minds.of_in_app(KEEN, f"t{n}", buttons, "m") for n in range(40)} == wanted


def test_in_app_messages_by_who_is_not():
    said = [minds.of_in_app(COLD, f"t{n}", [OPEN, LATER], "m") for n in range(200)]
    assert set(said) == {(True, 1), (True, None), (False, None)}
    assert 50 < said.count((True, 1)) < 110, "two in five postponed it"


@given(st.text(min_size=1), st.floats(0, 1), st.floats(0, 1))
def test_the_same_whenever_asked(key, clicks, leaves):
    one = Resident("a@post.example", "takes", 1.0, clicks, 0.5, leaves, 0.0, False, 18)
    plans = minds.of_text(one, "7", key, "1", TEXT, SENT)
    assert plans == minds.of_text(one, "7", key, "1", TEXT, SENT) and all(
        plan.due > SENT for plan in plans
    )
    assert minds.of_in_app(one, key, [OPEN, LATER], "m") == minds.of_in_app(
        one, key, [OPEN, LATER], "m"
    )


@given(st.integers(0, 3000), st.floats(0, 30))
def test_strolls(count, days):
    people = [str(n) for n in range(count)]
    plans = minds.strolls(people, SENT, SENT + days * 86_400)
    assert abs(len(plans) - min(count, count / minds.STROLLS * days)) <= 1
    assert all(
        SENT <= plan.due <= SENT + days * 86_400 and plan.detail["contact"] in set(people)
        for plan in plans
    )
    assert [plan.due for plan in plans] == sorted(plan.due for plan in plans)
