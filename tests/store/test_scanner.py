"""Every uploaded file is looked through where a scanner is set: what it finds, and what nobody
looked at, is not taken."""

import contextlib
import dataclasses
import io
import socket
import struct
import threading

import pytest
import sqlalchemy as sa

from meadowrun.shell.app import create_app
from tests.store.pictures import drawn
from tests.store.web import sign_in

BAD = b"X5O-this-stands-for-something-malicious"


class Scanner:
    """Reads what it is sent by the protocol, and answers as told or by what it found."""

    def __init__(self, says=None):
        self.says, self.seen = says, []
        self.server = socket.create_server(("127.0.0.1", 0))
        self.where = self.server.getsockname()
        threading.Thread(target=self.run, daemon=True).start()

    def run(self):
        with contextlib.suppress(OSError):
            while True:
                line, _ = self.server.accept()
                with line, line.makefile("rb") as stream:
                    assert stream.read(10) == b"zINSTREAM\0"
                    content = b""
                    while length := struct.unpack(">I", stream.read(4))[0]:
                        content += stream.read(length)
                    self.seen.append(content)
                    said = (
                        self.says
                        if self.says is not None
                        else "stream: Bad.Thing FOUND"
                        if BAD in content
                        else "stream: OK"
                    )
                    line.sendall(said.encode() + b"\0")


@pytest.fixture
def served(database, settings, client):
    """A signed-in client of an installation with a scanner that says something, or looks for
    itself."""

    def made(says=None):
        found = Scanner(says)
        app = create_app(dataclasses.replace(settings, scanner=found.where), database)
        app.config["WTF_CSRF_ENABLED"] = False
        web = app.test_client()
        sign_in(web)
        return web, found

    return made


def put(web, to, content, name):
    return web.post(to, data={"file": (io.BytesIO(content), name)})


PLACES = [
    ("/files", drawn(4, 4) + BAD, "dome.png"),
    ("/imports/new", b"email\nann@post.example\n" + BAD, "people.csv"),
    ("/people/suppressions", b"ann@post.example\n" + BAD, "them.csv"),
    ("/messages/new", b"<html><body>" + BAD + b"</body></html>", "letter.html"),
]


@pytest.mark.parametrize(("to", "content", "name"), PLACES)
def test_what_is_found_is_not_taken_and_the_rest_is(served, database, to, content, name):
    web, scanner = served()
    answer = put(web, to, content, name)
    assert answer.status_code == 422 and "the scanner found Bad.Thing in it" in answer.text
    with database.session() as session:
        for table in ("files", "imports", "suppressions", "messages"):
            assert session.scalar(sa.text(f"SELECT count(*) FROM {table}")) == 0
    put(web, to, content.replace(BAD, b""), name)
    assert scanner.seen == [content, content.replace(BAD, b"")], "all of the file, each time"


def test_a_large_file_goes_in_pieces(served):
    web, scanner = served()
    content = b"email\n" + b"".join(b"p%d@post.example\n" % n for n in range(20_000))
    assert put(web, "/imports/new", content, "people.csv").status_code == 303
    assert scanner.seen == [content]


@pytest.mark.parametrize("says", ["INSTREAM size limit exceeded. ERROR", "", "nonsense"])
def test_what_nobody_could_look_through_is_not_taken(served, database, says):
    web, _ = served(says)
    answer = put(web, "/files", drawn(4, 4), "dome.png")
    assert answer.status_code == 503 and "could not look through" in answer.text
    with database.session() as session:
        assert session.scalar(sa.text("SELECT count(*) FROM files")) == 0


def test_a_scanner_that_is_away(served):
    web, scanner = served()
    # Nobody accepts any more.
    scanner.server.shutdown(socket.SHUT_RDWR)
    scanner.server.close()
    answer = put(web, "/files", drawn(4, 4), "dome.png")
    assert (
        answer.status_code == 503
        and "does not answer, and without it no file is taken" in answer.text
    )
