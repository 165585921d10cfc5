"""Whatever stands anywhere in a message's document is taken, cleaned, or refused with a reason;
what is taken can be used."""

import copy

import pytest
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.channels import CHANNELS, beginning, checks_of, take_for
from meadowrun.core.content.compiled import CompileError, compile_document
from meadowrun.core.content.document import DocumentError, empty
from meadowrun.core.content.findings import About
from meadowrun.core.content.lines import LINE_TYPES, new_line
from tests.core.test_definition import places
from tests.luck import tries

TEXTS = {
    "text": "Hello {{ contact.first_name | default('you', true) }}",
    "html": "<p>Come to <b>{{ fact.venue }}</b></p>",
    "label": "Go",
    "by": "A",
    "href": "https://a.example",
    "src": "/f/abc",
    "alt": "A dome",
    "link": "https://a.example",
    "code": "<p>a</p>",
    "feed": "weather",
}


def whole(channel):
    """A document of a channel with everything it may hold."""
    made = empty() if channel == "email" else beginning(channel, "Farrow Hill", "STOP")
    made |= {"subject": "Hello", "preheader": "Look"}
    if channel in ("email", "in_app"):
        made["lines"] = [
            new_line(kind) | {"id": f"{number:04x}"}
            for number, kind in enumerate(LINE_TYPES)
            if channel == "email" or kind in ("heading", "text", "picture", "space", "divider")
        ]
        for line in made["lines"]:
            line |= {slot: text for slot, text in TEXTS.items() if slot in line}
            if line["type"] == "columns":
                line["columns"] = [
                    [new_line("text", html="<p>a</p>") | {"id": "aaaa"}],
                    [new_line("button") | {"id": "bbbb"}],
                ]
            if line["type"] == "only":
                line["cases"] = [
                    {
                        "id": "cccc",
                        "name": "A",
                        "lines": [
                            {
                                "id": "x",
                                "kind": "field",
                                "field": "town",
                                "op": "is",
                                "value": ["F"],
                            }
                        ],
                        "group": "",
                        "content": [new_line("text", html="<p>b</p>") | {"id": "dddd"}],
                    }
                ]
            if line["type"] == "icons":
                line["icons"] = [{"icon": "web", "href": "https://a.example"}]
    if channel == "push":
        made["push"] = made["push"] | {
            "buttons": [{"label": "A", "href": "https://a.example"}],
            "data": [["k", "v"]],
        }
    if channel == "in_app":
        made["in_app"] = made["in_app"] | {
            "buttons": [
                {"label": "A", "act": "open", "href": "https://a.example", "event": "", "days": 1}
            ]
        }
    return made


def chosen():
    """A message that is one of several, by a field's value."""
    return whole("email") | {
        "one_of": {"field": "contact.town", "values": {"Farrow": 3}, "otherwise": 0}
    }


rubbish = st.recursive(
    st.none()
    | st.booleans()
    | st.integers(-5, 10**12)
    | st.floats()
    | st.text(max_size=6)
    | st.sampled_from(
        [
            "{{",
            "{% if %}",
            "<p>",
            "text",
            "2026-13-40",
            10**30,
            "word " * 45,
            "{{ contact.town }}" * 30,
        ]
    ),
    lambda inner: (
        st.lists(inner, max_size=3)
        | st.dictionaries(st.sampled_from(["id", "type", "lines", "href", "x"]), inner)
    ),
    max_leaves=4,
)


WHOLE = {channel: whole(channel) for channel in ("email", "sms", "push", "in_app")} | {
    "one of several": chosen(),
    "of code": whole("email")
    | {"lines": [], "code": "<p>Hello {{ contact.town }} <a href='https://a.example'>Go</a></p>"},
}


@pytest.mark.parametrize("kind", WHOLE)
def test_without_rubbish_it_is_taken_and_made_into_a_message(kind):
    made = take_for("email" if kind not in CHANNELS else kind, copy.deepcopy(WHOLE[kind]))
    compiled = compile_document(made, "http://mail.example")
    assert compiled.subject == "Hello" and (compiled.html or kind in ("sms", "push"))


@pytest.mark.parametrize("kind", WHOLE)
@tries(250)
@given(st.data())
def test_whatever_stands_anywhere(kind, data):
    channel, broken = "email" if kind not in CHANNELS else kind, copy.deepcopy(WHOLE[kind])
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


@pytest.mark.parametrize("channel", ["email", "in_app"])
@pytest.mark.parametrize("source", ["{% if %}", "{{", "https://a.example/{{ contact.town"])
def test_a_picture_whose_address_has_a_broken_fill_in_is_refused_with_its_place(channel, source):
    document = whole(channel)
    line = next(line for line in document["lines"] if line["type"] == "picture")
    line["src"] = source
    with pytest.raises(DocumentError) as refused:
        take_for(channel, document)
    assert (refused.value.line, refused.value.slot) == (line["id"], "src")


def test_what_a_pictures_address_fills_in_is_known_to_be_needed():
    document = whole("email")
    document["lines"] = [
        new_line("picture", src="https://a.example/{{ contact.town }}.png", alt="A town")
        | {"id": "aaaa"}
    ]
    made = compile_document(take_for("email", document), "http://mail.example")
    assert "contact.town" in made.refs and "https://a.example/{{ contact.town }}.png" in made.html


def test_a_key_of_a_notification_that_is_cut_short_ends_in_no_space():
    document = whole("push")
    document["push"]["data"] = [["a" * 59 + " b", "v"]]
    made = take_for("push", document)
    assert made["push"]["data"] == [["a" * 59, "v"]] and take_for("push", made) == made


@pytest.mark.parametrize(
    "feed", ["[]", "weather nights", "1st", "weather..nights", "a.b.c.d.e.f.g"]
)
def test_a_list_from_a_feed_that_has_no_such_name_is_refused(feed):
    document = whole("email")
    line = next(line for line in document["lines"] if line["type"] == "feed")
    line["feed"] = feed
    with pytest.raises(DocumentError, match="is not the name of a feed") as refused:
        take_for("email", document)
    assert (refused.value.line, refused.value.slot) == (line["id"], "feed")


@pytest.mark.parametrize(
    ("given", "taken"),
    [
        ([50, 50], [50, 50]),
        ([1, 96], [10, 90]),
        ([33, 33, 33], [34, 33, 33]),
        ([1, 1, 1, 200], [10, 10, 10, 70]),
        ([7], [100]),
        ([60, 60], [50, 50]),
    ],
)
def test_widths_of_columns_are_at_least_a_tenth_and_together_the_whole(given, taken):
    document = whole("email")
    line = next(line for line in document["lines"] if line["type"] == "columns")
    line |= {"split": given, "columns": [[] for _ in given]}
    made = next(line for line in take_for("email", document)["lines"] if line["type"] == "columns")
    assert made["split"] == taken


@pytest.mark.parametrize(
    ("kind", "slot"), [("only", "grouping"), ("shared", "part"), ("shared", "version")]
)
def test_a_number_below_none_is_that_of_nothing(kind, slot):
    document = whole("email")
    line = next(line for line in document["lines"] if line["type"] == kind)
    line[slot] = -1
    with pytest.raises(DocumentError, match="not the number of anything") as refused:
        take_for("email", document)
    assert (refused.value.line, refused.value.slot) == (line["id"], slot)
