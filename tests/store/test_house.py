"""Rules of the house: who may import whom, settings, sign-in, roles, health."""

import ast
import datetime as dt
import importlib.metadata
import json
import os
import pathlib
import re
import subprocess
import sys

import flask
import pytest
import sqlalchemy as sa
from croniter import croniter

from meadowrun.base import clock, jobs
from meadowrun.base.audit import AuditRow
from meadowrun.base.errors import SettingsError
from meadowrun.base.settings import Settings, declared
from meadowrun.features import NAMES, OF_DEMO, features, load_tasks
from meadowrun.shell.app import create_app
from tests.conftest import settings_for
from tests.store.web import sign_in

SRC = pathlib.Path(__file__).resolve().parents[2] / "src" / "meadowrun"
#: Modules besides pages that may know of the request: what is drawn on pages of others, and what
#: several pages ask.
OF_PAGES = ("views.py", "page.py", "feature.py", "waiting.py", "asked.py", "tagged.py")


def imports(path):
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            yield from (a.name for a in node.names)
        elif isinstance(node, ast.ImportFrom):
            yield node.module or ""
            yield from (f"{node.module}.{a.name}" for a in node.names)


def test_the_core_knows_nothing_but_itself():
    for path in SRC.glob("core/**/*.py"):
        for name in imports(path):
            assert not name.startswith(("flask", "sqlalchemy", "psycopg")), path
            assert not name.startswith("meadowrun") or name.startswith("meadowrun.core"), (
                path,
                name,
            )


def test_each_package_imports_only_from_those_below_it():
    """The contract stands in pyproject.toml."""
    root = SRC.parents[1]
    done = subprocess.run(
        [pathlib.Path(sys.executable).with_name("lint-imports"), "--no-cache"],
        cwd=root,
        capture_output=True,
        text=True,
        env={**os.environ, "PYTHONPATH": str(SRC.parent)},
        timeout=120,
    )
    assert done.returncode == 0, done.stdout[-3000:]


def test_every_folder_of_a_feature_says_what_it_adds():
    """And nothing of a demo is loaded elsewhere."""
    folders = {path.parent.name for path in SRC.glob("*/feature.py")}
    assert folders == {*NAMES, *OF_DEMO}
    modules = {f"{path.parent.name}.{path.stem}" for path in SRC.glob("*/*views.py")}
    said = {
        f"{one.package.rpartition('.')[2]}.{name}"
        for one in features(True)
        for name in one.feature.pages
    }
    assert said == modules
    tasks = {
        f"{path.parent.name}.{path.stem}"
        for path in SRC.glob("*/*.py")
        if "@jobs.task(" in path.read_text()
    }
    assert {
        f"{one.package.rpartition('.')[2]}.{name}"
        for one in features(True)
        for name in one.feature.tasks
    } == tasks
    assert not any("village" in one.package for one in features(False))


def test_only_the_clock_asks_the_time():
    allowed = {"base/clock.py"}
    for path in SRC.glob("**/*.py"):
        text = path.read_text()
        if str(path.relative_to(SRC)) not in allowed:
            for sign in ("datetime.now(", "date.today(", "utcnow(", "time.time("):
                assert sign not in text, (path, sign)


def test_what_is_imported_is_declared_and_what_is_declared_is_imported():
    """`selenium` is for screenshots and tests; `tzdata` is what `zoneinfo` reads where a machine
    has no time zones."""
    modules = (
        {name.split(".")[0] for path in SRC.rglob("*.py") for name in imports(path)}
        - set(sys.stdlib_module_names)
        - {"meadowrun", ""}
    )
    packages = importlib.metadata.packages_distributions()
    used = {package.lower().replace("_", "-") for module in modules for package in packages[module]}
    lines = (SRC.parents[1] / "requirements.in").read_text().splitlines()
    declared = {
        re.split(r"[\[<>=]", line)[0].strip().lower()
        for line in lines
        if line.strip() and not line.startswith("#")
    }
    assert used - declared == {"selenium"} and declared - used == {"tzdata"}


def test_all_that_goes_out_over_http_goes_through_one_client():
    """But for the village, which plays the people outside, and what starts a demo."""
    direct = {
        str(path.relative_to(SRC))
        for path in SRC.rglob("*.py")
        for name in imports(path)
        if name.split(".")[0] in ("requests", "httpx", "urllib3", "http")
        and not name.startswith("http.client")
        or name.startswith("urllib.request")
    }
    assert {path for path in direct if not path.startswith(("village/", "demo/", "bench/"))} == {
        "gateways/outgoing.py"
    }


def of_features():
    """The modules of every feature but the shell, which is what pages stand on."""
    for name in (*NAMES, *OF_DEMO):
        if name != "shell":
            yield from (SRC / name).rglob("*.py")


def test_only_pages_know_of_the_request_and_nobody_commits():
    """A transaction ends with the request or the job, in one place."""
    for path in of_features():
        if not path.name.endswith(OF_PAGES) and path.parts[-2] not in ("api", "village"):
            assert not any(n.startswith("flask") for n in imports(path)), path
        assert ".commit(" not in path.read_text(), path


def test_pages_ask_for_what_they_show_and_never_write_sql():
    for path in [*SRC.glob("*/*views.py"), *SRC.glob("api/*.py")]:
        assert not any(n.startswith("sqlalchemy") for n in imports(path)), path


def test_features_do_not_reach_into_each_others_pages():
    for path in of_features():
        own = f"meadowrun.{path.relative_to(SRC).parts[0]}."
        for name in imports(path):
            if name.startswith("meadowrun.") and not name.startswith(own):
                assert not any(part.endswith("views") for part in name.split(".")[2:]), (path, name)


def test_templates_are_read_from_top_to_bottom():
    """One element a line: nothing is hidden far to the right. A hundred columns, but for a single
    attribute or tag that is longer."""
    wide = [
        (len(line), f"{path.name}: {line.strip()[:60]}")
        for path in SRC.rglob("templates/**/*.html")
        for line in path.read_text().splitlines()
        if len(line) > 100
    ]
    assert [line for width, line in wide if width > 125] == []
    assert len(wide) <= 40, sorted(wide)


def statements_in_place(path):
    """SQL that is written where it is used: (first line, lines)."""
    for node in ast.walk(ast.parse(path.read_text())):
        if (
            isinstance(node, ast.Call)
            and isinstance(node.func, ast.Attribute)
            and isinstance(node.func.value, ast.Name)
            and (node.func.value.id, node.func.attr) == ("sa", "text")
            and isinstance(node.args[0], ast.Constant | ast.JoinedStr | ast.BinOp)
        ):
            sql = node.args[0]
            yield sql.lineno, sql.end_lineno - sql.lineno + 1


def test_sql_of_more_than_three_lines_has_a_name():
    """Only the bench writes one out, beside what it is measured against."""
    long = [
        f"{path.relative_to(SRC)}:{line}"
        for path in SRC.rglob("*.py")
        if "bench" not in path.parts
        for line, lines in statements_in_place(path)
        if lines > 3
    ]
    assert long == []


def test_numbers_on_pages_are_written_as_their_reader_does():
    """By the filters for numbers; only what stands in an attribute is written for the browser."""
    plain = re.compile(r"""(?<!=")\{\{-?\s*'(?:%[+.,\d]*[defg]|\{:)""")
    found = [
        f"{path.name}: {line.strip()[:70]}"
        for path in SRC.rglob("templates/**/*.html")
        for line in path.read_text().splitlines()
        if plain.search(line) and 'value="' not in line
    ]
    assert found == []


#: What is kept as a text, or sent as one, is written the same for everybody who reads it.
KEPT_AS_TEXT = {"outgoing/stopping.py", "sends/repeats.py", "sends/approval.py"}
#: What gives a number, a day or a time that is written as its reader does.
FIGURES = set(
    re.findall(
        r"\w+",
        "number share people percent decimal signed day weekday weekday_day weekday_date "
        "weekday_time short_month month long_month day_month span time seconds moment count_of",
    )
)


def figures_in_plain_texts(path):
    """The calls of figures inside f-strings, which make them English: unless `escape` or
    `in_language` has written them out before."""
    tree = ast.parse(path.read_text())
    names, modules = {}, set()
    for node in ast.walk(tree):
        if isinstance(node, ast.ImportFrom) and node.module == "meadowrun.core.wording":
            names |= {one.asname or one.name: one.name for one in node.names}
        if isinstance(node, ast.ImportFrom) and node.module == "meadowrun.core":
            modules |= {one.asname or one.name for one in node.names if one.name == "wording"}
    for text in (node for node in ast.walk(tree) if isinstance(node, ast.JoinedStr)):
        for value in text.values:
            call = getattr(value, "value", None)
            if not isinstance(call, ast.Call):
                continue
            called = call.func
            if isinstance(called, ast.Name) and names.get(called.id) in FIGURES:
                yield f"{path.relative_to(SRC)}:{text.lineno}: {called.id}"
            elif (
                isinstance(called, ast.Attribute)
                and isinstance(called.value, ast.Name)
                and called.value.id in modules
                and called.attr in FIGURES
            ):
                yield f"{path.relative_to(SRC)}:{text.lineno}: {called.attr}"


def test_a_figure_keeps_the_way_its_reader_writes_it():
    """An f-string would make it plain English: a `Wording` keeps it."""
    found = [
        place
        for path in SRC.rglob("*.py")
        if str(path.relative_to(SRC)) not in KEPT_AS_TEXT
        for place in figures_in_plain_texts(path)
    ]
    assert found == []


def test_no_inline_scripts_styles_or_hosts_in_templates():
    for path in SRC.glob("**/*.html"):
        text = path.read_text()
        assert "onclick=" not in text and "<style" not in text and "javascript:" not in text, path
        if "village" not in path.parts:
            assert 'style="' not in text, path
            assert "<script>" not in text, path


class TestSettings:
    GOOD = {
        "MEADOWRUN_DATABASE_URL": "postgresql://x@y/z",
        "MEADOWRUN_SECRET": "s" * 32,
        "MEADOWRUN_PUBLIC_URL": "https://m.example/",
        "MEADOWRUN_SMTP_URL": "smtp://127.0.0.1:25",
    }

    def test_good_ones(self):
        assert Settings.read(self.GOOD).public_url == "https://m.example"

    @pytest.mark.parametrize(
        ("name", "value"),
        [
            ("MEADOWRUN_DATABASE_URL", ""),
            ("MEADOWRUN_DATABASE_URL", "mysql://x"),
            ("MEADOWRUN_SECRET", "short"),
            ("MEADOWRUN_TIMEZONE", "Mars/Olympus"),
            ("MEADOWRUN_INBOUND", "nowhere"),
            ("MEADOWRUN_LOG_LEVEL", "LOUD"),
            ("MEADOWRUN_DEMO", "yes"),
            ("MEADOWRUN_SMTP_URL", "http://x"),
            ("MEADOWRUN_PUBLIC_URL", "m.example"),
        ],
    )
    def test_an_error_names_the_variable(self, name, value):
        with pytest.raises(SettingsError, match=name):
            Settings.read({**self.GOOD, name: value})

    @pytest.mark.parametrize(
        ("organisation", "given", "sender"),
        [
            ("Reed Mill", "", "Reed Mill"),
            ("Farrow Hill Observatory", "", "Farrow Hill"),
            ("Sankt-Ägidius & Co", "", "Sankt"),
            ("Unbreakablename", "", "Unbreakable"),
            ("Reed Mill", "MILL", "MILL"),
            ("éé", "", "Meadowrun"),
        ],
    )
    def test_texts_come_from_the_organisation(self, organisation, given, sender):
        found = Settings.read(
            {**self.GOOD, "MEADOWRUN_ORGANISATION": organisation, "MEADOWRUN_SMS_SENDER": given}
        ).sms_sender
        assert found == sender and len(found) <= 11

    def test_all_are_documented(self):
        text = (SRC.parents[1] / "docs" / "settings.md").read_text()

        def default(one):
            if one.default is None:
                return "must be given"
            return f"`{one.default}`" if one.default else "empty"

        lines = {f"| `{one.name}` | {one.meaning} | {default(one)} |" for one in declared()}
        assert lines <= set(text.splitlines()), lines - set(text.splitlines())

    def test_all_that_is_wrong_is_named_at_once(self):
        with pytest.raises(SettingsError) as wrong:
            Settings.read({"MEADOWRUN_SECRET": "short", "MEADOWRUN_DEMO": "yes"})
        assert [line.split()[0] for line in str(wrong.value).splitlines()] == [
            "MEADOWRUN_DATABASE_URL",
            "MEADOWRUN_SECRET",
            "MEADOWRUN_PUBLIC_URL",
            "MEADOWRUN_SMTP_URL",
            "MEADOWRUN_DEMO",
        ]


class TestSignIn:
    def test_pages_are_for_people_who_signed_in(self, client):
        assert client.get("/people").location.startswith("/sign-in?to=/people")
        assert sign_in(client).location == "/people"
        assert client.get("/people").status_code == 200
        client.post("/sign-out")
        assert client.get("/people").status_code == 302

    def test_wrong_passwords_are_counted_and_then_refused(self, client):
        for _ in range(8):
            assert sign_in(client, password="wrong").status_code == 422
        assert sign_in(client).status_code == 429

    def test_passwords_are_hashed_as_rfc_9106_asks(self, light):
        assert light.hash("a long password").startswith("$argon2id$v=19$m=65536,t=3,p=4$")

    def test_it_never_leads_elsewhere(self, client):
        for to in ("https://evil.example", "//evil.example", "/\\evil.example"):
            answer = client.post(
                "/sign-in",
                data={"email": "admin@farrowhill.example", "password": "a long password", "to": to},
            )
            assert answer.location == "/"

    def test_roles(self, client):
        sign_in(client, "viewer")
        assert client.get("/people").status_code == 200
        assert client.get("/people/new").status_code == 403
        assert client.post("/campaigns/new", data={"name": "X"}).status_code == 403
        client.post("/sign-out")
        sign_in(client, "author")
        assert client.post("/campaigns/new", data={"name": "X", "kind": "Other"}).status_code == 303
        assert client.get("/changes").status_code == 403

    def test_a_forged_form_is_refused(self, database, settings, client):
        client.application.config["WTF_CSRF_ENABLED"] = True
        assert client.post("/sign-in", data={"email": "x", "password": "y"}).status_code == 400


def test_headers(client):
    headers = client.get("/sign-in").headers
    policy = headers["Content-Security-Policy"]
    assert (
        "script-src 'self'" in policy
        and "unsafe" not in policy
        and "frame-ancestors 'none'" in policy
    )
    assert headers["X-Content-Type-Options"] == "nosniff" and headers["X-Request-Id"]


def test_a_users_mail_is_only_shown_in_a_sandbox(client):
    sign_in(client)
    client.post("/messages/new", data={"name": "M"})
    policy = client.get("/messages/1/read.html").headers["Content-Security-Policy"]
    assert (
        policy.startswith("sandbox")
        and "script-src" not in policy
        and "default-src 'none'" in policy
    )


def test_every_change_by_a_person_leaves_a_row(database, client):
    sign_in(client)
    client.post("/campaigns/new", data={"name": "Leonids", "kind": "Open night"})
    client.post("/people/new", data={"first_name": "Ann", "email": "ann@post.example"})
    with database.session() as session:
        rows = [
            (r.who, r.did, r.object_kind, r.object_name, bool(r.request_id))
            for r in session.scalars(sa.select(AuditRow).order_by(AuditRow.id))
        ]
    assert rows == [
        ("Admin", "signed in", "user", "Admin", True),
        ("Admin", "saved", "campaign", "Leonids", True),
        ("Admin", "added", "contact", "Ann", True),
    ]


def test_nothing_typed_is_lost_when_a_form_is_refused(client):
    sign_in(client)
    answer = client.post("/people/new", data={"first_name": "Zoë", "email": "not an address"})
    assert (
        answer.status_code == 422
        and "Zoë" in answer.text
        and "not an address" in answer.text
        and "has no @" in answer.text
    )


def test_a_new_installation_names_its_senders_and_topics(client):
    sign_in(client)
    assert "No sender yet" in client.get("/senders").text
    answer = client.post("/senders", data={"name": "The desk", "address": "nowhere"})
    assert answer.status_code == 422 and "has no @" in answer.text and "The desk" in answer.text
    assert (
        client.post(
            "/senders", data={"name": "The desk", "address": "desk@farrowhill.example"}
        ).status_code
        == 303
    )
    assert (
        client.post("/senders", data={"topic": "Sky diary", "about": "what to see"}).status_code
        == 303
    )
    assert client.post("/senders", data={"topic": "sky  DIARY"}).status_code == 409
    shown = client.get("/senders").text
    assert "desk@farrowhill.example" in shown and "what to see" in shown
    # Both can be put right later; the form holds what there is.
    assert (
        'value="desk@farrowhill.example"' in client.get("/senders?sender=1").text
        and "Save this sender" in client.get("/senders?sender=1").text
    )
    assert 'value="what to see"' in client.get("/senders?topic=1").text
    answer = client.post(
        "/senders",
        data={"sender": "1", "name": "Front desk", "address": "front@farrowhill.example"},
        follow_redirects=True,
    )
    assert (
        "“Front desk” was changed." in answer.text
        and "front@farrowhill.example" in answer.text
        and "The desk" not in answer.text
    )
    answer = client.post(
        "/senders",
        data={"known": "1", "topic": "Sky letter", "about": "monthly"},
        follow_redirects=True,
    )
    assert "“Sky letter” was changed." in answer.text and "<b>Sky diary</b>" not in answer.text
    client.post("/senders", data={"topic": "Lectures", "about": ""})
    assert client.post("/senders", data={"known": "2", "topic": "SKY letter"}).status_code == 409
    assert client.get("/senders?sender=9").status_code == 404
    assert (
        client.post(
            "/senders", data={"sender": "9", "name": "X", "address": "x@y.example"}
        ).status_code
        == 404
    )


def test_health_tells_of_a_database_that_is_away(settings, client):
    assert client.get("/healthz").json == {"ok": True, "database": "answers"}
    from meadowrun.base.db import Database

    gone = create_app(settings, Database("postgresql://x:y@127.0.0.1:9/z")).test_client()
    answer = gone.get("/healthz")
    assert answer.status_code == 503 and answer.json["ok"] is False
    gone.set_cookie("meadowrun_in", "x")
    assert gone.get("/people").status_code == 503


def test_unknown_pages_and_objects(client):
    sign_in(client)
    for path in (
        "/nowhere",
        "/people/99",
        "/segments/9",
        "/messages/9",
        "/sends/9",
        "/results/9",
        "/campaigns/9",
        "/imports/9",
    ):
        assert client.get(path).status_code == 404, path
    assert json.loads(client.get("/people/99", headers={"Accept": "application/json"}).data)[
        "error"
    ].startswith("This contact")


class TestJobs:
    def test_a_job_is_committed_with_its_data_or_not_at_all(self, database, job_context):
        with pytest.raises(RuntimeError, match="on purpose"), database.session() as session:
            jobs.enqueue(session, "sends.sweep")
            raise RuntimeError("on purpose")
        with database.session() as session:
            jobs.enqueue(session, "sends.sweep")
        with database.session() as session:
            assert session.execute(
                sa.text("SELECT task_name, status::text FROM procrastinate_jobs")
            ).all() == [("sends.sweep", "todo")]

    def test_a_job_nobody_knows_is_refused_at_once(self, database, job_context):
        with database.session() as session, pytest.raises(KeyError):
            jobs.enqueue(session, "no.such")


class TestClock:
    def test_the_demo_clock_only_moves_forward(self, database):
        with database.session() as session:
            before = clock.now(session)
            clock.set_ahead(session, before + dt.timedelta(days=2))
            assert (clock.now(session) - before).days == 2
            clock.set_ahead(session, before)
            assert (clock.now(session) - before).days == 2

    def test_a_stranger_cannot_set_the_time_of_a_request(self, database):
        app = create_app(
            settings_for(
                database.url, MEADOWRUN_DEMO="1", MEADOWRUN_VILLAGE_URL="http://127.0.0.1:2"
            ),
            database,
        )
        with app.test_request_context(
            "/healthz",
            headers={
                "X-Village-Moment": "2030-01-01T00:00:00+00:00",
                "X-Village-Signature": "00" * 8,
            },
        ):
            app.preprocess_request()
            assert "now" not in flask.g


def test_schedules_mean_what_they_look_like():
    """Seconds stand last. What runs at night runs once a day; nothing runs more often than every
    five seconds."""
    load_tasks(True)
    begins = dt.datetime(2026, 11, 23, tzinfo=dt.UTC)
    runs = {}
    for name, every in jobs.schedules().items():
        ahead = croniter(every, begins)
        days = [ahead.get_next(dt.datetime) for _ in range(2)]
        runs[name] = (days[1] - days[0]).total_seconds()
    assert min(runs.values()) >= 5
    nightly = {name for name, seconds in runs.items() if seconds > 3600}
    assert {name: runs[name] for name in nightly} == dict.fromkeys(
        ("outgoing.holidays", "readiness.look"), 86_400
    )
