"""What a role does not reach is shown as such on the page: forms are marked, links to personal data
lead nowhere."""

import re

import pytest

from meadowrun.base import clock
from tests.conftest import NOW
from tests.store.people import add, ready_send
from tests.store.web import sign_in


@pytest.fixture
def send(database, client):
    with clock.at(NOW), database.session() as session:
        person = add(session, NOW, "ann@post.example", first_name="Ann").id
        return ready_send(session, NOW, {"in": [{"everyone": True}], "out": []}).id, person


def forms(client, path):
    """The role that each form of a page says it needs, by its action; empty where nothing is
    lacked."""
    html = client.get(path).text
    return {
        re.search(r'action="([^"]*)', form)[1] if "action=" in form else path: "".join(
            re.findall(r'data-needs="(\w+)"', form)
        )
        for form in re.findall(r'<form\b[^>]*method="post"[^>]*>', html)
    }


def test_an_author_is_told_before_that_sending_needs_an_approver(send, client):
    ident, _ = send
    sign_in(client, "author")
    held = forms(client, f"/sends/{ident}/look")
    assert "approver" in held.values() and held["/sign-out"] == ""
    sign_in(client, "admin")
    assert set(forms(client, f"/sends/{ident}/look").values()) == {""}


def test_a_viewer_meets_no_live_form_but_their_own(send, client):
    _, person = send
    sign_in(client, "viewer")
    for path in (
        "/people",
        f"/people/{person}",
        "/people/suppressions",
        "/imports/new",
        "/campaigns/new",
    ):
        for action, role in forms(client, path).items():
            given = (
                client.post(action).status_code
                if action not in ("/sign-out", "/segments/look")
                else 0
            )
            assert (given == 403) == bool(role), (path, action)


def test_personal_data_is_not_offered_to_viewers(send, client):
    _, person = send
    sign_in(client, "author")
    assert f'href="/people/{person}/everything.json"' in client.get(f"/people/{person}").text
    sign_in(client, "viewer")
    page = client.get(f"/people/{person}").text
    assert "everything.json" not in page and "This needs the role “author”." in page
    assert client.get(f"/people/{person}/everything.json").status_code == 403
