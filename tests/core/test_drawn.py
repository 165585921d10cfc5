"""Clicks drawn on an email: a badge inside each link that has one, and nothing else changed."""

from html.parser import HTMLParser

import pytest
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.results.drawn import Badge, with_badges

HERE = "http://127.0.0.1:1"


def link(number, inner="Book"):
    return f'<a class="b" href="{HERE}/c/abc-_9/{number}" style="color:red">{inner}</a>'


def test_each_link_bears_its_own_badge_before_its_end():
    html, found = with_badges(
        f"<p>{link(1)} or {link(2, '<img src=x>')}</p>",
        {1: Badge("31 · 12%", 1.0), 2: Badge("3 · 1%", 0.1)},
    )
    assert found == {1, 2}
    first, second = html.split(" or ")
    assert first.index("Book") < first.index("31 · 12%") < first.index("</a>")
    assert second.index("<img src=x>") < second.index("3 · 1%") < second.index("</a>")


@pytest.mark.parametrize(
    "html",
    [
        "",
        "<p>no link</p>",
        '<a href="https://else.example/c/abc">else</a>',
        '<a href="http://127.0.0.1:1/u/abc">unsubscribe</a>',
        '<a href="http://127.0.0.1:1/c/abc/7">another number</a>',
        '<a href="http://127.0.0.1:1/c/abc/1">without an end',
        '<a name="/c/abc/1">no address</a>',
    ],
)
def test_what_is_no_link_of_ours_stays(html):
    assert with_badges(html, {1: Badge("1", 1.0)}) == (html, set())


def test_what_a_badge_says_is_no_markup():
    html, _ = with_badges(link(1), {1: Badge("<b>1</b>", 0.5)})
    assert "&lt;b&gt;1&lt;/b&gt;" in html


class _Texts(HTMLParser):
    def __init__(self):
        super().__init__()
        self.inside, self.links, self.other = None, {}, []

    def handle_starttag(self, tag, attrs):
        if tag == "a":
            self.inside = dict(attrs)["href"].rsplit("/", 1)[1]

    def handle_endtag(self, tag):
        if tag == "a":
            self.inside = None

    def handle_data(self, data):
        if self.inside:
            self.links.setdefault(self.inside, []).append(data)
        else:
            self.other.append(data)


PIECES = st.lists(
    st.one_of(
        st.integers(1, 9).map(link), st.text("abc &;é", max_size=8).map(lambda t: f"<p>{t}</p>")
    ),
    max_size=12,
)


@given(PIECES, st.sets(st.integers(1, 9)))
def test_another_parser_reads_the_badges_where_they_should_be(pieces, clicked):
    """By the standard library's parser: the texts of links, and of all else, as they were."""
    before, after = _Texts(), _Texts()
    html = "".join(pieces)
    drawn, found = with_badges(html, {number: Badge(f"#{number}", 0.5) for number in clicked})
    before.feed(html)
    after.feed(drawn)
    assert after.other == before.other
    for number, texts in before.links.items():
        badged = int(number) in clicked
        assert (int(number) in found) is badged
        assert after.links[number].count(f"#{number}") == (len(texts) if badged else 0)
