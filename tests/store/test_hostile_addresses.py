"""Every route with rubbish in its address and among its arguments, signed in and out: an answer,
never a fault."""

import re
import urllib.parse

import pytest

from meadowrun.base import clock
from tests.conftest import NOW
from tests.luck import LONG
from tests.store.people import add
from tests.store.rubbish import VALUES

#: The ordinary suite has each kind of value meet one route in so many.
SHARES = 3
NAMES = (
    "q",
    "after",
    "before",
    "from",
    "to",
    "as",
    "of",
    "w",
    "limit",
    "cursor",
    "sort",
    "segment",
    "draft",
    "with",
    "tag",
    "page",
    "tab",
    "channel",
    "campaign",
    "person",
    "who",
    "link",
    "day",
    "month",
    "about",
    "look",
    "sender",
    "topic",
    "mark",
    "proof",
    "text",
    "name",
    "list",
    "state",
    "start",
    "offset",
    "reading",
    "key",
    "what",
    "message",
    "near",
    "h",
    "ident",
)


def encoded(value):
    return value if value.startswith("%") else urllib.parse.quote(value, safe="")


def rules(client, method, value, kinds):
    """The routes of a method that meet a value: all of them in the long suite; ordinarily a third,
    so that each route meets a third of the kinds."""
    found = [
        rule
        for rule in client.application.url_map.iter_rules()
        if method in rule.methods and not rule.rule.startswith(("/static", "/sign-out"))
    ]
    if LONG or value not in kinds:
        return found
    return found[kinds.index(value) % SHARES :: SHARES]


def addresses(rule, value):
    """The rule with a value in each of its places, and with 1 there and the value in every
    argument."""
    word = encoded(value)
    arguments = "&".join(f"{name}={word}" for name in NAMES)
    bare = re.sub(r"<[^>]+>", "1", re.sub(r"<any\(([^,)]+)[^>]*>", r"\1", rule.rule))
    yield f"{bare}?{arguments}"
    if "<" in rule.rule:
        whole = re.sub(r"<any\(([^,)]+)[^>]*>", r"\1", rule.rule)
        number = value if value.isascii() and value.isdigit() else "9" * 19
        yield re.sub(
            r"<[^>]+>",
            word if "\x00" not in value else "%00",
            re.sub(r"<int:[^>]+>", number, whole),
        )


#: One of each kind; the others go through the long suite.
KINDS = ("²", "\x00", "-1", "9" * 25, "{{", "'", "9999-12-31", "%ed%a0%80", "[" * 1100)


@pytest.mark.parametrize(
    "value",
    [
        *KINDS,
        *(pytest.param(one, marks=pytest.mark.long) for one in VALUES if one not in KINDS),
    ],
    ids=lambda value: ascii(value[:12]),
)
def test_no_address_is_a_fault(web, database, value):
    with clock.at(NOW), database.session() as session:
        add(session, NOW, "ann@post.example", first_name="Ann")
    faults = []
    for rule in rules(web, "GET", value, KINDS):
        for address in addresses(rule, value):
            answer = web.get(
                address, headers={"Accept": "application/json"} if "api" in address else {}
            )
            if answer.status_code >= 500 and answer.status_code != 503:
                faults.append((answer.status_code, rule.rule, address[:60]))
            answer.close()
    assert faults == []


POSTED = ("²", "\x00", "[" * 1100, "\ud800")


@pytest.mark.parametrize(
    "value",
    [
        *POSTED,
        *(pytest.param(one, marks=pytest.mark.long) for one in ("9" * 25, "9999-12-31")),
    ],
    ids=lambda value: ascii(value[:8]),
)
def test_nothing_posted_is_a_fault(web, database, value):
    with clock.at(NOW), database.session() as session:
        add(session, NOW, "ann@post.example", first_name="Ann")
    faults = []
    form = "&".join(
        f"{name}={encoded(value) if value != chr(0xD800) else '%ed%a0%80'}"
        for name in (*NAMES, *FORM)
    )
    for rule in rules(web, "POST", value, POSTED):
        bare = re.sub(r"<[^>]+>", "1", re.sub(r"<any\(([^,)]+)[^>]*>", r"\1", rule.rule))
        for how in (
            {"data": form, "content_type": "application/x-www-form-urlencoded"},
            {"json": dict.fromkeys((*NAMES, *FORM), value)},
            {"json": [value]},
            {"data": b"\xff{", "content_type": "application/json"},
        ):
            answer = web.post(bare, **how)
            if answer.status_code >= 500 and answer.status_code not in (502, 503):
                faults.append((answer.status_code, rule.rule, list(how)))
    assert faults == []


FORM = (
    "email",
    "first_name",
    "address",
    "reply_to",
    "label",
    "type",
    "options",
    "version",
    "going",
    "percent",
    "half_life",
    "points",
    "rules",
    "words",
    "definition",
    "document",
    "change",
    "form",
    "slot",
    "line",
    "id",
    "n",
    "kind",
    "facts",
    "fact",
    "fact_value",
    "starts",
    "ends",
    "code",
    "reviewer",
    "answer",
    "note",
    "content",
    "number",
    "size",
    "width",
    "greetings",
    "reason",
    "until",
    "value",
    "limit",
    "time",
    "zone",
    "at",
    "leaves",
    "language",
    "timezone",
    "country",
    "targets",
    "file",
    "old",
    "new",
    "password",
    "role",
    "told",
    "token",
    "event",
    "details",
    "amount",
)
