"""The store: sizes made on upload, replaced everywhere, documents counted by who looked."""

import dataclasses
import io

import pytest
import sqlalchemy as sa
from PIL import Image

from meadowrun.base import clock, signing
from meadowrun.base.errors import SettingsError
from meadowrun.base.settings import Settings
from meadowrun.core.content.document import empty
from meadowrun.core.content.lines import new_line
from meadowrun.messages import actions as messages
from meadowrun.shell.app import create_app
from tests.conftest import NOW
from tests.store.people import IDA, add
from tests.store.pictures import drawn, put


def width_of(answer):
    return Image.open(io.BytesIO(answer.data)).width


def test_a_picture_is_kept_in_several_sizes(web):
    answer = put(web, drawn(1600, 800)).json
    assert (answer["width"], answer["height"]) == (1600, 800)
    # The smallest kept one that is wide enough; its own where none is.
    assert [
        width_of(web.get(f"{answer['src']}{w}"))
        for w in ("", "?w=100", "?w=300", "?w=301", "?w=900", "?w=1500")
    ] == [1600, 300, 300, 600, 1200, 1600]
    small = put(web, drawn(200, 100, kind="JPEG"), "small.jpg").json
    assert width_of(web.get(f"{small['src']}?w=600")) == 200


@pytest.mark.parametrize(
    ("content", "says"),
    [
        (b"", "Choose a picture"),
        (b"<svg></svg>", "Choose a picture"),
        (b"\x89PNG\r\n\x1a\nnot one", "damaged"),
        (b"%PDF-" + b"x" * 25_000_001, "larger than 25 MB"),
    ],
)
def test_what_is_refused(web, content, says):
    answer = put(web, content)
    assert answer.status_code == 422 and says in answer.json["error"]


def test_replaced_everywhere_and_where_used(web, database):
    src = put(web, drawn(700, 300)).json["src"]
    with clock.at(NOW), database.session() as session:
        ident = session.execute(sa.text("SELECT id FROM files")).scalar()
        messages.create(
            session,
            IDA,
            NOW,
            "With a picture",
            messages.take(empty() | {"lines": [new_line("picture", src=src, alt="x")]}, {}),
        )
    page = web.get("/files").text
    assert "With a picture" in page and "dome.png" in page
    assert (
        "used in With a picture"
        in web.post(f"/files/{ident}/delete", headers={"Accept": "application/json"}).json["error"]
    )
    assert (
        put(web, drawn(400, 200, (0, 0, 255)), "blue.png", f"/files/{ident}/replace").status_code
        == 303
    )
    assert (
        width_of(web.get(src)) == 400
        and width_of(web.get(f"{src}?w=600")) == 400
        and width_of(web.get(f"{src}?w=10")) == 300
    )
    assert put(web, b"%PDF-1.4 x", "x.pdf", f"/files/{ident}/replace").status_code == 422


def test_views_of_a_document_by_known_and_by_others(web, database, settings, client):
    src = put(web, b"%PDF-1.4 programme", "programme.pdf").json["src"]
    with clock.at(NOW), database.session() as session:
        person = add(session, NOW, "ann@post.example").id
    sign = signing.visitor(settings.secret, person, NOW)
    for query in (f"?mr={sign}", f"?mr={sign}", "", f"?mr={person}.forged"):
        assert client.get(src + query).data == b"%PDF-1.4 programme"
    assert "1 known person, 2 times; 2 times by others" in " ".join(web.get("/files").text.split())
    assert client.get(src.replace("/d/", "/f/")).status_code == 404


def test_files_with_a_host_of_their_own_are_served_there_and_nothing_else_is(
    web, database, settings
):
    src = put(web, drawn(20, 10)).json["src"]
    app = create_app(dataclasses.replace(settings, files_url="https://files.example.net"), database)
    app.config["WTF_CSRF_ENABLED"] = False
    away = app.test_client().get(f"{src}?w=300")
    assert (away.status_code, away.location) == (302, f"https://files.example.net{src}?w=300")
    files = "https://files.example.net"
    assert width_of(app.test_client().get(src, base_url=files)) == 20
    for path in (
        "/",
        "/sign-in",
        "/people",
        "/static/app.js",
        "/healthz",
        "/f/nobody",
        "/d/nobody",
        "/api/v1/contacts",
        "/c/x/1",
    ):
        assert app.test_client().get(path, base_url=files).status_code == 404, path
    assert app.test_client().post("/sign-in", base_url=files).status_code == 404
    page = app.test_client().get("/sign-in")
    assert (
        "img-src 'self' data: https://files.example.net;" in page.headers["Content-Security-Policy"]
    )


@pytest.mark.parametrize("address", ["https://post.example.org", "ftp://files.example.net"])
def test_a_host_for_files_is_another_one(address):
    with pytest.raises(SettingsError, match="MEADOWRUN_FILES_URL"):
        Settings.read(
            {
                "MEADOWRUN_DATABASE_URL": "postgresql://a@b/c",
                "MEADOWRUN_SECRET": "0123456789abcdef" * 3,
                "MEADOWRUN_SMTP_URL": "null:",
                "MEADOWRUN_PUBLIC_URL": "https://post.example.org",
                "MEADOWRUN_FILES_URL": address,
            }
        )
