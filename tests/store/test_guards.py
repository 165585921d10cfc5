"""The guards in Python, in SQL and in NumPy say the same of everybody that can be, and what the
rules say in plain words."""

import itertools

import numpy as np
import pytest
import sqlalchemy as sa

from meadowrun.core.guardrails.guards import (
    GUARDS,
    OF_A_SEND,
    RULES,
    UNKNOWN,
    Facts,
    verdict_sql,
    verdicts,
)
from meadowrun.core.guardrails.outcomes import FINAL
from meadowrun.core.guardrails.verdict import verdict

NAMES = list(Facts._fields)
EITHER, ANY = (True, False), (True, False, None)
#: Everybody that can be: 27,648 kinds of people.
EVERYBODY = [
    Facts(*known)
    for known in itertools.product(EITHER, ANY, EITHER, EITHER, ANY, ANY, *[EITHER] * 7)
]


def in_plain_words(f, rule):
    """The rules once more, as somebody would write them down who knows neither guard nor table."""
    if f.suppressed:
        return "suppressed"
    if rule in ("agreed", "not_refused") and (f.channel_consent is False or f.consent is False):
        return "no_consent"
    if not f.has_address:
        return "no_address"
    if not f.address_usable:
        return "bad_address"
    if f.bounced:
        return "bounced_before"
    if rule == "agreed" and f.consent is None and f.channel_consent is not True:
        return "no_consent"
    if rule != "service" and f.paused:
        return "no_consent"
    if f.repeated_address:
        return "duplicate"
    if f.had_before:
        return "had_it"
    if f.too_late:
        return "late"
    if f.left_audience:
        return "left_audience"
    if f.held_out and rule != "service":
        return "held_out"
    return "control" if f.control else "go"


@pytest.mark.parametrize("rule", RULES)
def test_three_ways_say_the_same(database, rule):
    plain = [in_plain_words(facts, rule) for facts in EVERYBODY]
    assert [verdict(facts, rule).outcome for facts in EVERYBODY] == plain
    columns = {
        name: np.array(
            [
                UNKNOWN if (value := getattr(facts, name)) is None else int(value)
                for facts in EVERYBODY
            ],
            dtype=np.int8,
        )
        for name in NAMES
    }
    assert verdicts(columns, rule).tolist() == plain

    def row(number, facts):
        values = tuple(facts)
        said = ["NULL::boolean" if value is None else str(value) for value in values]
        return f"({number}, {', '.join(said)})"

    rows = ", ".join(row(number, facts) for number, facts in enumerate(EVERYBODY))
    with database.session() as session:
        said = session.scalars(
            sa.text(
                f"SELECT {verdict_sql(rule)} FROM (VALUES {rows}) f(number, {', '.join(NAMES)}) "
                "ORDER BY number"
            )
        ).all()
    assert said == plain
    assert set(plain) == {guard.outcome for guard in GUARDS if rule in guard.rules} | {"go"}


@pytest.mark.parametrize("rule", RULES)
def test_what_only_a_send_knows_may_be_left_out(rule):
    """Of a set of people nobody is a duplicate, had it before or is late, and nobody is in a
    control group."""
    plain = [
        in_plain_words(
            facts._replace(
                repeated_address=False,
                had_before=False,
                too_late=False,
                left_audience=False,
                held_out=False,
                control=False,
            ),
            rule,
        )
        for facts in EVERYBODY
    ]
    columns = {
        name: np.array(
            [
                UNKNOWN if (value := getattr(facts, name)) is None else int(value)
                for facts in EVERYBODY
            ],
            dtype=np.int8,
        )
        for name in NAMES
        if name not in OF_A_SEND
    }
    assert verdicts(columns, rule, OF_A_SEND).tolist() == plain
    assert not any(name in verdict_sql(rule, OF_A_SEND) for name in OF_A_SEND)


def test_every_guard_ends_in_an_outcome_of_a_tally():
    assert {guard.outcome for guard in GUARDS} <= FINAL
