"""Values that no honest form sends."""

import inspect
import re

RUBBISH = [
    "",
    " ",
    "x",
    "0",
    "1",
    "-1",
    "2",
    "99999999999999999999",
    "1.5",
    "NaN",
    "1e9",
    "\x00",
    "a\x00b",
    "é" * 300,
    "2026-13-40",
    "2026-11-23",
    "25:61",
    "yes",
    "no",
    "{{",
    "{% if %}",
    "{}",
    "[]",
    '[{"id": 1}]',
    "segment:1",
    "list:99",
    "tag:1",
    "../../etc",
    "<script>",
    "'; --",
    "null",
    "True",
    "contact.x",
    "everyone",
    "email",
    "mail@post.example",
    "%s%n",
    "🦉" * 40,
]


JSON = [
    None,
    True,
    -1,
    10**30,
    1.5,
    "x",
    "",
    [],
    {},
    [None],
    {"lines": None},
    {"lines": [{"id": "a"}]},
    [[]],
    {"id": "a", "kind": "field"},
    "\x00",
    "1",
]


#: Some that an editor really posts, so that what stands beside them is reached.
JSON += [
    {
        "lines": [
            {"id": "a", "kind": "field", "field": "town", "op": "is", "value": ["x"]},
            {"id": "g", "kind": "group", "match": "any", "lines": []},
        ]
    },
    "a",
    "g",
    "add",
    "set",
    "become",
    "answer",
    "group",
    "remove",
    "into",
    "out",
    "copy",
    "switch",
    "up",
    "value",
    "op",
    "span",
    "field:town",
]


def anything(dice, names, deep=2):
    """A value for posted JSON; some are objects with names that views read, and so on inside."""
    if deep and dice.random() < 0.35:
        return {
            name: anything(dice, names, deep - 1)
            for name in dice.sample(names, min(len(names), dice.randrange(1, 6)))
        }
    return [anything(dice, names, deep - 1)] if deep and dice.random() < 0.1 else dice.choice(JSON)


NAMES = re.compile(
    r"""(?:form|arguments|args|data|body\(\)|change|request\.args|request\.form)(?:\.get|\.getlist)?[\[(]f?["']([\w-]+)["']"""
)


def names_of(view):
    """The names that a view's module reads from forms, addresses and JSON."""
    module = inspect.getmodule(inspect.unwrap(view))
    return sorted(set(NAMES.findall(inspect.getsource(module))))


#: What may stand where a number, a day or a word is expected, as bytes of an address.
VALUES = [
    "²",
    "٣",
    "9" * 25,
    "-1",
    "0",
    "1",
    "\x00",
    "%ed%a0%80",
    "[" * 3000,
    "9999-12-31",
    "0001-01-01",
    "'",
    "{{",
    "a" * 3000,
    "1:2:3",
    "😀",
    "\r\nX: y",
    "all",
    "link²",
    "b²",
    "link1",
]
