"""Whatever stands anywhere in a message's document is taken, cleaned, or refused with a reason; what is taken can be used."""

import copy

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from meadowrun.core.content.channels import beginning, checks_of, take_for
from meadowrun.core.content.checks import About
from meadowrun.core.content.compiled import CompileError, compile_document
from meadowrun.core.content.document import DocumentError
from meadowrun.core.content.lines import LINE_TYPES, new_line
from tests.core.test_definition import places


def whole(channel):
    """A document of a channel with everything it may hold."""
    made = beginning(channel, "Farrow Hill", "STOP") | {"subject": "Hello", "preheader": "Look"}
    if channel in ("email", "card"):
        made["lines"] = [new_line(kind) | {"id": f"{number:04x}"} for number, kind in enumerate(LINE_TYPES) if channel == "email" or kind in (
            "heading", "text", "picture", "space", "divider")]
        for line in made["lines"]:
            if line["type"] == "columns":
                line["columns"] = [[new_line("text", html="<p>a</p>") | {"id": "aaaa"}], [new_line("button") | {"id": "bbbb"}]]
            if line["type"] == "only":
                line["cases"] = [{"id": "cccc", "name": "A", "lines": [{"id": "x", "kind": "field", "field": "town", "op": "is", "value": ["F"]}],
                                  "part": "", "content": [new_line("text", html="<p>b</p>") | {"id": "dddd"}]}]
            if line["type"] == "icons":
                line["icons"] = [{"icon": "web", "href": "https://a.example"}]
    if channel == "push":
        made["push"] = made["push"] | {"buttons": [{"label": "A", "href": "https://a.example"}], "data": [["k", "v"]]}
    if channel == "card":
        made["card"] = made["card"] | {"buttons": [{"label": "A", "act": "open", "href": "https://a.example", "event": "", "days": 1}]}
    if channel == "email":
        made["one_of"] = {"field": "contact.town", "values": {"Farrow": 3}, "otherwise": 0}
    return made


rubbish = st.recursive(st.none() | st.booleans() | st.integers(-5, 10**12) | st.floats() | st.text(max_size=6) | st.sampled_from(
    ["{{", "{% if %}", "<p>", "text", "2026-13-40", 10**30]), lambda inner: st.lists(inner, max_size=3) | st.dictionaries(
    st.sampled_from(["id", "type", "lines", "href", "x"]), inner), max_leaves=4)


@pytest.mark.parametrize("channel", ["email", "sms", "push", "card"])
@settings(max_examples=250, deadline=None)
@given(st.data())
def test_whatever_stands_anywhere(channel, data):
    broken = copy.deepcopy(whole(channel))
    path = data.draw(st.sampled_from([p for p in places(broken) if p]))
    inner = broken
    for step in path[:-1]:
        inner = inner[step]
    inner[path[-1]] = data.draw(rubbish)
    try:
        made = take_for(channel, broken)
    except DocumentError as problem:
        assert str(problem)
        return
    assert take_for(channel, copy.deepcopy(made)) == made, "taking what was taken changes nothing"
    assert isinstance(checks_of(channel, made, About()), list)
    if not made.get("one_of"):
        try:
            compile_document(made, "http://mail.example")
        except CompileError as problem:
            assert str(problem)
