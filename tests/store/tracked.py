"""A send that five people got, and what is asked about what came back of it."""

import datetime as dt
import pathlib

from meadowrun.base import clock, signing
from meadowrun.results.queries import result
from meadowrun.sends import actions as sends
from meadowrun.sends.models import Send
from meadowrun.shell.keys import hash_key
from meadowrun.shell.models import ApiKey
from tests import conftest
from tests.store.people import IDA, add, kinds, ready_send
from tests.store.sending import run_all, segment

#: A week before the rest: the listener has a thread of its own, where the clock cannot be held
#: still.
NOW = conftest.NOW - dt.timedelta(days=7)
ROOT = pathlib.Path(__file__).resolve().parents[2]
READER = {"User-Agent": "Post reader 3"}


def token(settings, sent, name, purpose):
    return signing.make(settings.secret, purpose, sent[3][name], sent[1][name])


def outcome(database, sent):
    with database.session() as session:
        return result(session, session.get_one(Send, sent[0]), NOW + dt.timedelta(hours=2))


def five_got(database, settings):
    """A send of which five people got the mail: its number, and {name: contact's number}."""
    with clock.at(NOW), database.session() as session:
        kinds(session)
        who = {
            n: add(session, NOW, f"{n}@post.example", first_name=n, town="a b&c").id
            for n in ("ann", "ben", "cleo", "dov", "edda")
        }
        send = ready_send(session, NOW, {"in": [{"segment": segment(session).id}], "out": []})
        session.add(
            ApiKey(
                name="site",
                kind="site",
                key_hash="site_x",
                origins=["https://farrowhill.example"],
                created_at=NOW,
            )
        )
        session.add(
            ApiKey(name="till", kind="secret", key_hash=hash_key("key_secret"), created_at=NOW)
        )
        ident = send.id
        sends.start(session, IDA, NOW, send, settings.public_url, 5, send.version)
    run_all(database, ident, NOW)
    return ident, who
