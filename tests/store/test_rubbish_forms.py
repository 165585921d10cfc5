"""Whatever a form, an address or posted JSON holds: no page of ours breaks. It is taken, or refused
with words."""

import json
import random

import pytest
import sqlalchemy as sa
from werkzeug.routing import AnyConverter, IntegerConverter

from tests.luck import LONG
from tests.store.rubbish import RUBBISH, anything, names_of

TRIES = 60 if LONG else 3


#: Left out: what ends the sign-in of the one who asks, and what the whole test stands on.
NOT = ("sign_in.", "colleagues.", "static")


@pytest.mark.parametrize("method", ["GET", "POST form", "POST json"])
def test_no_page_breaks(web, world, method):
    dice, broken, taken = random.Random(None if LONG else 7), [], 0
    rules = sorted(
        (
            r
            for r in web.application.url_map.iter_rules()
            if method.split()[0] in r.methods and not r.endpoint.startswith((*NOT, "api."))
        ),
        key=lambda r: r.rule,
    )
    assert len(rules) > 60
    for rule in rules:
        names = names_of(web.application.view_functions[rule.endpoint])
        for _ in range(TRIES):
            values = {
                name: dice.choice([1, 1, 1, 2, 99, 2**40])
                if isinstance(convert, IntegerConverter)
                else dice.choice(
                    sorted(convert.items)
                    if isinstance(convert, AnyConverter)
                    else ["a", "segment", "both", "1", "~", "é"]
                )
                for name, convert in rule._converters.items()
            }
            path = web.application.url_map.bind("localhost").build(
                rule.endpoint, values, method.split()[0]
            )
            held = {
                name: anything(dice, [*names, "do", "id", "patch", "lines"])
                if "json" in method
                else dice.choice(RUBBISH)
                for name in dice.sample(names, min(len(names), dice.randrange(1, 8)))
            }
            given = (
                {"query_string": {k: v.encode("utf-8", "replace") for k, v in held.items()}}
                if method == "GET"
                else {"json": held}
                if "json" in method
                else {"data": {k: v.encode("utf-8", "replace").decode() for k, v in held.items()}}
            )
            answer = web.open(path, method=method.split()[0], **given)
            taken += answer.status_code < 400
            if answer.status_code >= 500:
                broken.append((path, json.dumps(held)[:300], answer.status_code))
    assert taken > 20, "most of it never came to anything"
    assert not broken, "\n".join(map(str, broken[:40]))


def test_what_the_database_refuses_at_the_end_is_answered_in_words(web, world, database):
    answer = web.post("/messages/1/chosen", json={"slot": "subject", "text": "a\x00b"})
    assert (
        answer.status_code == 422 and "character that cannot be stored (NUL" in answer.json["error"]
    )
    answer = web.post("/messages/1/review", data={"reviewer": "99"})
    assert answer.status_code == 422 and "does not exist any more" in answer.text
    answer = web.get("/segments/1/people?after=99999999999999999999")
    assert answer.status_code == 200
    assert web.get("/people/suppressions?from=-1").status_code == 200
    with database.session() as session:
        assert session.execute(sa.text("SELECT count(*) FROM reviews")).scalar_one() == 0
