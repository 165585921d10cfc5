"""MJML from elsewhere and of ours: read, and read again with its conditions."""

import mrml
import pytest

from meadowrun.core.content import exchange
from meadowrun.core.content.document import take
from meadowrun.core.content.lines import new_line


def test_mjml_from_elsewhere():
    source = """<mjml><mj-head><mj-title>Hello &amp; co</mj-title><mj-preview>Look</mj-preview>
      <mj-attributes><mj-text color="#123456"/></mj-attributes></mj-head>
      <mj-body width="640px" background-color="#eeeeee"><mj-section background-color="#fafafa"><mj-column><mj-text><h1>Title</h1></mj-text>
      <mj-text align="center"><p>One<br>two &nbsp; {{ contact.town }}</p></mj-text><mj-image src="https://x.example/a.png" alt="A" width="272px"/>
      <mj-button href="https://x.example" background-color="#224466">Go</mj-button><mj-divider/><mj-spacer height="30px"/></mj-column></mj-section>
      <mj-section><mj-column width="25%"><mj-text>Left</mj-text></mj-column><mj-column width="75%"><mj-text>Right</mj-text></mj-column></mj-section>
      <mj-section><mj-column><mj-carousel></mj-carousel></mj-column></mj-section></mj-body></mjml>"""
    brought = exchange.from_mjml(source)
    document, lost = brought.document, brought.lost
    assert (document["subject"], document["preheader"]) == ("Hello & co", "Look")
    looks = document["settings"]
    assert (looks["width"], looks["ground"], looks["sheet"], looks["ink"]) == (
        640,
        "#eeeeee",
        "#fafafa",
        "#123456",
    )
    assert [line["type"] for line in document["lines"]] == [
        "heading",
        "text",
        "picture",
        "button",
        "divider",
        "space",
        "columns",
    ]
    assert (
        document["lines"][1]["align"] == "center"
        and "{{ contact.town }}" in document["lines"][1]["html"]
    )
    # 272 of the 584 pixels that a width of 640 leaves.
    assert (
        document["lines"][2]["width"] == 47
        and document["lines"][3]["fill"] == "#224466"
        and document["lines"][6]["split"] == [25, 75]
    )
    assert lost == ["<mj-carousel> is not taken"]
    again = exchange.from_mjml(exchange.to_mjml(document, None, "http://p.example")).document
    assert [line["type"] for line in again["lines"] if line["type"] != "space"] == [
        line["type"] for line in document["lines"] if line["type"] != "space"
    ]


def bare(lines):
    """Lines without the ids that an editor gives them."""
    if isinstance(lines, dict):
        return {k: bare(v) for k, v in lines.items() if k != "id"}
    return [bare(one) for one in lines] if isinstance(lines, list) else lines


def test_mjml_of_ours_comes_back_with_its_conditions():
    town = [{"kind": "field", "field": "town", "op": "is", "value": ["Farrow -- upper"]}]
    words = new_line(
        "text",
        html="<p>{% if when.s1 %}Walk{% else %}Drive{% endif %} up, {{ contact.first_name }}.</p>",
    )

    def case(number, name, lines, *content, group=""):
        return {
            "id": f"c{number}",
            "name": name,
            "lines": lines,
            "group": group,
            "content": list(content),
        }

    inner = new_line("only", cases=[case(3, "", town, new_line("heading", text="Near"))])
    document = take(
        {
            "subject": "{% if when.s2 %}A{% else %}B{% endif %}",
            "preheader": "Look",
            "lines": [
                new_line("heading", text="Title & more"),
                words,
                new_line(
                    "only",
                    otherwise=[new_line("space", height=30)],
                    cases=[
                        case(1, "Near", town, new_line("text", html="<p>One</p>"), inner),
                        case(2, "Far", [*town, *town], new_line("divider")),
                    ],
                ),
                new_line(
                    "columns",
                    split=[30, 70],
                    reverse=True,
                    columns=[
                        [new_line("picture", src="/f/abc", alt="A", width=50)],
                        [
                            new_line(
                                "only",
                                grouping=4,
                                cases=[
                                    case(4, "", [], new_line("text", html="<p>P</p>"), group="p1")
                                ],
                            )
                        ],
                    ],
                ),
                new_line("feed", feed="sky.items", most=3, html="<p>{{ item.title }}</p>"),
                new_line(
                    "button",
                    label="Go",
                    href="https://x.example/?a={{ contact.town }}",
                    fill="#224466",
                ),
                new_line("footer", html="<p>Farrow Hill</p>"),
            ],
        }
    )
    source = exchange.to_mjml(
        document, None, "http://p.example", {"s1": town, "s2": [*town, *town]}
    )
    mrml.to_html(source)
    brought = exchange.from_mjml(source, "http://p.example")
    assert brought.lost == []
    assert brought.asked == {"s1": town, "s2": [*town, *town]}
    assert bare(brought.document["lines"]) == bare(document["lines"])
    assert (brought.document["subject"], brought.document["preheader"]) == (
        document["subject"],
        "Look",
    )


@pytest.mark.parametrize(
    ("tags", "types", "says"),
    [
        (("{% if when.k1 %}", "{% endif %}"), ["text"], "no sentence stands beside"),
        (
            ('{% if contact.town == "Farrow" %}', "{% endif %}"),
            ["text"],
            "no sentence stands beside",
        ),
        (("{% endif %}", ""), ["text"], "without its beginning"),
        (("{% while 1 %}", ""), ["text"], "between lines"),
        (("{% if when.k1 %}", ""), ["text"], "no sentence stands beside"),
        (("{% for item in feed.x %}", "{% endfor %}"), ["feed"], ""),
    ],
)
def test_mjml_conditions_of_others(tags, types, says):
    raw = [f"<mj-raw>{tag}</mj-raw>" if tag else "" for tag in tags]
    column = f"<mj-column>{raw[0]}<mj-text><p>x</p></mj-text>{raw[1]}</mj-column>"
    source = f"<mjml><mj-body><mj-section>{column}</mj-section></mj-body></mjml>"
    brought = exchange.from_mjml(source)
    assert [line["type"] for line in brought.document["lines"]] == types
    assert says in "; ".join(brought.lost) if says else brought.lost == []


@pytest.mark.parametrize(
    "comment",
    [
        "<!-- conditions: {x} -->",
        '<!-- conditions: {"k1": {"lines": "no"}} -->',
        '<!-- conditions: {"k1": 7} -->',
    ],
)
def test_mjml_with_a_comment_that_says_nothing(comment):
    source = (
        f"<mjml>{comment}<mj-body><mj-raw>{{% if when.k1 %}}</mj-raw><mj-raw>{{% endif "
        f"%}}</mj-raw></mj-body></mjml>"
    )
    try:
        assert "no sentence stands beside" in exchange.from_mjml(source).lost[0]
    except exchange.ExchangeError as problem:
        assert "cannot be read" in str(problem) and "{x}" in comment


@pytest.mark.parametrize(
    ("source", "says"),
    [
        ("<mjml><mj-body>", "not well-formed"),
        ("<html></html>", "begins with <mjml>"),
        ("<mjml></mjml>", "no <mj-body>"),
        ("<mjml>" + "x" * 1_000_001, "larger than 1 MB"),
        ("<!DOCTYPE x [<!ENTITY a 'b'>]><mjml><mj-body>&a;</mj-body></mjml>", "no document type"),
    ],
)
def test_mjml_that_cannot_be_read(source, says):
    with pytest.raises(exchange.ExchangeError, match=says):
        exchange.from_mjml(source)
