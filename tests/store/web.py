"""What tests of pages share."""

import re

import sqlalchemy as sa

from meadowrun.base import jobs
from meadowrun.sends.models import Send
from meadowrun.shell.app import create_app


def sign_in(client, name="admin", password="a long password"):
    return client.post(
        "/sign-in",
        data={"email": f"{name}@farrowhill.example", "password": password, "to": "/people"},
    )


#: The application of this process, in the demo and outside of it, with its configuration as it
#: was made: to put together four hundred addresses takes longer than most tests.
_MADE = {}


def app_of(settings, database):
    """The application for the settings and the database of one test. A proxy before it is part of
    the application: with one it is made anew."""
    if settings.behind_proxy:
        return create_app(settings, database)
    if settings.demo not in _MADE:
        made = create_app(settings, database)
        _MADE[settings.demo] = made, dict(made.config)
    app, config = _MADE[settings.demo]
    if app.config["DATABASE"] is database and app.config["MEADOWRUN"] != settings:
        # A second one beside that of the test.
        return create_app(settings, database)
    app.config.clear()
    app.config.update(
        config,
        MEADOWRUN=settings,
        DATABASE=database,
        SECRET_KEY=settings.secret,
        SESSION_COOKIE_SECURE=settings.cookie_secure,
    )
    jobs.set_context(jobs.Context(database, settings))
    return app


def browser(database, settings):
    """Another browser, in which nobody has signed in yet."""
    app = app_of(settings, database)
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
