"""Where addresses begin and end in texts, and where each link of a message leads for each
person."""

import re
from urllib.parse import quote

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from meadowrun.core.content import document as doc
from meadowrun.core.content.addresses import addresses, attribute_value
from meadowrun.core.content.compiled import compile_document
from meadowrun.core.content.fillins import TOKENS
from meadowrun.core.content.rendering import Renderer, link_address
from tests.luck import tries

PUBLIC = "http://mail.example"
NAMES = ["Tom & Jerry", "Zoë", "50 % off?", "a/b#c", "Σοφία", "x=y", "", None]


def text_only(plain, **more):
    return doc.take(
        {
            "subject": "Hello",
            "preheader": "",
            "lines": [],
            "text_only": True,
            "plain": plain,
            **more,
        }
    )


def values(name="Ann", **more):
    return {
        "contact": {"first_name": name, "town": "Farrow"},
        "fact": {},
        "token": dict.fromkeys(TOKENS, "TOK"),
        **more,
    }


@pytest.mark.parametrize(
    ("text", "found"),
    [
        ("see https://a.example/x.", ["https://a.example/x"]),
        ("(https://a.example/x)", ["https://a.example/x"]),
        ("https://a.example/wiki/Moon_(Saturn) and on", ["https://a.example/wiki/Moon_(Saturn)"]),
        ("(see https://a.example/Moon_(Saturn))", ["https://a.example/Moon_(Saturn)"]),
        ("[https://a.example/a[1]]", ["https://a.example/a[1]"]),
        (
            "HTTPS://A.example/X, then http://b.example?",
            ["HTTPS://A.example/X", "http://b.example"],
        ),
        (
            'go https://a.example/?n={{ contact.first_name | default("you, all", true) }}&z=1! Now',
            ['https://a.example/?n={{ contact.first_name | default("you, all", true) }}&z=1'],
        ),
        ("https://a.example/{{ contact.town }}.", ["https://a.example/{{ contact.town }}"]),
        ("{% if contact.town %}https://a.example/x{% endif %}", ["https://a.example/x"]),
        ("https:// nothing", []),
        ("<https://a.example/x>", ["https://a.example/x"]),
        ("https://a.example/?q=a;b:c,d", ["https://a.example/?q=a;b:c,d"]),
    ],
)
def test_where_an_address_begins_and_ends(text, found):
    assert [text[a.start : a.end] for a in addresses(text)] == found


@pytest.mark.parametrize(
    ("source", "value"),
    [
        ("?a=1&amp;copy=2", "?a=1&copy=2"),
        ("?a=1&copy=2", "?a=1&copy=2"),
        ("?a=1&lt=2", "?a=1&lt=2"),
        ("a&#38;b", "a&b"),
        ("x&amp;amp;y", "x&amp;y"),
        ("?q=&notit;", "?q=&notit;"),
        ("&para", "¶"),
    ],
)
def test_an_attribute_is_read_as_browsers_read_it(source, value):
    assert attribute_value(source) == value


@pytest.mark.parametrize("name", NAMES)
def test_a_text_only_message_with_a_fill_in_inside_a_link(name):
    source = (
        "Dear {{ contact.first_name | default('friend', true) }}: https://a.example/?who={{ "
        "contact.first_name }}&b=1 (tonight)"
    )
    compiled = compile_document(text_only(source), PUBLIC)
    mail = Renderer(compiled).render(values(name))
    assert f"{PUBLIC}/c/TOK/0 (tonight)" in mail.text and not mail.html
    assert (
        link_address(compiled.links[0], values(name))
        == f"https://a.example/?who={quote(name or '', safe='')}&b=1"
    )
    # While it is written it leads where it will lead.
    shown = Renderer(compile_document(text_only(source), PUBLIC, tracked=False)).render(
        values(name)
    )
    assert f"https://a.example/?who={quote(name or '', safe='')}&b=1 (tonight)" in shown.text


@pytest.mark.parametrize("name", NAMES)
def test_the_same_in_a_button_of_a_designed_message_and_its_plain_part(name):
    made = doc.take(
        {
            "subject": "S",
            "preheader": "",
            "lines": [
                {
                    "id": "b",
                    "type": "button",
                    "label": "Book",
                    "href": (
                        "https://a.example/?who={{ contact.first_name | default('you & me', "
                        "true) }}"
                    ),
                },
                {"id": "f", "type": "footer", "html": "<p>x</p>"},
            ],
        }
    )
    leads = f"https://a.example/?who={quote(name or 'you & me', safe='')}"
    shown = Renderer(compile_document(made, PUBLIC, tracked=False)).render(values(name))
    assert f'href="{leads}"' in shown.html and leads in shown.text
    compiled = compile_document(made, PUBLIC)
    mail = Renderer(compiled).render(values(name))
    assert link_address(compiled.links[0], values(name)) == leads
    assert (
        f"/c/TOK/{compiled.links[0].number}" in mail.html
        and f"/c/TOK/{compiled.links[0].number}" in mail.text
    )
    assert len([x for x in compiled.links if "who=" in x.href]) == 1, (
        "both parts lead through one link"
    )


@pytest.mark.parametrize(
    "href",
    ["HTTPS://A.example/x", " https://a.example/x ", "https://a.example/?a=1&copy=2&b=%7Eq;r"],
)
def test_addresses_however_written_are_tracked_and_stay_byte_for_byte(href):
    compiled = compile_document(
        doc.take(
            {"subject": "S", "preheader": "", "lines": [], "code": f'<p><a href="{href}">x</a></p>'}
        ),
        PUBLIC,
    )
    assert [x.href for x in compiled.links] == [href.strip()]


PROGRAMME = [
    {"title": "Moon", "url": "https://a.example/moon?x=1&y=2"},
    {"title": "Mars & co", "url": "https://a.example/mars"},
]


@pytest.mark.parametrize("code", [False, True])
def test_each_item_of_a_list_has_a_link_of_its_own(code):
    inside = (
        '<p><a href="{{ item.url }}">{{ item.title }}</a> or <a '
        'href="https://a.example/ask?about={{ item.title }}">ask</a></p>'
    )
    loop = "{% for item in feed.programme[:5] %}" + inside + "{% endfor %}"
    table = (
        f'<a href="https://a.example/first">First</a>{loop}<a '
        'href="https://a.example/last">Last</a>'
    )
    made = (
        {"lines": [], "code": f"<table><tr><td>{table}</td></tr></table>"}
        if code
        else {
            "lines": [
                {"id": "a", "type": "button", "label": "First", "href": "https://a.example/first"},
                {"id": "x", "type": "feed", "feed": "programme", "most": 5, "html": inside},
                {"id": "z", "type": "button", "label": "Last", "href": "https://a.example/last"},
            ]
        }
    )
    compiled = compile_document(doc.take({"subject": "S", "preheader": "", **made}), PUBLIC)
    known = values(feed={"programme": PROGRAMME})
    mail = Renderer(compiled).render(known)
    by_number = {link.number: link for link in compiled.links}
    assert sorted(by_number) == list(range(12)), "first, last, and five items twice"
    assert [by_number[n].label for n in (1, 5, 6)] == [
        "programme, item 1",
        "programme, item 5",
        "ask, item 1",
    ], "by their list, or their words"

    def leads(part):
        numbers = [int(n) for n in re.findall(rf"{PUBLIC}/c/TOK/(\d+)", part)]
        return [(n, link_address(by_number[n], known)) for n in numbers]

    for part in (mail.html, mail.text):
        found = leads(part)
        assert [where for _, where in found] == [
            "https://a.example/first",
            PROGRAMME[0]["url"],
            "https://a.example/ask?about=Moon",
            PROGRAMME[1]["url"],
            "https://a.example/ask?about=Mars%20%26%20co",
            "https://a.example/last",
        ]
        assert len({n for n, _ in found}) == 6, "each is counted apart"
    assert link_address(by_number[5], known) is None, "there is no fifth item"


@tries(60)
@given(st.text("ab :/.(){}[]%&?=\"'<>h\n", max_size=60))
@example("https://{{ contact.town }}")
def test_addresses_never_overlap_nor_hold_half_a_fill_in(text):
    place = 0
    try:
        found = list(addresses(text))
    except ValueError:
        return
    for one in found:
        assert place <= one.start < one.end <= len(text)
        place = one.end
        inside = text[one.start : one.end]
        assert inside.count("{{") <= inside.count("}}") or "}}" not in text[one.end :]
