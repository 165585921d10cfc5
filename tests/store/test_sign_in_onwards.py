"""Signing in leads on within the application only, however the address is written."""

import pytest

from tests.store.web import sign_in


@pytest.mark.parametrize(
    ("to", "leads"),
    [
        ("/people?q=a", "/people?q=a"),
        ("/", "/"),
        ("", "/"),
        ("//evil.example", "/"),
        ("/\\evil.example", "/"),
        ("/\t/evil.example", "/"),
        ("/\n/evil.example", "/"),
        ("/\r\nX: y", "/"),
        ("https://evil.example", "/"),
        ("javascript:alert(1)", "/"),
        ("/%09/evil.example", "/%09/evil.example"),
        ("\x00/people", "/"),
        ("/people\\..\\x", "/"),
        ("/ /evil.example", "/"),
    ],
)
def test_where_it_leads(client, to, leads):
    answer = client.post(
        "/sign-in",
        data={"email": "admin@farrowhill.example", "password": "a long password", "to": to},
    )
    assert (answer.status_code, answer.location) == (303, leads)


def test_the_page_itself_takes_any_address(client):
    for to in ("%09/evil", "%0a/evil", "%ed%a0%80"):
        assert client.get(f"/sign-in?to=/{to}").status_code == 200
    sign_in(client)
