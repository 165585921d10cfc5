"""The verdict, against a table written from the rules: a wish outranks a technical reason, unknown is not yes."""

import dataclasses
import itertools

import pytest

from meadowrun.core.guardrails.verdict import FINAL, OUTCOMES, WORDS, Facts, verdict

GOOD = Facts(True, True, False, False, None, True)


@pytest.mark.parametrize(("changed", "said"), [
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
    ({"channel_consent": False, "has_address": False}, "no_consent")])
def test_verdict(changed, said):
    assert verdict(dataclasses.replace(GOOD, **changed)) == said


def test_nobody_gets_anything_against_their_word_whatever_else_holds():
    for bools in itertools.product([True, False], repeat=5):
        for consent, channel in itertools.product([True, False, None], repeat=2):
            has, usable, suppressed, bounced, repeated = bools
            said = verdict(Facts(has, usable, suppressed, bounced, consent, channel, repeated))
            assert said == "go" or said in FINAL
            if suppressed or consent is False or channel is False or not has or not usable or bounced or repeated:
                assert said != "go"
            if consent is None and channel is None:
                assert said != "go"


def test_every_outcome_has_words():
    assert set(WORDS) == set(OUTCOMES)
