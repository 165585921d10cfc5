"""The HTML of an email as both kinds of mail app read it: those that read conditional comments, and
all others.

An independent reading: the comments are taken apart by hand, and a strict parser counts every tag
that opens and closes.
"""

import html.parser
import itertools
import re

from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.content import document as doc
from meadowrun.core.content.compiled import compile_document
from meadowrun.core.content.fillins import TOKENS
from meadowrun.core.content.layout import answer_key
from meadowrun.core.content.lines import walk
from meadowrun.core.content.rendering import Renderer
from tests.luck import tries

VOID = {"img", "br", "hr", "meta", "link", "col", "input", "area", "base", "wbr"}
TEXT = {"id": "", "type": "text", "html": "<p>Words</p>"}


class Strict(html.parser.HTMLParser):
    """Refuses a tag that closes what is not open, and rows and cells that stand where none may."""

    def __init__(self):
        super().__init__(convert_charrefs=True)
        self.open = []

    def handle_starttag(self, tag, attributes):
        if tag in VOID:
            return
        inside = self.open[-1] if self.open else ""
        if tag == "tr":
            assert inside in ("table", "tbody"), f"a row inside {self.open}"
        if tag == "td":
            assert inside == "tr", f"a cell inside {self.open}"
        if inside in ("table", "tbody", "tr"):
            assert tag in ("tr", "td", "tbody", "th", "thead"), f"{tag} right inside {inside}"
        self.open.append(tag)

    def handle_startendtag(self, tag, attributes):
        assert tag in VOID or ":" in tag or tag in ("xml",), tag

    def handle_endtag(self, tag):
        assert self.open and self.open[-1] == tag, f"</{tag}> closes {self.open}"
        self.open.pop()


def balanced(source):
    parser = Strict()
    parser.feed(source)
    parser.close()
    assert parser.open == [], parser.open


def as_reader_of_comments(source):
    """What a mail app sees that reads conditional comments: their contents, without what is hidden
    from it."""
    source = re.sub(r"<!--\[if !mso\]><!-->.*?<!--<!\[endif\]-->", "", source, flags=re.DOTALL)
    source = re.sub(
        r"<!--\[if (?:gte |lte )?mso[^\]]*\]>(.*?)<!\[endif\]-->", r"\1", source, flags=re.DOTALL
    )
    return without_comments(source)


def without_comments(source):
    """What all others see."""
    left = re.sub(r"<!--.*?-->", "", source, flags=re.DOTALL)
    assert "<!--" not in left and "-->" not in left and "[endif]" not in left, (
        "a comment is cut in two"
    )
    return left


def body(source):
    return source[source.index("<body") : source.index("</html>")]


def numbered(lines, count=None):
    """Gives every line, version and column content an id of its own."""
    count = count or itertools.count()
    made = []
    for line in lines:
        line = {**line, "id": f"l{next(count)}"}
        if line["type"] == "columns":
            line["columns"] = [numbered(held, count) for held in line["columns"]]
        if line["type"] == "only":
            line["cases"] = [
                {**case, "id": f"c{next(count)}", "content": numbered(case["content"], count)}
                for case in line["cases"]
            ]
            line["otherwise"] = numbered(line["otherwise"], count)
        made.append(line)
    return made


simple = st.sampled_from(
    [
        TEXT,
        {"type": "heading", "text": "Hello"},
        {"type": "button", "label": "Go", "href": "https://a.example"},
        {"type": "divider"},
        {"type": "space", "height": 12},
        {"type": "quote", "html": "<p>q</p>", "by": "A"},
        {"type": "code", "code": "<table><tr><td>c</td></tr></table>"},
        {"type": "picture", "src": "https://a.example/p.png", "alt": "A dome"},
        {"type": "icons", "icons": [{"icon": "web", "href": "https://a.example"}]},
    ]
)
feed = st.just({"type": "feed", "feed": "programme", "most": 3, "html": "<p>{{ item.title }}</p>"})


def only(inside):
    case = st.builds(
        lambda content: {"name": "", "lines": [], "group": "", "content": content},
        st.lists(inside, max_size=3),
    )
    return st.builds(
        lambda cases, otherwise: {
            "type": "only",
            "cases": cases,
            "otherwise": otherwise,
            "grouping": 0,
        },
        st.lists(case, min_size=1, max_size=3),
        st.lists(inside, max_size=2),
    )


in_column = simple | feed | only(simple | feed)
columns = st.builds(
    lambda held: {"type": "columns", "split": [50, 50], "columns": held, "reverse": False},
    st.lists(st.lists(in_column, max_size=2), min_size=2, max_size=2),
)
documents = st.lists(simple | feed | columns | only(simple | feed | columns), max_size=6)


@tries(200)
@given(documents, st.lists(st.booleans(), min_size=30, max_size=30), st.integers(0, 3))
def test_both_readings_of_random_documents_are_whole(lines, answers, items):
    document = doc.take(
        {
            "subject": "S",
            "preheader": "P",
            "lines": [*numbered(lines), {"id": "foot", "type": "footer", "html": "<p>f</p>"}],
        }
    )
    compiled = compile_document(document, "http://m.example")
    cases = [
        case for line in walk(document["lines"]) if line["type"] == "only" for case in line["cases"]
    ]
    said = {
        answer_key(case): answer
        for case, answer in zip(cases, itertools.cycle(answers), strict=False)
    }
    values = {
        "contact": {},
        "when": said,
        "token": dict.fromkeys(TOKENS, "T"),
        "feed": {"programme": [{"title": "x"}] * items},
    }
    page = Renderer(compiled).render(values).html
    assert "{%" not in page and "<!--[endif]" not in page
    balanced(without_comments(body(page)))
    balanced(as_reader_of_comments(body(page)))
