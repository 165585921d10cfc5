"""Points by rules, worked by hand."""

import datetime as dt
import zoneinfo

import pytest

from meadowrun.core import scores
from meadowrun.core.audience.dates import Clock
from meadowrun.core.audience.fields import DetailSpec, Dictionary, EventSpec, FieldSpec
from meadowrun.core.audience.judge import Judge
from meadowrun.core.audience.persons import Happening, Mail, Person, Reacted

NOW = dt.datetime(2026, 11, 23, 14, tzinfo=dt.UTC)
WORDS = Dictionary.of(
    [FieldSpec("tier", "tier", "choice", ("Patron",))],
    [EventSpec(1, "visited", "visited", "visit", (DetailSpec("amount", "amount", "number"),))],
    named={
        "score": {1: "Interest"},
        "segment": {1: "Keen", 2: "Keener"},
        "grouping": {1: "Parts"},
    },
    segment={
        1: {"lines": [{"id": "a", "kind": "score", "score": 1, "op": "at_least", "value": 1}]},
        2: {"lines": [{"id": "a", "kind": "segment", "segment": 1, "inside": True}]},
    }.get,
    grouping={
        1: [
            {
                "key": "p",
                "name": "P",
                "lines": [{"id": "a", "kind": "segment", "segment": 2, "inside": True}],
            }
        ]
    }.get,
)
VISIT = {"id": "v", "kind": "event", "event": "visited"}
PATRON = {"id": "p", "kind": "field", "field": "tier", "op": "is", "value": ["Patron"]}
CLICK = {"id": "c", "kind": "mail", "what": "clicked"}


def ago(days):
    return NOW - dt.timedelta(days=days)


def visits(*days):
    return tuple(Happening("visited", ago(d), {"amount": 24}) for d in days)


def mail(send, *clicks):
    return Mail(
        send, 1, 1, (), "delivered", ago(30), tuple(Reacted("clicked", ago(d)) for d in clicks)
    )


ANN = Person({"tier": "Patron"}, visits(0, 60, 120), mails=(mail(1, 10, 60), mail(2)))


@pytest.mark.parametrize(
    ("rules", "half_life", "parts"),
    [
        # Not fading: three visits of 5 points.
        ([{"points": 5, "each": True, "lines": [VISIT]}], None, [(15, 3)]),
        # 5 today, half after 60 days, a quarter after 120: 5 + 2.5 + 1.25.
        ([{"points": 5, "each": True, "lines": [VISIT]}], 60, [(8.75, 3)]),
        # The latest two only.
        ([{"points": 5, "each": True, "most": 2, "lines": [VISIT]}], 60, [(7.5, 2)]),
        # In the last 90 days there were two.
        ([{"points": 4, "each": True, "lines": [VISIT | {"span": {"last": 90}}]}], None, [(8, 2)]),
        # What holds does not fade; what does not hold gives nothing.
        (
            [
                {"points": 15, "lines": [PATRON]},
                {"points": -3, "lines": [PATRON | {"op": "is_not"}]},
            ],
            60,
            [(15, 1), (0, 0)],
        ),
        # One message was clicked twice: its first click counts, 60 days ago.
        ([{"points": 8, "each": True, "lines": [CLICK]}], 60, [(4, 1)]),
        # All lines of a rule must hold; one switched off does not count.
        (
            [
                {"points": 7, "lines": [PATRON, VISIT]},
                {"points": 7, "each": True, "lines": [VISIT, PATRON | {"off": True}]},
            ],
            None,
            [(7, 1), (21, 3)],
        ),
    ],
)
def test_what_each_rule_gives(rules, half_life, parts):
    found = scores.parts(
        scores.take_rules(rules, WORDS),
        [],
        ANN,
        Judge(WORDS, Clock(NOW, zoneinfo.ZoneInfo("UTC"))),
        half_life,
    )
    assert [(round(points, 6), times) for points, times in found] == [*parts, (0, 0)]


def test_points_given_by_hand_fade_and_those_of_tomorrow_count_whole():
    given = [scores.Given(10, ago(60)), scores.Given(-4, ago(-1))]
    assert scores.parts((), given, ANN, Judge(WORDS, Clock(NOW, zoneinfo.ZoneInfo("UTC"))), 60) == [
        (1.0, 2)
    ]


@pytest.mark.parametrize(
    ("rule", "says"),
    [
        ("x", "a rule is an object"),
        ({"points": 0, "lines": [VISIT]}, "at least 1"),
        ({"points": 1001, "lines": [VISIT]}, "up to 1,000"),
        ({"points": True, "lines": [VISIT]}, "up to 1,000"),
        ({"points": float("nan"), "lines": [VISIT]}, "up to 1,000"),
        ({"points": 5, "lines": []}, "what a rule gives its points for"),
        ({"points": 5, "lines": [VISIT | {"off": True}]}, "what a rule gives its points for"),
        ({"points": 5, "lines": "x"}, "list of lines"),
        ({"points": 5, "each": 1, "lines": [VISIT]}, "each time"),
        ({"points": 5, "each": True, "most": 0, "lines": [VISIT]}, "from 1 to 1,000"),
        ({"points": 5, "each": True, "lines": [PATRON]}, "while"),
        ({"points": 5, "each": True, "lines": [VISIT, PATRON]}, "while its lines"),
        ({"points": 5, "each": True, "lines": [VISIT | {"did": False}]}, "while"),
        ({"points": 5, "each": True, "lines": [VISIT | {"which": "first"}]}, "while its lines"),
        (
            {
                "points": 5,
                "lines": [{"id": "s", "kind": "score", "score": 1, "op": "at_least", "value": 1}],
            },
            "be circular",
        ),
        (
            {
                "points": 5,
                "lines": [
                    {
                        "id": "g",
                        "kind": "group",
                        "match": "any",
                        "lines": [{"id": "s", "kind": "segment", "segment": 2, "inside": True}],
                    }
                ],
            },
            "be circular",
        ),
        (
            {
                "points": 5,
                "lines": [
                    {"id": "s", "kind": "grouping", "grouping": 1, "group": "p", "inside": True}
                ],
            },
            "be circular",
        ),
        ({"points": 5, "lines": [VISIT | {"event": "flew"}]}, "no kind of event called “flew”"),
    ],
)
def test_what_is_no_rule_is_refused_with_its_place(rule, says):
    with pytest.raises(scores.ScoreProblem, match=f"(?i){says}") as refused:
        scores.take_rules([{"points": 5, "lines": [VISIT]}, rule], WORDS)
    assert refused.value.rule == 1


def test_rules_come_back_as_they_were_kept():
    rules = scores.take_rules(
        [
            {"points": 5, "each": True, "most": 3, "lines": [VISIT]},
            {"points": -2.5, "most": 9, "lines": [PATRON]},
        ],
        WORDS,
    )
    assert scores.take_rules(scores.dump_rules(rules), WORDS) == rules and rules[1].most is None, (
        "what counts while it holds counts once"
    )
    with pytest.raises(scores.ScoreProblem, match="at most 40 rules"):
        scores.take_rules([{"points": 1, "lines": [VISIT]}] * 41, WORDS)
