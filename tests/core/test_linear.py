"""Whatever is pasted, reading it takes time by its length: twice as much text takes about twice as
long, not four times."""

import ast
import contextlib
import datetime as dt
import inspect
import pathlib
import re
import time

import pytest

from meadowrun.core.audience import typed
from meadowrun.core.content import addresses, code, exchange, fillins, markup
from tests.core.house import WORDS

SRC = pathlib.Path(__file__).resolve().parents[2] / "src" / "meadowrun"

#: Pieces that open something and never close it, or that a careless pattern tries again at each
#: place.
PIECES = [
    "{{",
    "{%",
    "{#",
    "}}",
    "%}",
    "{{ contact.x }}",
    "{% if x %}",
    "{% for i in x %}",
    "{{ '",
    "{{ a | ",
    "<style>",
    "<style ",
    "<",
    "<a ",
    '<a href="',
    "<!--",
    "<!--[if mso]>",
    "<![CDATA[",
    "<?x ",
    "</",
    "&",
    "&#",
    "(",
    "[",
    "](",
    "http://",
    "http://a",
    "@",
    " \t",
    "a",
    '"',
    "'",
    "url(",
    "//",
    "/*",
    "--",
    "é",
    "\n",
    "a ",
    "<mj-text>",
    "<mj-text ",
    "<!-- conditions: {",
    "<head>",
    "<body ",
    "</style ",
    "a@a.",
    "1.",
    "- ",
    "=?",
    "=?utf-8?q?",
]
READERS = [
    fillins.tree,
    fillins.used,
    fillins.named,
    code.clean_code,
    code.width_on_phone,
    lambda text: list(code.sheets(text)),
    markup.elements,
    exchange.from_mjml,
    lambda text: list(addresses.addresses(text)),
    addresses.encoded,
    addresses.encoded_in,
    addresses.normal,
    addresses.attribute_value,
    lambda text: typed.read(text[:300], WORDS, TODAY),
]
SMALL, LARGE = 10_000, 40_000


TODAY = dt.date(2026, 11, 29)


def seconds(reader, text):
    began = time.process_time()
    # Refused is read, too.
    with contextlib.suppress(ValueError):
        reader(text)
    return time.process_time() - began


@pytest.mark.parametrize(
    "reader", READERS, ids=lambda reader: getattr(reader, "__qualname__", "reader")
)
def test_reading_takes_time_by_length(reader):
    slow = []
    for piece in PIECES:
        for ending in ("", ">", "-->", "}}"):
            text = piece * (LARGE // len(piece)) + ending
            large = seconds(reader, text)
            # What is quick in any case is not worth a second look, on a busy machine either.
            if large > 2:
                small = min(
                    seconds(reader, piece * (SMALL // len(piece)) + ending) for _ in range(3)
                )
                if large > 4 * 2.5 * max(small, 0.02):
                    slow.append((piece, ending, round(small, 2), round(large, 2)))
    assert slow == []


def test_no_list_stands_in_a_list():
    """A short text would become a very long one."""
    one = "{% for item in feed.a.items %}{{ item.name }}{% endfor %}"
    assert fillins.tree(one)
    inner = "{% for item in feed.a.items %}" + one + "{% endfor %}"
    for text in (
        inner,
        "{% for item in feed.a.items %}{% if contact.town %}" + one + "{% endif %}{% endfor %}",
    ):
        with pytest.raises(fillins.FillInError, match="in another list"):
            fillins.tree(text)


def test_three_thousand_brackets_are_refused_and_no_fault():
    for piece in ("[", "(", "{", "not ", "-", "a."):
        with pytest.raises(fillins.FillInError):
            fillins.tree("{{ " + piece * 3000 + " }}")
        with pytest.raises(fillins.FillInError):
            fillins.tree("{% if " + piece * 3000 + " %}x{% endif %}")


def test_every_reader_of_text_is_tried():
    """Public functions of one text in these modules stand in the list above, or take only what was
    read before."""
    tried = {reader for reader in READERS if reader.__name__ != "<lambda>"} | {
        code.sheets,
        addresses.addresses,
    }
    for module in (addresses, code, exchange, fillins, markup):
        for name, function in vars(module).items():
            if (
                inspect.isfunction(function)
                and function.__module__ == module.__name__
                and not name.startswith("_")
            ):
                given = [
                    p
                    for p in inspect.signature(function).parameters.values()
                    if p.default is p.empty
                ]
                if len(given) == 1 and given[0].annotation in ("str", str):
                    assert function in tried | {
                        fillins.parse,
                        fillins.tag,
                        fillins.split,
                        fillins.refs,
                        fillins.quoted,
                    }, name


def test_no_pattern_has_a_possessive_group():
    """Python before 3.11.5, as Debian 12 has it, matches a possessive group wrongly where one of
    its ways takes more than one sign; a possessive sign or set of signs is fine."""
    group = re.compile(r"(?<!\\)\)(?:[*+?]|\{\d*,?\d*\})\+|\(\?>")
    tried = 0
    for path in sorted(SRC.rglob("*.py")):
        for called in ast.walk(ast.parse(path.read_text())):
            if not isinstance(called, ast.Call) or not ast.unparse(called.func).startswith("re."):
                continue
            for node in ast.walk(called):
                if isinstance(node, ast.Constant) and isinstance(node.value, str):
                    found = group.search(node.value)
                    assert not found, (path.name, node.lineno, found and found.group())
                    tried += 1
    assert tried > 100


@pytest.mark.parametrize(
    ("text", "parts"),
    [
        ("{{ a }} b {{ c }}", ["{{ a }}", "{{ c }}"]),
        ("{{ a } b }}", ["{{ a } b }}"]),
        ("{{ a { b }}", ["{{ a { b }}"]),
        ("{{ {{ a }}", ["{{ a }}"]),
        ("{{ {% if a %}", ["{% if a %}"]),
        ("{% if a } % b %}", ["{% if a } % b %}"]),
        ("{{}}}", ["{{}}"]),
        ("{{ a }", []),
    ],
)
def test_fill_ins_are_found_where_they_end(text, parts):
    assert [match.group() for match in fillins.PART.finditer(text)] == parts
