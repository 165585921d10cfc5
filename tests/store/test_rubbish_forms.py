"""Whatever a form, an address or posted JSON holds: no page of ours breaks. It is taken, or refused with words."""

import inspect
import json
import random
import re

import pytest
import sqlalchemy as sa
from werkzeug.routing import AnyConverter, IntegerConverter

from meadowrun.base import clock
from meadowrun.people.queries import dictionary
from meadowrun.scores import actions as scores
from meadowrun.segments import actions as segments
from meadowrun.segments import partitions
from meadowrun.tags import actions as tags
from tests.conftest import NOW
from tests.luck import LONG
from tests.store.people import IDA, ready_send
from tests.store.test_people_pages import three  # noqa: F401 - a fixture

TRIES = 60 if LONG else 3
RUBBISH = ["", " ", "x", "0", "1", "-1", "2", "99999999999999999999", "1.5", "NaN", "1e9", "\x00", "a\x00b", "é" * 300, "2026-13-40", "2026-11-23",
           "25:61", "yes", "no", "{{", "{% if %}", "{}", "[]", '[{"id": 1}]', "segment:1", "list:99", "tag:1", "../../etc", "<script>", "'; --",
           "null", "True", "contact.x", "everyone", "email", "mail@post.example", "%s%n", "🦉" * 40]
JSON = [None, True, -1, 10**30, 1.5, "x", "", [], {}, [None], {"lines": None}, {"lines": [{"id": "a"}]}, [[]], {"id": "a", "kind": "field"},
        "\x00", "1"]
#: Some that an editor really posts, so that what stands beside them is reached.
JSON += [{"lines": [{"id": "a", "kind": "field", "field": "town", "op": "is", "value": ["x"]},
                    {"id": "g", "kind": "group", "match": "any", "lines": []}]}, "a", "g", "add",
         "set", "become", "answer", "group", "remove", "into", "out", "copy", "switch", "up", "value", "op", "span", "field:town"]


def anything(dice, names, deep=2):
    """A value for posted JSON; some are objects with names that views read, and so on inside."""
    if deep and dice.random() < 0.35:
        return {name: anything(dice, names, deep - 1) for name in dice.sample(names, min(len(names), dice.randrange(1, 6)))}
    return [anything(dice, names, deep - 1)] if deep and dice.random() < 0.1 else dice.choice(JSON)


NAMES = re.compile(r"""(?:form|arguments|args|data|body\(\)|change|request\.args|request\.form)(?:\.get|\.getlist)?[\[(]f?["']([\w-]+)["']""")
#: Left out: what ends the sign-in of the one who asks, and what the whole test stands on.
NOT = ("sign_in.", "colleagues.", "static")


@pytest.fixture
def world(database, three):  # noqa: F811
    with clock.at(NOW), database.session() as session:
        send = ready_send(session, NOW, {"in": [{"everyone": True}], "out": []})
        words = dictionary(session)
        segments.save(session, IDA, NOW, words, "All", {"format": 1, "lines": []})
        partitions.create(session, IDA, NOW, "Parts")
        tags.give(session, IDA, NOW, "a/b", list(three.values()))
        scores.save(session, IDA, NOW, words, {"name": "Interest"})
        return send.id


def names_of(view):
    """The names that a view's module reads from forms, addresses and JSON."""
    module = inspect.getmodule(inspect.unwrap(view))
    return sorted(set(NAMES.findall(inspect.getsource(module))))


@pytest.mark.parametrize("method", ["GET", "POST form", "POST json"])
def test_no_page_breaks(web, world, method):
    dice, broken, taken = random.Random(None if LONG else 7), [], 0
    rules = sorted((r for r in web.application.url_map.iter_rules() if method.split()[0] in r.methods and not r.endpoint.startswith((*NOT, "api."))),
                   key=lambda r: r.rule)
    assert len(rules) > 60
    for rule in rules:
        names = names_of(web.application.view_functions[rule.endpoint])
        for _ in range(TRIES):
            values = {name: dice.choice([1, 1, 1, 2, 99, 2**40]) if isinstance(convert, IntegerConverter) else dice.choice(
                sorted(convert.items) if isinstance(convert, AnyConverter) else ["a", "segment", "both", "1", "~", "é"])
                for name, convert in rule._converters.items()}
            path = web.application.url_map.bind("localhost").build(rule.endpoint, values, method.split()[0])
            held = {name: anything(dice, [*names, "do", "id", "patch", "lines"]) if "json" in method else dice.choice(RUBBISH)
                    for name in dice.sample(names, min(len(names), dice.randrange(1, 8)))}
            given = {"query_string": {k: v.encode("utf-8", "replace") for k, v in held.items()}} if method == "GET" else \
                {"json": held} if "json" in method else {"data": {k: v.encode("utf-8", "replace").decode() for k, v in held.items()}}
            answer = web.open(path, method=method.split()[0], **given)
            taken += answer.status_code < 400
            if answer.status_code >= 500:
                broken.append((path, json.dumps(held)[:300], answer.status_code))
    assert taken > 20, "most of it never came to anything"
    assert not broken, "\n".join(map(str, broken[:40]))


def test_what_the_database_refuses_at_the_end_is_answered_in_words(web, world, database):
    answer = web.post("/messages/1/chosen", json={"slot": "subject", "text": "a\x00b"})
    assert answer.status_code == 422 and "sign that cannot be kept (NUL" in answer.json["error"]
    answer = web.post("/messages/1/review", data={"reviewer": "99"})
    assert answer.status_code == 422 and "does not exist any more" in answer.text
    answer = web.get("/segments/1/people?after=99999999999999999999")
    assert answer.status_code == 200
    assert web.get("/people/suppressions?from=-1").status_code == 200
    with database.session() as session:
        assert session.execute(sa.text("SELECT count(*) FROM reviews")).scalar_one() == 0
