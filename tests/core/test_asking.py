"""Conditions that words inside a text ask: their keys, and which of them a document names."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.content import asking
from meadowrun.core.content.compiled import CompileError, compile_document
from meadowrun.core.content.differences import differences
from meadowrun.core.content.document import empty, take
from meadowrun.core.content.fillins import TOKENS
from meadowrun.core.content.in_app import take_in_app
from meadowrun.core.content.lines import new_line
from meadowrun.core.content.rendering import Renderer

FARROW = {"kind": "field", "field": "town", "op": "is", "value": ["Farrow"]}
OFTEN = {
    "kind": "group",
    "match": "any",
    "lines": [FARROW, {"kind": "event", "event": "visited", "times": {"op": "at_least", "n": 2}}],
}


def test_what_says_the_same_has_one_key():
    numbered = {"id": "x1", **OFTEN, "lines": [{"id": "x2", **line} for line in OFTEN["lines"]]}
    turned = dict(reversed(list(OFTEN.items())))
    assert asking.key_of([OFTEN]) == asking.key_of([numbered]) == asking.key_of([turned])
    others = (
        [FARROW],
        [FARROW, OFTEN],
        [OFTEN, FARROW],
        [{**OFTEN, "match": "all"}],
        [{**OFTEN, "off": True}],
        [],
    )
    assert len({asking.key_of(lines) for lines in (*others, [OFTEN])}) == len(others) + 1


@given(
    st.lists(
        st.dictionaries(
            st.sampled_from(["kind", "field", "value"]),
            st.text(max_size=8) | st.integers() | st.lists(st.text(max_size=8), max_size=2),
        ),
        max_size=3,
    )
)
def test_every_key_can_stand_in_a_text(lines):
    key = asking.key_of(lines)
    made = take({"subject": f"{{% if when.{key} %}}a{{% endif %}}", "lines": []})
    assert asking.keys(asking.refs(made, []), []) == {key}


def test_keys_are_found_wherever_a_text_may_stand():
    only = new_line(
        "only", cases=[{"id": "c1", "name": "", "lines": [], "group": "", "content": []}]
    )
    lines = [
        only,
        new_line(
            "text", html="<p>{% if when.s1 and not when.kc1 %}a{% elif when.s2 %}b{% endif %}</p>"
        ),
        new_line(
            "columns", columns=[[new_line("heading", text="{% if when.s3 %}x{% endif %}")], []]
        ),
    ]
    document = empty() | {
        "preheader": "{% if when.s4 %}x{% endif %}",
        "lines": lines,
        "code": "{% if when.s5 %}<p></p>{% endif %}",
    }
    document["in_app"] = take_in_app(
        {
            "buttons": [
                {
                    "label": "{% if when.s6 %}Go{% else %}Come{% endif %}",
                    "act": "open",
                    "href": "https://x.example",
                }
            ]
        }
    )
    assert asking.keys(asking.refs(document, lines), lines) == {
        "s1",
        "s2",
        "s3",
        "s4",
        "s5",
        "s6",
    }, "a version's own answer is none"


def test_compiled_with_what_is_asked_and_not_without():
    document = take(
        {
            "subject": "{% if when.s1 %}Walk{% else %}Drive{% endif %} up",
            "text_only": True,
            "plain": "x",
            "lines": [],
        }
    )
    made = compile_document(document, "https://app.example", asked={"s1": [FARROW], "s2": [OFTEN]})
    assert made.conditions == {"s1": [FARROW]}
    render = Renderer(made).render
    assert [
        render({"token": dict.fromkeys(TOKENS, "t"), "when": {"s1": yes}}).subject
        for yes in (True, False)
    ] == ["Walk up", "Drive up"]
    with pytest.raises(CompileError, match="when.s1"):
        compile_document(document, "https://app.example")


def test_who_reads_words_is_a_difference_of_its_own():
    def said(html):
        line = new_line("text", html=html) | {"id": "l1"}
        return empty() | {"lines": [line]}

    before = said("<p>{% if when.s1 %}Walk{% endif %} up</p>")
    assert differences(before, said("<p>{% if when.s2 %}Walk{% endif %} up</p>")) == [
        "who reads some words of text of line 1 changed"
    ]
    assert differences(before, said("<p>{% if when.s2 %}Run{% endif %} up</p>")) == [
        "text of line 1 says “Run up”"
    ]
