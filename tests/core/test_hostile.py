"""Hostile templates: what would eat memory or time, reach into objects or run is refused when it is
saved, or stays what it is."""

import time
import tracemalloc

import pytest
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core import values
from meadowrun.core.content import code, exchange, fillins, markup
from meadowrun.core.content.compiled import compile_document
from meadowrun.core.content.document import clean_code, empty, take
from meadowrun.core.content.filling import TooLarge, template
from meadowrun.core.content.fillins import TOKENS
from meadowrun.core.content.lines import new_line
from meadowrun.core.content.rendering import Renderer
from tests.luck import tries

REFUSED = (
    "{{ 'x' * 10**9 }}",
    "{{ contact.x.__class__ }}",
    "{{ contact['x'] }}",
    "{{ contact.x|center(300000000) }}",
    "{{ contact.x|format(1) }}",
    "{{ contact.x() }}",
    "{{ contact }}",
    "{{ self }}",
    "{{ config }}",
    "{{ contact.x ~ contact.y }}",
    "{{ [1]*9**9 }}",
    "{{ contact.x|attr('y') }}",
    "{{ ''.__class__.__mro__ }}",
    "{{ range(10**9) }}",
    "{{ cycler }}",
    "{{ contact._secret }}",
    "{{ feed.a._b }}",
    "{{ contact.a.b }}",
    "{% for item in range(10**9) %}x{% endfor %}",
    "{% for item in contact.x %}x{% endfor %}",
    "{% for item in feed.a[:100] %}x{% endfor %}",
    "{% for a in feed.x %}x{% endfor %}",
    "{% set x = 1 %}",
    "{% include 'x' %}",
    "{% import 'x' as y %}",
    "{% macro x() %}{% endmacro %}",
    "{% if contact.x %}",
    "{% if 1 %}x{% endif %}",
    "{% if contact.x == contact.y %}x{% endif %}",
    "{% if contact.x|length > 3 %}x{% endif %}",
    "{% if contact.x in range(3) %}x{% endif %}",
    "{% raw %}x{% endraw %}",
    "{# hidden #}",
    "{{ contact.x | default(contact.y) }}",
    "{% if contact.x %}" * 12 + "x" + "{% endif %}" * 12,
    "{% elif contact.x %}",
    "{% endfor %}",
    "{{",
    "}}",
    "{%",
    "%}",
)


@pytest.mark.parametrize("source", REFUSED)
def test_refused_when_it_is_saved(source):
    with pytest.raises(fillins.FillInError):
        fillins.tree(source)


@tries(200)
@given(st.text(alphabet="{}%#|().[]'\"_*~ abcontactifeldend0123=", max_size=120))
def test_anything_typed_is_taken_or_refused_quickly(source):
    started = time.process_time()
    try:
        found = template(source, True)(
            {root: {} for root in fillins.ROOTS} | dict.fromkeys(fillins.BARE, "")
        )
        assert len(found) <= len(source) * 6 + 200
    except (fillins.FillInError, KeyError):
        pass
    assert time.process_time() - started < 1


@tries(100)
@given(
    st.text(max_size=80),
    st.sampled_from(
        [
            "{{ 7*7 }}",
            "{% if contact.n %}x{% endif %}",
            "{{ contact.town }}",
            "</td><script>x()</script>",
            "MRPART0X",
            "<!--MRPART0X-->",
            '" onclick="x()',
            "javascript:x()",
        ]
    ),
)
def test_values_are_only_ever_text(text, hostile):
    document = take(
        empty()
        | {
            "subject": "{{ contact.n }}",
            "lines": [
                new_line(
                    "text",
                    html='<p>{{ contact.n }} <a href="https://x.example/{{ contact.n }}">a</a></p>',
                ),
                new_line("picture", src="https://x.example/p.png", alt="{{ contact.n }}"),
            ],
        }
    )
    value = text + hostile
    mail = Renderer(compile_document(document, "http://p.example")).render(
        {"contact": {"n": value, "town": "Farrow"}, "token": dict.fromkeys(TOKENS, "T")}
    )
    assert (
        "<script" not in mail.html.replace("<!--[if mso", "") and 'onclick="x()"' not in mail.html
    )
    if hostile == "{{ 7*7 }}":
        assert "{{ 7*7 }}" in mail.text
    assert mail.subject == " ".join(value.split())
    if hostile == "{{ contact.town }}":
        assert "Farrow" not in mail.html and "Farrow" not in mail.text


@pytest.mark.parametrize(
    "code",
    [
        "<script>x()</script>",
        "<img src=x onerror=x()>",
        "<a href='javascript:x()'>a</a>",
        "<iframe src='https://x'></iframe>",
        "<form action='/x'><input></form>",
        "<style>@import 'https://x'; a{background:expression(x())}</style>",
        "<svg onload=x()></svg>",
        "<style></style><script>x()</script>",
        "<style>a{}</sty</style>le><script>x()</script>",
        "<base href='https://x'>",
        "<meta http-equiv='refresh' content='0;url=https://x'>",
        "<object data='x'></object>",
        "<!--><script>x()</script>-->",
    ],
)
def test_code_from_elsewhere_never_runs(code):
    clean = clean_code(code).lower()
    for sign in (
        "<script",
        "onerror",
        "javascript:",
        "<iframe",
        "<form",
        "<input",
        "@import",
        "expression(",
        "onload",
        "<base",
        "http-equiv",
        "<object",
    ):
        assert sign not in clean, (code, clean)


def test_depth_and_number_are_bounded():
    deep = new_line("text")
    for _ in range(9):
        deep = new_line(
            "only",
            cases=[
                {
                    "id": deep["id"][::-1] + "c",
                    "name": "",
                    "lines": [],
                    "group": "",
                    "content": [deep],
                }
            ],
        )
    from meadowrun.core.content.document import DocumentError

    with pytest.raises(DocumentError, match="deep in each other"):
        take(empty() | {"lines": [deep]})
    with pytest.raises(DocumentError, match="at most"):
        take(empty() | {"lines": [new_line("space") for _ in range(300)]})
    long = "".join("{% if contact.x == 'a' %}a{% endif %}" for _ in range(1000))
    started = time.process_time()
    assert template(long, False)({"contact": {"x": "a"}}) == "a" * 1000
    assert time.process_time() - started < 5


@pytest.mark.parametrize(
    "page",
    [
        "<style>a{}<<//style><script>alert(1)</script>",
        "<style>a{}<</style/style><script>alert(1)</script></style>",
        "<style><</</style>/style><img src=x onerror=alert(1)></style>",
        "<style>a{background:javajavascript:script:alert(1)}</style>",
        "<style>@im@import;port url(//evil.example);</style>",
        "<style>a{width:expexpression(ression(alert(1))}</style>",
        "<style>--<!-->></style><script>alert(1)</script>",
    ],
)
@pytest.mark.parametrize("whole", ["{}", "<html><head>{}</head><body><p>Hello</p></body></html>"])
def test_nothing_that_runs_comes_together_again(page, whole):
    """What is taken out must not let what stood around it join into the same."""
    clean = code.clean_code(whole.format(page)).lower()
    for element in markup.elements(clean):
        assert element.tag != "script" and not any(
            name.startswith("on") for name in element.attributes
        )
    for sheet in code.sheets(clean):
        assert not any(word in sheet for word in ("<", "javascript:", "@import", "expression("))


def filled_in(source, **values):
    return template(source, escape=True)(
        {"contact": {}, "company": {}, "fact": {}, "token": dict.fromkeys(TOKENS, "T"), **values}
    )


@pytest.mark.parametrize(
    ("source", "values", "says"),
    [
        (
            "{% for item in feed.list %}" + "x" * 100_000 + "{% endfor %}",
            {"feed": {"list": [{}] * 50}},
            "larger than 2 MB",
        ),
        (
            "{% for item in feed.list %}" + "{{ item.t }}" * 300 + "{% endfor %}",
            {"feed": {"list": [{"t": "<" * 1000}] * 50}},
            "larger than 2 MB",
        ),
        ("{{ feed.list.t }}" * 200, {"feed": {"list": {"t": "y" * 150_000}}}, "larger than 2 MB"),
        ("{{ contact.n }}", {"contact": {"n": "z" * 200_001}}, "“contact.n” is longer than"),
    ],
)
def test_a_message_does_not_grow_without_bound(source, values, says):
    """However little is written, and whatever a feed or a field gives: it ends in a reason, with
    memory for one message at most."""
    tracemalloc.start()
    try:
        with pytest.raises(TooLarge, match=says):
            filled_in(source, **values)
        assert tracemalloc.get_traced_memory()[1] < 60_000_000
    finally:
        tracemalloc.stop()


def test_what_is_as_large_as_messages_are_is_filled_in():
    assert (
        len(
            filled_in(
                "{% for item in feed.list %}" + "x" * 30_000 + "{% endfor %}",
                feed={"list": [{}] * 50},
            )
        )
        == 1_500_000
    )


@pytest.mark.parametrize(
    "text", ["[" * 4000, '{"a":' * 4000, "[" * 100_000 + "]" * 100_000, b"\xff", "{", "NaN}"]
)
def test_json_of_others_is_refused_however_deep(text):
    with pytest.raises(ValueError):
        values.read_json(text)


def test_conditions_of_mjml_that_are_no_object_are_told():
    for said in ('{"a" 1}', '{"a":' * 4000 + "}"):
        with pytest.raises(exchange.ExchangeError, match="conditions cannot be read"):
            exchange.from_mjml(f"<!-- conditions: {said} --><mjml><mj-body></mj-body></mjml>")
