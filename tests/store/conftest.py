"""The application as a browser would reach it, without one."""

import pytest

from meadowrun.shell import accounts
from meadowrun.shell.app import create_app
from tests.conftest import NOW
from tests.store.web import sign_in


@pytest.fixture
def client(database, settings):
    with database.session() as session:
        for name in ("admin", "author", "viewer"):
            accounts.add_user(session, NOW, f"{name}@farrowhill.example", name.title(), name, "a long password")
    app = create_app(settings, database)
    app.config["WTF_CSRF_ENABLED"] = False
    return app.test_client()


@pytest.fixture
def web(client):
    """Signed in as the administrator."""
    sign_in(client)
    return client
