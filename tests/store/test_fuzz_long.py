"""A hundred thousand requests of all kinds, by strangers and by every role: no fault, no long wait,
and memory that stays.

Where they begin is told, so that a run can be repeated: MEADOWRUN_FUZZ_SEED. How many:
MEADOWRUN_FUZZ.
"""

import contextlib
import gc
import gzip
import io
import json
import os
import pathlib
import random
import re
import socket
import time
import zipfile

import pytest
import sqlalchemy as sa
from werkzeug.routing import AnyConverter, IntegerConverter

from meadowrun.api.door import PATHS
from meadowrun.base import clock, signing
from meadowrun.core.content import spelling
from meadowrun.shell import accounts
from meadowrun.shell.keys import hash_key
from meadowrun.shell.models import ApiKey
from meadowrun.tracking import inbound
from tests.conftest import NOW
from tests.ports import own_port
from tests.store.rubbish import JSON, RUBBISH, VALUES, anything, names_of
from tests.store.web import browser, sign_in

pytestmark = pytest.mark.long
PARTS = 4
REQUESTS = int(os.environ.get("MEADOWRUN_FUZZ", "100000")) // PARTS
#: Seconds that no request may take, and how much memory may grow after the first tenth, in bytes.
LONGEST, GROWS = 5.0, 50_000_000
#: What ends sign-ins, or lets others in and shuts them out, as this test stands on them.
NOT = (
    "static",
    "sign_in.leave",
    "sign_in.enter",
    "sign_in.change_password",
    "sign_in.set_up_second_step",
    "colleagues.",
    "shell.forward",
)
_ENDS = re.compile(r"delete|erase|retire|merge|stop|remove|gone")
#: In a fuzzed request, rather these.
SIGNS = [
    "²",
    "٣",
    "\ud800",
    "\x00",
    "\r\nX: y",
    "\u202e",
    "\ufeff",
    "İ",
    "ß",
    "{{ contact.first_name }}",
    "{% for item in feed.a %}",
    "}}",
    "<!--[if mso]>",
    "&#0;",
    "=1+1",
    "\\",
    "%00",
    "../../",
    "'",
    '"',
    "`",
    ";",
    "[",
    "]",
    "9" * 40,
    "-0",
    "1e308",
    "NaN",
    "a" * 5000,
]


def memory():
    """Bytes of memory that this process holds."""
    gc.collect()
    return int(pathlib.Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE")


def zipped(name, content):
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w", zipfile.ZIP_DEFLATED) as out:
        out.writestr(name, content)
    return made.getvalue()


#: Files that are not what they say, or too much of it.
FILES = [
    ("a.csv", b"email,first_name\nann@a.example,Ann\n"),
    ("a.csv", b"\xff\xfe\x00"),
    ("a.csv", b'"' * 5000),
    ("a.csv", b"," * 20_000),
    ("a.csv", "email;Ort\nzoë@bücher.example;Köln\n".encode("latin-1")),
    ("a.xlsx", b"PK\x03\x04rubbish"),
    ("a.xlsx", zipped("xl/worksheets/sheet1.xml", b"<worksheet>" + b"<c/>" * 200_000)),
    ("a.xlsx", zipped("[Content_Types].xml", b"<x/>")),
    ("a.png", b"\x89PNG\r\n\x1a\n" + b"\0" * 100),
    ("a.png", b"GIF89a"),
    ("a.svg", b"<svg onload='x()'><script>1</script></svg>"),
    ("a.pdf", b"%PDF-1.4"),
    ("a.html", b"<table>" * 5000),
    ("a.html", b"<style>a{}<<//style><script>1</script>"),
    ("a.eml", b"Subject: x\n\n" * 500),
    ("a.eml", b"Content-Type: multipart/mixed; boundary=x\n\n" + b"--x\n" * 3000),
    ("a.mjml", b"<mjml><mj-body>" + b"<mj-section>" * 2000),
    ("a.json", b'{"format": 1, "lines": ' + b"[" * 4000),
    ("a.csv.gz", gzip.compress(b"a" * 3_000_000)),
    ("", b""),
]


class Fuzzer:
    """Makes requests of all kinds by chance, and notes what went wrong."""

    def __init__(self, database, settings, seed):
        self.dice = random.Random(seed)
        self.clients = {"nobody": browser(database, settings)}
        for role in ("viewer", "author", "approver", "admin"):
            self.clients[role] = browser(database, settings)
            sign_in(self.clients[role], role)
        app = self.clients["nobody"].application
        self.rules = [
            (rule, method)
            for rule in app.url_map.iter_rules()
            for method in rule.methods - {"HEAD", "OPTIONS"}
            if not rule.endpoint.startswith((*NOT, "api."))
        ]
        self.api = [(path, method) for path, methods in PATHS.items() for method in methods]
        self.names = {
            rule.endpoint: names_of(app.view_functions[rule.endpoint]) for rule, _ in self.rules
        }
        self.tokens = [
            signing.make(settings.secret, purpose, 1, who)
            for purpose in signing.PURPOSES
            for who in (1, 2, 99)
        ]
        self.tokens += [
            signing.visitor(settings.secret, 1, NOW),
            signing.seal(settings.secret, "proof", 1, 1),
            "preview",
        ]
        self.faults, self.statuses, self.slowest = [], {}, (0.0, "")

    def word(self):
        dice = self.dice
        made = dice.choice(
            dice.choice((RUBBISH, SIGNS, [v for v in VALUES if not v.startswith("%")], self.tokens))
        )
        if dice.random() < 0.2:
            # One sign of it is another.
            at = dice.randrange(len(made) + 1)
            made = made[:at] + dice.choice(SIGNS) + made[at + 1 :]
        return (
            made.encode("utf-8", "surrogatepass").decode("utf-8", "replace")
            if dice.random() < 0.9
            else made
        )

    def path(self, rule):
        values = {}
        for name, convert in rule._converters.items():
            if isinstance(convert, IntegerConverter):
                values[name] = self.dice.choice([1, 1, 1, 2, 3, 99, 2**40, 2**63, 10**25])
            elif isinstance(convert, AnyConverter):
                values[name] = self.dice.choice(sorted(convert.items))
            else:
                values[name] = (
                    self.dice.choice([*self.tokens, "a", "1", self.word()]).replace("/", "") or "x"
                )
        bound = self.clients["nobody"].application.url_map.bind("localhost")
        return bound.build(rule.endpoint, values, next(iter(rule.methods - {"OPTIONS", "HEAD"})))

    def page(self):
        rule, method = self.dice.choice(self.rules)
        if _ENDS.search(rule.endpoint) and self.dice.random() < 0.97:
            # Otherwise there would soon be nothing left to ask about.
            return None
        names = self.names[rule.endpoint]
        held = self.dice.sample(names, min(len(names), self.dice.randrange(0, 9)))
        try:
            path = self.path(rule)
        except UnicodeError:
            return None
        if method == "GET":
            return method, path, {"query_string": {name: self.plain() for name in held}}
        kind = self.dice.random()
        if kind < 0.45:
            return method, path, {"data": {name: self.plain() for name in held}}
        if kind < 0.7:
            body = {name: anything(self.dice, [*names, "id", "lines", "patch"]) for name in held}
            return method, path, {"data": json.dumps(body), "content_type": "application/json"}
        if kind < 0.9:
            name, content = self.dice.choice(FILES)
            data = {n: self.plain() for n in held} | {
                self.dice.choice(("file", "files", "picture", "upload", "code")): (
                    io.BytesIO(content),
                    name,
                )
            }
            return method, path, {"data": data, "content_type": "multipart/form-data"}
        rubbish = self.dice.randbytes(self.dice.randrange(300))
        return (
            method,
            path,
            {
                "data": rubbish,
                "content_type": self.dice.choice(
                    (
                        "application/json",
                        "multipart/form-data; boundary=x",
                        "multipart/form-data",
                        "application/x-www-form-urlencoded",
                        "text/plain",
                        "²",
                    )
                ),
            },
        )

    def plain(self):
        return self.word().encode("utf-8", "replace")

    def of_api(self):
        path, method = self.dice.choice(self.api)
        while "{" in path:
            begin, end = path.index("{"), path.index("}")
            path = (
                path[:begin]
                + self.dice.choice(
                    ("1", "2", "99", "9" * 25, "a", "ann@post.example", "%00", "segment")
                )
                + path[end + 1 :]
            )
        known = [
            "email",
            "first_name",
            "consent",
            "agreed",
            "how",
            "events",
            "event",
            "contact",
            "details",
            "at",
            "id",
            "definition",
            "lines",
            "name",
            "version",
            "contacts",
            "tag",
            "tags",
            "score",
            "points",
            "why",
            "label",
            "type",
            "options",
            "gone",
            "format",
            "document",
        ]
        key = self.dice.choices(("Bearer key_fuzz", "Bearer wrong", "Basic x", ""), (6, 1, 1, 1))[0]
        given = {"headers": {"Authorization": key}}
        if method != "get":
            body = (
                self.dice.choice(JSON)
                if self.dice.random() < 0.1
                else {n: anything(self.dice, known, 3) for n in self.dice.sample(known, 4)}
            )
            given["data"] = (
                json.dumps(body) if self.dice.random() < 0.95 else self.dice.randbytes(60)
            )
            given["content_type"] = "application/json"
        else:
            given["query_string"] = {
                n: self.plain()
                for n in self.dice.sample(["after", "limit", "email", "of", "what"], 2)
            }
        return method.upper(), path, given

    def of_website(self):
        body = {
            "key": self.dice.choice(("site_x", "site_x", "key_fuzz", "")),
            "visitor": self.dice.choice(self.tokens),
            "event": self.word(),
            "details": anything(self.dice, ["page", "amount"]),
            "token": self.dice.choice(self.tokens),
            "button": self.dice.choice(JSON),
            "subscription": anything(
                self.dice, ["endpoint", "keys", "p256dh", "auth", "system", "token"], 3
            ),
        }
        path = self.dice.choice(("/site/events", "/site/in-app", "/site/push"))
        return (
            "POST",
            path,
            {
                "data": json.dumps(body).encode("utf-8", "replace"),
                "headers": {"Origin": "https://farrowhill.example"},
            },
        )

    def one(self):
        """One request, by somebody; False when none could be made."""
        asked = self.dice.choices((self.page, self.of_api, self.of_website), (8, 2, 1))[0]()
        if asked is None:
            return False
        method, path, given = asked
        who = self.dice.choices(list(self.clients), (2, 1, 3, 1, 6))[0]
        began = time.monotonic()
        try:
            answer = self.clients[who].open(path, method=method, **given)
            status = answer.status_code
            answer.close()
        except Exception as problem:
            status = f"{type(problem).__name__}: {problem}"[:200]
        took = time.monotonic() - began
        self.slowest = max(self.slowest, (took, f"{method} {path[:80]}"))
        self.statuses[str(status)[:3]] = self.statuses.get(str(status)[:3], 0) + 1
        # 502 and 503 are answers in words: a server of others, or the database, is away.
        if isinstance(status, str) or status >= 500 and status not in (502, 503) or took > LONGEST:
            self.faults.append((who, method, path[:200], str(given)[:400], status, f"{took:.1f} s"))
        return True


@pytest.fixture
def fuzzer(request, database, settings, client, world):
    with clock.at(NOW), database.session() as session:
        accounts.add_user(
            session, NOW, "approver@farrowhill.example", "Approver", "approver", "a long password"
        )
        session.add(
            ApiKey(name="fuzz", kind="secret", key_hash=hash_key("key_fuzz"), created_at=NOW)
        )
        session.add(
            ApiKey(
                name="site",
                kind="site",
                key_hash="site_x",
                origins=["https://farrowhill.example"],
                created_at=NOW,
            )
        )
    seed = int(os.environ.get("MEADOWRUN_FUZZ_SEED", "0")) or time.time_ns() % 10**9
    return Fuzzer(database, settings, seed + request.node.callspec.params.get("part", 0)), seed


@pytest.mark.parametrize("part", range(PARTS))
def test_no_request_is_a_fault(part, fuzzer, database, capsys):
    found, seed = fuzzer
    before = None
    # What is loaded once, for the first page that asks for it, is no growth.
    spelling.misspelt("a first wurd")
    for number in range(REQUESTS):
        while not found.one():
            pass
        if number == REQUESTS // 10:
            before = memory()
        if number % 2000 == 1999:
            with database.session() as session:
                # What it has made so far would only make pages longer.
                session.execute(sa.text("DELETE FROM procrastinate_jobs"))
    grown = memory() - before
    with capsys.disabled():
        print(
            f"\npart {part}, seed {seed}: {REQUESTS:,} requests, answers "
            f"{dict(sorted(found.statuses.items()))}, slowest {found.slowest[0]:.2f} s "
            f"({found.slowest[1]}), memory grew by {grown / 1e6:.0f} MB"
        )
    assert not found.faults, "\n".join(map(str, found.faults[:30]))
    assert grown < GROWS
    assert sum(found.statuses.get(code, 0) for code in ("200", "303")) > REQUESTS / 20, (
        "most of it never came to anything"
    )


@pytest.mark.parametrize("part", [0])
def test_no_talk_by_smtp_is_a_fault(part, fuzzer, database, settings):
    """Rubbish at every step of a talk, and reports that are none; the listener still answers the
    next one at once."""
    found, _ = fuzzer
    port = own_port()
    office = inbound.listener(
        database, settings.__class__(**{**settings.__dict__, "inbound": ("127.0.0.1", port)})
    )
    office.start()
    dice, before = found.dice, None
    steps = [
        b"EHLO x\r\n",
        b"MAIL FROM:<a@b.example>\r\n",
        b"RCPT TO:<bounce+TOKEN@mail.example>\r\n",
        b"DATA\r\n",
        (
            b"Content-Type: multipart/report; boundary=x\r\n\r\n--x\r\nContent-Type: "
            b"message/delivery-status\r\n\r\nStatus: 5.1.1\r\n--x--\r\n.\r\n"
        ),
    ]
    try:
        for number in range(max(200, REQUESTS // 10)):
            with (
                contextlib.suppress(OSError),
                socket.create_connection(("127.0.0.1", port), timeout=LONGEST) as talk,
            ):
                talk.settimeout(0.02)
                for step in steps:
                    line = step.replace(b"TOKEN", dice.choice(found.tokens).encode())
                    if dice.random() < 0.2:
                        line = dice.choice(
                            (
                                dice.randbytes(200),
                                b"RSET\r\n",
                                b"A" * 3000 + b"\r\n",
                                b"\r\n",
                                b".\r\n",
                                b"RCPT TO:<" + b"@" * 50 + b">\r\n",
                            )
                        )
                    talk.sendall(line)
                    with contextlib.suppress(TimeoutError):
                        if not talk.recv(2000):
                            break
            if number == 100:
                before = memory()
        began = time.monotonic()
        with socket.create_connection(("127.0.0.1", port), timeout=LONGEST) as talk:
            assert talk.recv(200).startswith(b"220") and time.monotonic() - began < 1
        assert memory() - before < GROWS
    finally:
        office.stop()
