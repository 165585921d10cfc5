"""What our script on a known website asks: events of a visitor, the in-app message that comes of
one, permission for push notifications."""

import re
from collections.abc import Mapping
from typing import Any

import flask

from meadowrun.base import signing
from meadowrun.base.clock import machine_now
from meadowrun.base.errors import Invalid
from meadowrun.core import webpush
from meadowrun.core.content import in_app as in_app_messages
from meadowrun.core.language import Wording
from meadowrun.core.values import read_json
from meadowrun.messages import reading
from meadowrun.outgoing import in_app_messages as laid
from meadowrun.people.asked import moment
from meadowrun.people.kinds import event_kind
from meadowrun.people.models import Contact
from meadowrun.people.queries import living
from meadowrun.shell import keys
from meadowrun.shell.keys import websites
from meadowrun.shell.models import ApiKey
from meadowrun.shell.request import db, now, public, settings
from meadowrun.tracking import actions, taking

pages = flask.Blueprint("site", __name__)
_EVENT = re.compile(r"[a-z][a-z0-9_]{0,59}\Z")
_MOST_BYTES = 20_000
Answer = tuple[Any, int, dict[str, str]]


class _Refused(Exception):
    """The answer to a website that may not ask this."""

    def __init__(self, why: str, status: int):
        super().__init__(why)
        self.status = status


def _headers() -> dict[str, str]:
    """Scripts may read the answer on websites that carry our script, and on no others."""
    origin = flask.request.headers.get("Origin", "")
    if origin not in websites(db()):
        return {"Vary": "Origin"}
    return {"Access-Control-Allow-Origin": origin, "Vary": "Origin"}


def _key(name: str) -> ApiKey:
    """The key of the website that asks. Raises _Refused."""
    key = keys.key_of(db(), name, "site", machine_now())
    if key is None or flask.request.headers.get("Origin", "") not in key.origins:
        raise _Refused("This key is not for this website.", 403)
    return key


def _asked() -> tuple[ApiKey, Contact, Mapping[str, Any]]:
    """The website, its visitor and what it says. Raises _Refused, Invalid.

    The body is read without looking at its type: scripts that leave a page send it as plain text.
    """
    try:
        data = read_json(flask.request.get_data(cache=False)[:_MOST_BYTES])
    except ValueError:
        data = None
    if not isinstance(data, Mapping) or not {"key", "visitor"} <= data.keys():
        raise Invalid("Post key, visitor and more as JSON.")
    key = _key(str(data["key"]))
    number = signing.who_visits(settings().secret, str(data["visitor"]), now())
    contact = living(db(), number) if number is not None else None
    if contact is None:
        raise _Refused("This visitor is not known.", 422)
    return key, contact, data


@pages.get("/site.js")
@public
def script() -> object:
    """The small script that websites include."""
    return _served("site.js")


@pages.get("/site-worker.js")
@public
def worker() -> object:
    """The service worker that shows push notifications: a website serves a copy of it at its own
    address, as browsers ask."""
    return _served("site-worker.js")


def _take(key: ApiKey, event: dict[str, Any]) -> taking.Taken:
    return taking.take_events(db(), now(), f"site:{key.id}", [event])


def _served(name: str) -> object:
    response = flask.send_from_directory(flask.current_app.static_folder or "", name)
    response.headers["Cache-Control"] = "public, max-age=3600"
    response.headers["Cross-Origin-Resource-Policy"] = "cross-origin"
    return response


@pages.errorhandler(_Refused)
def _refused(problem: _Refused) -> Answer:
    return {"error": str(problem)}, problem.status, _headers()


@pages.errorhandler(Invalid)
def _invalid(problem: Invalid) -> Answer:
    return {"error": str(problem)}, problem.status, _headers()


@pages.post("/site/events")
@public
def events() -> Answer:
    """Events of a website's visitor: only from its own addresses, only of a visitor that carries
    our sign."""
    key, contact, data = _asked()
    event = str(data.get("event", ""))
    if not _EVENT.match(event):
        raise _Refused("An event is named in lower-case letters, digits and underscores.", 422)
    known = event_kind(db(), event)
    if event != in_app_messages.PAGE_VIEWED and known is None:
        # A public key must not fill the dictionary with whatever a visitor's browser sends.
        raise _Refused(
            Wording(
                "There is no kind of event called %(event)s yet. The API adds it with its "
                "first event.",
                event=event,
            ),
            422,
        )
    if known is not None and not known.by_website:
        raise _Refused(
            Wording(
                "A website may not tell of %(event)s by itself: what a visitor’s browser sends "
                "can be made up. Send it by the API.",
                event=event,
            ),
            403,
        )
    given = data.get("details")
    details = dict(list(given.items())[:20]) if isinstance(given, Mapping) else {}
    ident = str(data["id"])[:200] if data.get("id") else None
    taken = _take(key, {"event": event, "contact": contact.id, "id": ident, "details": details})
    # Whoever leaves the page in the same moment sees no in-app message; it must not count as shown.
    leaving = bool(data.get("leaving"))
    in_app = (
        None
        if leaving
        else laid.in_app_for(db(), contact, event, str(details.get("page", "")), now(), settings())
    )
    if in_app is not None:
        delivery, who = signing.read(settings().secret, "in_app", in_app["token"]) or (0, 0)
        actions.react(db(), now(), delivery, who, "opened")
    # Kept by the browser from here on: the sign in the address holds for the first page only.
    keep = signing.visitor(settings().secret, contact.id, now())
    return {"stored": taken.stored, "in_app": in_app, "visitor": keep}, 200, _headers()


@pages.post("/site/in-app")
@public
def in_app_answered() -> Answer:
    """A visitor pressed a button of an in-app message, or closed it."""
    key, contact, data = _asked()
    delivery, who = signing.read(settings().secret, "in_app", str(data.get("token", ""))) or (0, 0)
    number = data.get("button")
    owner = living(db(), who)
    pressed = (
        laid.answered(
            db(), contact.id, delivery, number if isinstance(number, int) else None, now()
        )
        if owner is not None and owner.id == contact.id
        else None
    )
    if pressed is None:
        raise _Refused("There is no such in-app message for this visitor.", 422)
    if pressed["act"] in ("event", "allow"):
        actions.react(db(), now(), delivery, who, "clicked", link=pressed["link"])
    if pressed["act"] == "event":
        # Pressed in two windows it happened once.
        ident = f"in_app:{data['token']}:{number}"
        _take(
            key,
            {
                "event": pressed["event"],
                "contact": contact.id,
                "id": ident,
                "details": {"button": pressed["label"]},
            },
        )
    return {"act": pressed["act"]}, 200, _headers()


@pages.get("/site/in-app/proof")
@public
def proof() -> Answer:
    """An in-app message as a proof on the website: its newest draft as somebody, at an address that
    only we can have made."""
    asked = flask.request.args
    _key(asked.get("key", ""))
    found = reading.proof(moment(), asked.get("proof", ""), settings())
    if found is None or found[1].in_app is None:
        raise _Refused("This proof is not known.", 422)
    message, mail = found
    assert mail.in_app is not None
    shown = laid.Shown("", f"[Proof] {mail.subject}", mail.html, mail.in_app)
    return {"in_app": shown.to_json(message.document["settings"])}, 200, _headers()


@pages.get("/site/push")
@public
def push_key() -> Answer:
    """The key to name when a browser asks its push service for a subscription."""
    return {"key": webpush.public_key(webpush.vapid_key(settings().secret))}, 200, _headers()


@pages.post("/site/push")
@public
def push_allowed() -> Answer:
    """A known visitor's browser or phone gave permission for push notifications: where it is
    reached, and the yes to this channel."""
    _, contact, data = _asked()
    agreed = actions.subscribe_device(
        db(), now(), contact.id, data.get("subscription"), settings().inner
    )
    return {"subscribed": agreed}, 200, _headers()


WITHOUT_CSRF = (events, in_app_answered, push_allowed)
