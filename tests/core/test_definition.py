import copy
import datetime as dt

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from meadowrun.core.audience import definition as d
from meadowrun.core.audience import edit, english
from meadowrun.core.audience.fields import DetailSpec, Dictionary, EventSpec, FieldSpec
from meadowrun.core.audience.operands import BLANK, OPERATORS
from meadowrun.core.audience.schema import schema
from tests.luck import tries

WORDS = Dictionary.of(
    [
        FieldSpec("membership", "membership", "choice", ("Single", "Household")),
        FieldSpec("renewal", "renewal date", "date"),
        FieldSpec("score", "score", "number"),
        FieldSpec("met", "met", "datetime"),
        FieldSpec("member", "member", "yes_no"),
        FieldSpec("interests", "interests", "choices", ("sky", "sea")),
        FieldSpec("company.kind", "kind", "choice", ("School",)),
    ],
    [
        EventSpec(
            1,
            "bought",
            "bought a ticket",
            "buy a ticket",
            (DetailSpec("amount", "amount", "number"), DetailSpec("night", "night", "text")),
        )
    ],
    named={"tag": {1: "night", 2: "night/dark", 3: "free"}, "topic": {4: "Sky diary"}},
)
TODAY = dt.date(2026, 11, 23)


def field(op, value=None, name="membership", **more):
    return {"id": "f1", "kind": "field", "field": name, "op": op, "value": value, **more}


def event(**more):
    return {"id": "e1", "kind": "event", "event": "bought", **more}


@pytest.mark.parametrize(
    ("line", "said"),
    [
        (field("is", ["Single", "Household"]), "whose membership is Single or Household"),
        (field("in_next", 60, "renewal"), "whose renewal date is within the next 60 days"),
        (field("blank", None, "town"), "whose town is blank"),
        (
            field("hours", ["18:00", "22:00"], "met"),
            "whose met falls, on any day, from 18:00 up to 22:00",
        ),
        (field("before", "2026-02-01", "met"), "whose met is before 1 Feb 2026"),
        (field("is", ["School"], "company.kind"), "whose company’s kind is School"),
        (field("contains", "tarn", "company.name"), "whose company’s name contains “tarn”"),
        (field("between", [1, 2000], "score"), "whose score is between 1 and 2,000"),
        (field("yes", None, "member"), "whose member is yes"),
        (field("before", "2026-02-01", "renewal"), "whose renewal date is before 1 Feb 2026"),
        (
            event(times={"op": "at_least", "n": 2}, span={"last": 90}),
            "who bought a ticket 2 times or more in the last 90 days",
        ),
        (event(did=False, span={"last": 1}), "who did not buy a ticket in the last 1 day"),
        (event(times={"op": "exactly", "n": 1}), "who bought a ticket exactly 1 time at any time"),
        (
            event(
                where=[{"detail": "amount", "op": "at_least", "value": 20}],
                span={"from": "2026-03-01"},
            ),
            "who bought a ticket at least once with amount at least 20 since 1 Mar 2026",
        ),
        (
            {"id": "g", "kind": "group", "match": "none", "lines": [field("is", ["Single"])]},
            "but not anyone whose membership is Single",
        ),
        (
            {
                "id": "g",
                "kind": "group",
                "match": "any",
                "lines": [field("is", ["Single"]), event()],
            },
            "for whom any of these holds",
        ),
        ({"id": "c", "kind": "consent", "topic": 4, "state": "agreed"}, "who agreed to Sky diary"),
        (
            {"id": "c", "kind": "consent", "topic": 4, "channel": "sms", "state": "refused"},
            "who said no to Sky diary in text messages",
        ),
        ({"id": "t", "kind": "tag", "tag": 1}, "who has the tag “night” or one inside it"),
        (
            {"id": "t", "kind": "tag", "tag": "free", "inside": False},
            "who does not have the tag “free”",
        ),
        (
            {"id": "m", "kind": "mail", "what": "opened", "of": {"tag": "free"}},
            "who opened any message tagged “free” at any time",
        ),
    ],
)
def test_a_line_reads_as_a_sentence(line, said):
    node = d.parse({"lines": [line]}, WORDS).lines[0]
    assert english.text(english.sentence(node, WORDS, TODAY)) == said


def test_the_real_days_of_a_moving_condition():
    node = d.parse({"lines": [field("in_next", 60, "renewal")]}, WORDS).lines[0]
    assert english.meaning_today(node, WORDS, TODAY) == "23 Nov 2026 – 22 Jan 2027"


def test_read_aloud_is_complete():
    lines = [
        field("is", ["Single"]),
        {
            "id": "g",
            "kind": "group",
            "match": "any",
            "lines": [event(span={"last": 7}), {**field("at_least", 5, "score"), "id": "f2"}],
        },
    ]
    assert english.read_aloud(d.parse({"lines": lines}, WORDS), WORDS, TODAY) == (
        "Everyone whose membership is Single and for whom any of these holds: (who bought a "
        "ticket at least once in the last "
        "7 days or whose score is at least 5)."
    )


@pytest.mark.parametrize(
    ("line", "why"),
    [
        (field("is", ["Single"], "vanished"), "no field called “vanished”"),
        (field("contains", "x"), "cannot be said of membership"),
        (field("is", []), "Choose at least one"),
        (field("at_least", "many", "score"), "is not a number"),
        (field("between", [5, 1], "score"), "comes after the second"),
        (field("on", "2026-02-30", "renewal"), "is not a date"),
        (event(times={"op": "at_least", "n": 0}), "needs a number from 1 up"),
        (event(span={"from": "2026-02-01", "to": "2026-01-01"}), "ends before it begins"),
        (
            event(where=[{"detail": "colour", "op": "is", "value": "x"}]),
            "has no detail called “colour”",
        ),
        ({"id": "x", "kind": "group", "match": "some", "lines": []}, "all, any or none"),
        ({"id": "!", "kind": "group", "match": "any", "lines": []}, "no usable id"),
        (
            {"id": "a", "kind": "share", "percent": 5, "salt": "x", "hours": ["18:00", "20:00"]},
            "no “hours”; it may have percent, salt",
        ),
        ("rubbish", "not an object"),
    ],
)
def test_what_cannot_be_taken_is_refused_with_a_reason(line, why):
    with pytest.raises(d.DefinitionError, match=why):
        d.parse({"lines": [line]}, WORDS)


def test_nesting_has_a_limit():
    node = {"id": "g0", "kind": "group", "match": "all", "lines": []}
    for depth in range(1, 70):
        node = {"id": f"g{depth}", "kind": "group", "match": "all", "lines": [node]}
    with pytest.raises(d.DefinitionError, match="nested at most"):
        d.parse({"lines": [node]}, WORDS)


def test_dump_and_parse_are_inverse():
    lines = [
        field("is", ["Single"]),
        event(did=False, span={"from": "2026-01-01"}, off=True),
        {
            "id": "g",
            "kind": "group",
            "match": "any",
            "lines": [{**field("between", ["2026-01-01", "2026-02-01"], "renewal"), "id": "f2"}],
        },
    ]
    parsed = d.parse({"lines": lines}, WORDS)
    assert d.parse(d.dump(parsed), WORDS) == parsed


class TestEdit:
    def start(self):
        return {
            "format": 1,
            "lines": [
                field("is", ["Single"]),
                {"id": "g1", "kind": "group", "match": "any", "lines": [event()]},
            ],
        }

    def test_adding_never_touches_the_old_one(self):
        old = self.start()
        new, touched = edit.apply(old, {"do": "add", "about": "field:score", "into": "g1"}, WORDS)
        assert old == self.start()
        assert new["lines"][1]["lines"][1] == {
            "id": touched,
            "kind": "field",
            "field": "score",
            "op": "at_least",
            "value": 1,
        }

    @pytest.mark.parametrize(
        "about",
        [
            "field:membership",
            "field:renewal",
            "field:score",
            "field:member",
            "field:interests",
            "field:town",
            "field:company.kind",
            "event:bought",
        ],
    )
    def test_every_new_line_is_a_valid_one(self, about):
        new, _ = edit.apply({"lines": []}, {"do": "add", "about": about}, WORDS)
        assert len(d.parse(new, WORDS).lines) == 1

    @pytest.mark.parametrize(
        ("name", "kind"),
        [
            ("membership", "choice"),
            ("renewal", "date"),
            ("score", "number"),
            ("town", "text"),
            ("interests", "choices"),
            ("member", "yes_no"),
        ],
    )
    def test_any_operator_after_any_other_leaves_a_valid_line(self, name, kind):
        ops = (*OPERATORS[kind], *BLANK)
        for first in ops:
            for second in ops:
                data, ident = edit.apply(
                    {"lines": []}, {"do": "add", "about": f"field:{name}"}, WORDS
                )
                for op in (first, second):
                    data, _ = edit.apply(
                        data, {"do": "set", "id": ident, "patch": {"op": op}}, WORDS
                    )
                    d.parse(data, WORDS)

    def test_lines_that_all_hold_stand_below_each_other(self):
        two = {
            "kind": "group",
            "match": "all",
            "lines": [
                {"kind": "event", "event": "bought"},
                {"kind": "event", "event": "bought", "did": False},
            ],
        }
        new, ident = edit.apply({"lines": []}, {"do": "add", "line": two}, WORDS)
        assert [line["kind"] for line in new["lines"]] == ["event", "event"] and new["lines"][0][
            "id"
        ] == ident
        # Either of two stays together; and so do two that are left out.
        new, _ = edit.apply({"lines": []}, {"do": "add", "line": two | {"match": "any"}}, WORDS)
        assert [line["kind"] for line in new["lines"]] == ["group"]
        new, _ = edit.apply({"lines": []}, {"do": "add", "line": two, "out": True}, WORDS)
        assert new["lines"][0]["match"] == "none" and new["lines"][0]["lines"][0]["match"] == "all"

    def test_leaving_people_out_and_taking_the_line_away_again(self):
        new, ident = edit.apply(
            self.start(), {"do": "add", "about": "event:bought", "out": True}, WORDS
        )
        assert new["lines"][2]["match"] == "none"
        back, _ = edit.apply(new, {"do": "remove", "id": ident}, WORDS)
        assert back == self.start()

    def test_moving_copying_and_switching_off(self):
        data, _ = edit.apply(self.start(), {"do": "down", "id": "f1"}, WORDS)
        assert [n["id"] for n in data["lines"]] == ["g1", "f1"]
        data, twin = edit.apply(data, {"do": "copy", "id": "g1"}, WORDS)
        assert data["lines"][1]["id"] == twin and data["lines"][1]["lines"][0]["id"] != "e1"
        data, _ = edit.apply(data, {"do": "switch", "id": "f1"}, WORDS)
        assert d.parse(data, WORDS).lines[2].off

    def test_what_is_gone_cannot_be_edited(self):
        with pytest.raises(d.DefinitionError, match="no longer there"):
            edit.apply(self.start(), {"do": "remove", "id": "zz"}, WORDS)


WHOLE = {
    "lines": [
        field("is", ["Single"]),
        field("between", [1, 2], "score") | {"id": "f2"},
        field("in_next", 60, "renewal") | {"id": "f3"},
        field("day_month", ["12-20", "01-06"], "renewal")
        | {"id": "f4", "compare": "letters", "off": False},
        event(
            times={"op": "at_least", "n": 2},
            span={"last": 90},
            where=[{"detail": "amount", "op": "at_least", "value": 20}],
        ),
        event(
            id="e2",
            span={"from": "2026-03-01", "to": "2026-04-01"},
            then={"event": "bought", "did": False, "days": 2},
        ),
        event(id="e3", total={"detail": "amount", "op": "at_least", "value": 20}),
        {
            "id": "m1",
            "kind": "mail",
            "what": "clicked",
            "did": True,
            "of": {"tag": "night"},
            "times": 2,
            "span": {"last": 3},
            "among": "sent",
        },
        {"id": "c1", "kind": "consent", "state": "agreed", "channel": "sms"},
        {"id": "r1", "kind": "reach", "channel": "email", "can": True},
        {"id": "s1", "kind": "share", "percent": 10, "salt": "abc"},
        {"id": "t1", "kind": "tag", "tag": 2, "inside": False},
        {
            "id": "g1",
            "kind": "group",
            "match": "any",
            "lines": [field("blank", None, "town") | {"id": "f5"}],
        },
    ]
}


def places(node, path=()):
    yield path
    for key, value in (
        node.items()
        if isinstance(node, dict)
        else enumerate(node)
        if isinstance(node, list)
        else ()
    ):
        yield from places(value, (*path, key))


rubbish = st.recursive(
    st.none()
    | st.booleans()
    | st.integers()
    | st.floats()
    | st.text(max_size=6)
    | st.sampled_from(["is", "last", "any", 10**30]),
    lambda inner: (
        st.lists(inner, max_size=3)
        | st.dictionaries(st.sampled_from(["op", "n", "last", "detail", "id", "x"]), inner)
    ),
    max_leaves=4,
)


@tries(400)
@given(st.sampled_from([path for path in places(WHOLE) if path]), rubbish)
@example(("lines", 7, "span"), [None, None])
@example(("lines", 4, "times"), "twice")
@example(("lines", 4, "where"), {"detail": "amount"})
@example(("lines", 7, "of"), "message")
def test_whatever_stands_anywhere_is_taken_or_refused_with_a_reason(path, thing):
    broken = copy.deepcopy(WHOLE)
    inner = broken
    for step in path[:-1]:
        inner = inner[step]
    inner[path[-1]] = thing
    try:
        made = d.parse(broken, WORDS)
    except d.DefinitionError as problem:
        assert str(problem)
        return
    assert d.dump(made) == d.dump(d.parse(d.dump(made), WORDS))
    assert english.read_aloud(made, WORDS, TODAY)


#: What the published description says a line of each kind may hold.
MEMBERS = {
    "group": {"lines", "match"},
    "field": {"compare", "field", "op", "value"},
    "event": {"did", "event", "span", "then", "times", "total", "where", "which"},
    "mail": {"among", "did", "latest", "link", "of", "span", "times", "what"},
    "consent": {"channel", "state", "topic"},
    "reach": {"can", "channel"},
    "list": {"inside", "list"},
    "segment": {"inside", "segment"},
    "grouping": {"inside", "group", "grouping"},
    "tag": {"inside", "tag"},
    "score": {"op", "score", "value"},
    "share": {"percent", "salt"},
}


def test_a_line_may_hold_what_the_schema_names():
    kinds = {
        one["properties"]["kind"]["enum"][0]: one["properties"].keys()
        for one in schema("x")["$defs"]["line"]["oneOf"]
    }
    assert kinds == {kind: members | {"id", "kind", "off"} for kind, members in MEMBERS.items()}
