"""What tests of pages share."""

import re

import sqlalchemy as sa

from meadowrun.sends.models import Send
from meadowrun.shell.app import create_app


def sign_in(client, name="admin", password="a long password"):
    return client.post(
        "/sign-in",
        data={"email": f"{name}@farrowhill.example", "password": password, "to": "/people"},
    )


def browser(database, settings):
    """Another browser, in which nobody has signed in yet."""
    app = create_app(settings, database)
    app.config["WTF_CSRF_ENABLED"] = False
    return app.test_client()


def flat(html):
    """A page with its marks, however its lines are broken."""
    return re.sub(r">\s+", ">", re.sub(r"\s+<", "<", re.sub(r"\s+", " ", html)))


def words(html):
    """What a page says, without its marks, in one line."""
    text = re.sub(r"<(script|style|svg).*?</\1>", " ", html, flags=re.DOTALL)
    return " ".join(
        re.sub(r"<[^>]+>", " ", text).replace("&amp;", "&").replace("&#39;", "'").split()
    )


def user(database, name):
    with database.session() as session:
        return session.execute(
            sa.text("SELECT id FROM users WHERE email = :e"), {"e": f"{name}@farrowhill.example"}
        ).scalar()


def word(web, ident, slot, database, **form):
    with database.session() as session:
        version = session.get_one(Send, ident).version
    return web.post(f"/sends/{ident}/word/{slot}", data={"version": version, **form})
