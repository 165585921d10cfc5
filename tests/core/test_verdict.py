"""The verdict, against a table written from the rules: a wish outranks a technical reason, unknown
is not yes."""

import datetime as dt
import itertools

import pytest

from meadowrun.core.channels import CHANNEL_WORDS
from meadowrun.core.guardrails.guards import GUARDS
from meadowrun.core.guardrails.outcomes import (
    FINAL,
    OUTCOMES,
    REASONS,
    WORDS,
    lack_words,
    reason_words,
    rule_words,
)
from meadowrun.core.guardrails.verdict import GO, RULES, Facts, not_before, verdict

GOOD = Facts(True, True, False, False, None, True)


@pytest.mark.parametrize(
    ("changed", "said"),
    [
        ({}, "go"),
        ({"consent": True, "channel_consent": None}, "go"),
        ({"consent": False}, "no_consent"),
        ({"channel_consent": False, "consent": True}, "no_consent"),
        ({"channel_consent": None}, "no_consent"),
        ({"suppressed": True, "channel_consent": False}, "suppressed"),
        ({"has_address": False, "address_usable": False}, "no_address"),
        ({"address_usable": False}, "bad_address"),
        ({"bounced": True}, "bounced_before"),
        ({"repeated_address": True}, "duplicate"),
        ({"repeated_address": True, "bounced": True}, "bounced_before"),
        ({"channel_consent": False, "has_address": False}, "no_consent"),
    ],
)
def test_verdict(changed, said):
    assert verdict(GOOD._replace(**changed)).outcome == said


def test_nobody_gets_anything_against_their_word_whatever_else_holds():
    for bools in itertools.product([True, False], repeat=5):
        for consent, channel in itertools.product([True, False, None], repeat=2):
            has, usable, suppressed, bounced, repeated = bools
            said = verdict(
                Facts(has, usable, suppressed, bounced, consent, channel, repeated)
            ).outcome
            assert said == "go" or said in FINAL
            if (
                suppressed
                or consent is False
                or channel is False
                or not has
                or not usable
                or bounced
                or repeated
            ):
                assert said != "go"
            if consent is None and channel is None:
                assert said != "go"


@pytest.mark.parametrize(
    ("consent", "channel", "agreed", "not_refused", "service"),
    [
        (True, True, "go", "go", "go"),
        (None, True, "go", "go", "go"),
        (True, None, "go", "go", "go"),
        (None, None, "no_consent", "go", "go"),
        (False, True, "no_consent", "no_consent", "go"),
        (True, False, "no_consent", "no_consent", "go"),
        (False, False, "no_consent", "no_consent", "go"),
    ],
)
def test_who_may_get_it_by_rule(consent, channel, agreed, not_refused, service):
    facts = GOOD._replace(consent=consent, channel_consent=channel)
    assert tuple(verdict(facts, rule).outcome for rule in RULES) == (agreed, not_refused, service)


def test_no_rule_writes_to_whom_nothing_can_reach():
    for changed in (
        {"suppressed": True},
        {"bounced": True},
        {"has_address": False},
        {"address_usable": False},
        {"repeated_address": True},
    ):
        assert all(verdict(GOOD._replace(**changed), rule).outcome != "go" for rule in RULES)


def test_rules_in_words():
    assert rule_words("agreed", "email", True) == "everyone who agreed to it, or to all email"
    assert rule_words("not_refused", "sms") == "everyone who did not say no to text messages"
    assert all(rule_words(rule, channel) for rule in RULES for channel in CHANNEL_WORDS)


@pytest.mark.parametrize(
    ("channel", "outcome", "words"),
    [
        ("email", "no_consent", "did not agree to it"),
        ("email", "bounced_before", "whose address bounced"),
        ("sms", "no_address", "without a phone number"),
        ("sms", "bad_address", "with an unusable number"),
        ("sms", "suppressed", "suppressed"),
        ("push", "no_address", "without a device that allows them"),
        ("in_app", "no_consent", "said no to them"),
    ],
)
def test_why_people_of_a_set_cannot_be_reached(channel, outcome, words):
    assert lack_words(channel)[outcome] == words
    assert set(lack_words(channel)) <= FINAL


def test_every_outcome_has_words():
    assert set(WORDS) == set(OUTCOMES)


@pytest.mark.parametrize(
    ("changed", "because", "stood_on"),
    [
        (
            {"channel_consent": False, "consent": True},
            "refused_channel",
            {"channel_consent": False},
        ),
        ({"consent": False}, "refused_topic", {"consent": False}),
        ({"channel_consent": None}, "never_asked", {"consent": None, "channel_consent": None}),
        ({"bounced": True}, "bounced", {"bounced": True}),
        ({"control": True}, "control_group", {"control": True}),
    ],
)
def test_the_reason_is_kept_with_what_it_stood_on(changed, because, stood_on):
    said = verdict(GOOD._replace(**changed))
    assert (said.because, dict(said.stood_on), said.until) == (because, stood_on, None)
    assert said.to_json() == {"because": because, **stood_on}


def test_what_waits_says_until_when_and_why():
    moment = dt.datetime(2026, 11, 29, 9, tzinfo=dt.UTC)
    said = not_before(moment, "feed")
    assert (said.outcome, said.until, said.goes, said.to_json()) == (
        "waiting",
        moment,
        False,
        {"because": "feed"},
    )
    assert GO.goes and GO.to_json() == {"because": ""}


def test_every_reason_has_words_on_every_channel():
    assert {guard.reason for guard in GUARDS} <= set(REASONS)
    assert reason_words({"because": "refused_channel"}, "sms") == "said no to all text messages"
    assert all(
        reason_words({"because": why}, channel)
        and "{" not in reason_words({"because": why}, channel)
        for why in REASONS
        for channel in CHANNEL_WORDS
    )
    assert reason_words(None, "email") == reason_words({"because": "unheard of"}, "email") == ""
