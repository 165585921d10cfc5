"""First openings: every page a person can open, found from the map of addresses, with nothing of it
kept by this process."""

import dataclasses
import html
import json
import re
import time
from collections.abc import Iterator
from typing import Any

import flask
import sqlalchemy as sa
from flask.testing import FlaskClient
from werkzeug.routing import Map, Rule

from meadowrun.base import cache, clock, jobs
from meadowrun.base.db import Database
from meadowrun.base.logs import configure
from meadowrun.base.settings import Settings
from meadowrun.bench.run import Measurement, World, compare
from meadowrun.shell import accounts, compiling

#: Chosen in a form, not linked.
_TYPED = ["/people?sort=added"]
#: Searches, which are posted.
_SEARCHED: dict[str, dict[str, Any]] = {
    "/people": {"data": {"q": "marsh"}},
    "/find": {"json": {"q": "ann"}},
}
#: Numbers tried for what no link leads to.
_NUMBERS = 8
#: Pages followed to find an address for every rule.
_MOST = 600
#: Addresses that do something, or are no pages.
_NOT = re.compile(r"/(api|static|healthz|u|p|c|r|s|o|later|sign-out|testing)(/|$)")
_HREF = re.compile(r'(?:href|action)="(/[^"#]*)"')
_MORE = re.compile(r'data-definition="([^"]*)"')
_TOKEN = "b" * 16


@dataclasses.dataclass(frozen=True)
class Opening:
    """One page: seconds until it was there, and until everything on it was exact."""

    path: str
    first: float
    exact: float


def signed_in(settings: Settings, database: Database) -> tuple[flask.Flask, FlaskClient]:
    """The application of a demo world, and a client that is signed in to it."""
    from meadowrun.shell.app import create_app

    app = create_app(settings, database)
    app.config["WTF_CSRF_ENABLED"] = False
    client = app.test_client()
    answer = client.post(
        "/sign-in", data={"email": "ida@farrowhill.example", "password": accounts.DEMO_PASSWORD}
    )
    assert answer.status_code == 303
    return app, client


def addresses(settings: Settings, database: Database) -> dict[str, str]:
    """rule → an address of it, for every page of a demo world that a person can open."""
    app, client = signed_in(settings, database)
    rules: Map = app.url_map
    adapter = rules.bind("127.0.0.1")
    found: dict[str, str] = {}
    waiting = _TYPED + [
        rule.rule
        for rule in rules.iter_rules()
        if "GET" in (rule.methods or ()) and not rule.arguments
    ]
    asked = 0
    while waiting and asked < _MOST:
        path = waiting.pop(0)
        try:
            rule, _ = adapter.match(path.partition("?")[0], method="GET", return_rule=True)
        except Exception:
            # A link to what only takes posts, or to somewhere else.
            continue
        if rule.rule in found or _NOT.match(path):
            continue
        asked += 1
        answer = client.get(path, headers={"X-Later": _TOKEN})
        if answer.is_json and answer.json == {"ready": True}:
            answer = client.get(path)
        if answer.status_code != 200 or answer.mimetype != "text/html":
            continue
        found[rule.rule] = path
        waiting += [html.unescape(link) for link in _HREF.findall(answer.text)]
    for rule in rules.iter_rules():
        if "GET" in (rule.methods or ()) and rule.rule not in found and not _NOT.match(rule.rule):
            found |= _tried(client, rule)
    return found


def _tried(client: FlaskClient, rule: Rule) -> dict[str, str]:
    """An address of a rule that no link leads to, with the first numbers that answer; nothing where
    none does, or it is no page."""
    for number in range(1, _NUMBERS):
        path = re.sub(r"<int:[a-z]+>", str(number), rule.rule)
        answer = client.get(path) if "<" not in path else None
        if answer is not None and answer.status_code == 200 and answer.mimetype == "text/html":
            return {rule.rule: path}
    return {}


def opened(client: FlaskClient, path: str) -> Opening:
    """Opens a page as a browser does, with what comes in behind it."""
    began = time.perf_counter()
    answer = client.get(path)
    first = time.perf_counter() - began
    assert answer.status_code == 200, (path, answer.status_code)
    if 'id="later"' in answer.text:
        client.get(path, headers={"X-Later": _TOKEN})
        answer = client.get(path)
        assert 'id="later"' not in answer.text, path
    if "data-more" in answer.text and (definition := _MORE.search(answer.text)):
        asked: dict[str, Any] = {
            "definition": json.loads(html.unescape(definition[1])),
            "exact": _TOKEN,
        }
        assert client.post("/segments/look", json=asked).status_code == 200
    return Opening(path, first, time.perf_counter() - began)


def searched(client: FlaskClient, path: str) -> Opening:
    """Searches as a browser does."""
    began = time.perf_counter()
    answer = client.post(path, follow_redirects=True, **_SEARCHED[path])
    took = time.perf_counter() - began
    assert answer.status_code == 200, (path, answer.status_code)
    return Opening(f"{path}, searched", took, took)


def pages(world: World) -> Iterator[Measurement]:
    """First openings of every page, with what the worker keeps ready and nothing else; and the time
    until all of it is exact."""
    configure("WARNING")
    paths = addresses(world.settings, world.database)
    with world.database.session() as session:
        session.execute(sa.text("TRUNCATE kept_sets, kept_answers, later_pages"))
    for name in (
        "people.sample",
        "people.duplicates",
        "segments.totals",
        "segments.refresh",
        "segments.renew",
    ):
        jobs.run_here(name)
    cache.forget()
    # The worker ran just now; a person comes some minutes later.
    with world.database.session() as session:
        session.execute(sa.text("UPDATE kept_sets SET as_of = as_of - interval '5 minutes'"))
    app, client = signed_in(world.settings, world.database)
    # As the server does beside its first requests.
    compiling.compile_all(app)
    every = [*paths.values(), *(path for path in _TYPED if path not in paths.values())]
    found = sorted(
        [
            *(opened(client, path) for path in every),
            *(searched(client, path) for path in _SEARCHED),
        ],
        key=lambda o: o.first,
    )
    large = world.scale > 100_000
    first, exact = (400.0, 5000.0) if large else (150.0, 1000.0)
    for one in sorted(
        {*sorted(found, key=lambda o: -o.exact)[:6], *found[-4:]}, key=lambda o: -o.exact
    ):
        print(
            (
                f"    {one.path:60} there in {one.first * 1000:6.0f} ms, exact in "
                f"{one.exact * 1000:6.0f} ms"
            ),
            flush=True,
        )
    print(f"    {len(found)} pages, at {clock.machine_now():%H:%M:%S}", flush=True)
    yield compare(
        "first openings, 95th percentile ÷ goal",
        found[int(len(found) * 0.95)].first * 1000,
        first,
        "ms",
        at_most=1.0,
    )
    yield compare(
        "until all is exact, slowest page ÷ goal",
        max(o.exact for o in found) * 1000,
        exact,
        "ms",
        at_most=1.0,
    )
