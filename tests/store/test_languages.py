"""Every page in a made-up language: what stays English was never marked, or is somebody's data."""

import html.parser
import re

import pytest
from babel.messages.mofile import write_mo

from meadowrun.shell import language
from meadowrun.shell.app import create_app
from meadowrun.shell.language.catalogue import catalogue
from tests.store.web import sign_in

#: A language that nobody speaks: everything is said in these brackets.
OPEN, CLOSE = "⟦", "⟧"
#: What somebody called a topic, which is also an example in a field.
DATA = {"Sky diary"}
#: Elements whose text nobody reads, or is what somebody typed.
SKIPPED = {"script", "style", "textarea", "svg"}


class Read(html.parser.HTMLParser):
    """What a page says, text by text, and what its read attributes say."""

    def __init__(self):
        super().__init__()
        self.said, self._inside = [], []

    def handle_starttag(self, tag, attrs):
        self.said += [
            value
            for name, value in attrs
            if name in ("title", "aria-label", "placeholder") and value
        ]
        if tag not in ("br", "input", "img", "meta", "link", "hr", "wbr", "col", "source"):
            self._inside.append(tag)

    def handle_endtag(self, tag):
        while self._inside and self._inside.pop() != tag:
            pass

    def handle_data(self, data):
        if data.strip() and not SKIPPED & set(self._inside):
            self.said.append(" ".join(data.split()))


def bracketed(message):
    """The message in the made-up language: each text between its elements in brackets."""
    return "".join(
        f"{OPEN}{piece}{CLOSE}" if re.search(r"\w", piece) and piece[0] != "<" else piece
        for piece in re.split(r"(<[^>]*>)", message)
        if piece
    )


@pytest.fixture(scope="module")
def brackets(tmp_path_factory):
    """A folder with the catalogue of the made-up language, and every text that is in it."""
    made = catalogue()
    for message in made:
        if message.id:
            both = message.id if isinstance(message.id, tuple) else (message.id,)
            said = tuple(bracketed(one) for one in both)
            message.string = said if len(said) > 1 else said[0]
    folder = tmp_path_factory.mktemp("languages")
    inside = folder / "eo" / "LC_MESSAGES"
    inside.mkdir(parents=True)
    with (inside / "meadowrun.mo").open("wb") as file:
        write_mo(file, made)
    known = {one for m in made if m.id for one in (m.id if isinstance(m.id, tuple) else (m.id,))}
    return folder, known


@pytest.fixture
def foreign(database, settings, client, world, brackets, monkeypatch):
    """The application with a catalogue of the made-up language, and what is in the catalogue."""
    folder, known = brackets
    monkeypatch.setattr(language, "FOLDER", folder)
    app = create_app(settings, database)
    app.config["WTF_CSRF_ENABLED"] = False
    found = app.test_client()
    sign_in(found)
    return found, known


def pages(client):
    """Every page that can be opened, with the first of each thing."""
    rules = client.application.url_map
    for rule in rules.iter_rules():
        if "GET" not in rule.methods or rule.endpoint in ("static", "sign_in.leave"):
            continue
        values = {
            name: "1" if type(made).__name__ != "IntegerConverter" else 1
            for name, made in rule._converters.items()
        }
        yield rule, rules.bind("localhost").build(rule.endpoint, values)


def test_every_page_is_said_in_the_readers_language(foreign):
    """A text of two words or more that is in the catalogue never stands there in English. A single
    word may be somebody's data; who changed what was stored in English."""
    client, known = foreign
    opened, said, forgotten = 0, 0, {}
    for rule, path in pages(client):
        answer = client.get(path, headers={"Accept-Language": "eo"})
        assert answer.status_code < 500, path
        if answer.status_code != 200 or answer.mimetype != "text/html":
            continue
        read = Read()
        read.feed(answer.get_data(as_text=True))
        opened += 1
        said += sum(OPEN in text for text in read.said)
        for text in read.said:
            if text in known and " " in text and rule.rule != "/changes" and text not in DATA:
                forgotten.setdefault(text, rule.rule)
    assert opened > 55 and said > 2800
    assert forgotten == {}


def test_a_reader_of_no_language_of_ours_reads_english(foreign):
    client, _ = foreign
    for wanted in ("en", "fr", ""):
        page = client.get("/people", headers={"Accept-Language": wanted}).get_data(as_text=True)
        assert '<html lang="en"' in page and OPEN not in page
    page = client.get("/people", headers={"Accept-Language": "eo, en;q=0.5"}).get_data(as_text=True)
    assert '<html lang="eo"' in page and OPEN in page


def test_what_is_refused_is_said_in_the_readers_language(foreign):
    client, _ = foreign
    answer = client.post(
        "/segments/save",
        json={"name": "", "definition": {"lines": []}},
        headers={"Accept-Language": "eo"},
    )
    assert answer.status_code == 422 and answer.json["error"].startswith(OPEN)
    assert (
        client.get("/nowhere", headers={"Accept-Language": "eo"}).get_data(as_text=True).count(OPEN)
    )
