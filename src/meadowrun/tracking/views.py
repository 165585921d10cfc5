"""What readers reach: the opening picture, links, the way out, preferences; the keys of
connections; what gateways tell."""

from typing import Any
from urllib.parse import urlsplit, urlunsplit

import flask

from meadowrun.base import signing
from meadowrun.core.content.compiled import SIGNS, Compiled
from meadowrun.core.content.rendering import Renderer, link_address
from meadowrun.messages import reading
from meadowrun.messages.models import Edition
from meadowrun.messages.values import nested
from meadowrun.outgoing.models import Dispatch
from meadowrun.outgoing.queries import numbered
from meadowrun.people import queries as people_queries
from meadowrun.people import reader_language
from meadowrun.people.asked import moment
from meadowrun.people.models import Contact, Topic
from meadowrun.shell.keys import websites
from meadowrun.shell.request import Answer, db, now, public, settings
from meadowrun.tracking import actions

pages = flask.Blueprint("tracking", __name__)
#: How the tokens and short codes of proofs begin.
_PREVIEW = "preview"
_PIXEL = (
    b"GIF89a\x01\x00\x01\x00\x80\x00\x00\x00\x00\x00\xff\xff\xff!\xf9\x04\x01\x00\x00\x00\x00,\x00\x00\x00\x00"
    b"\x01\x00\x01\x00\x00\x02\x02D\x01\x00;"
)


def _who(purpose: str, token: str) -> tuple[int, int] | None:
    return signing.read(settings().secret, purpose, token)


@pages.get("/o/<token>")
@public
def opened(token: str) -> Answer:
    found = _who("open", token)
    if found and flask.request.method != "HEAD":
        agent = flask.request.headers.get("User-Agent", "")
        why = actions.by_machine(db(), now(), *found, agent, "opened")
        actions.react(db(), now(), *found, "opened", machine=bool(why), note=why)
    response = flask.Response(_PIXEL, mimetype="image/gif")
    response.headers["Cross-Origin-Resource-Policy"] = "cross-origin"
    return response


@pages.get("/c/<token>/<int:number>")
@public
def clicked(token: str, number: int) -> Answer:
    """On to where a link of an edition leads; the address comes from the edition, never from the
    request."""
    return _clicked(_who("click", token), number)


@pages.get("/s/<code>")
@public
def short_link(code: str) -> Answer:
    """A short link of a text message: the delivery's code, and as its last sign the number of the
    link."""
    if code.startswith(_PREVIEW):
        return no_such_link(code)
    number = SIGNS.find(code[-1:])
    return _clicked(actions.delivery_of_code(db(), code[:-1]) if number >= 0 else None, number)


def _clicked(found: tuple[int, int] | None, number: int) -> Answer:
    target = _target(found, number) if found else None
    if found is None or target is None:
        return public_page("lost"), 404
    if flask.request.method != "HEAD":
        agent = flask.request.headers.get("User-Agent", "")
        why = actions.by_machine(db(), now(), *found, agent, "clicked")
        actions.react(db(), now(), *found, "clicked", link=number, machine=bool(why), note=why)
    contact = people_queries.living(db(), found[1])
    return flask.redirect(_known_visitor(target, contact.id) if contact else target, 302)


def _target(found: tuple[int, int], number: int) -> str | None:
    delivery = numbered(db(), *found)
    if delivery is None:
        return None
    dispatch = db().get_one(Dispatch, delivery.dispatch_id)
    links = Compiled.from_json(db().get_one(Edition, dispatch.edition_id).compiled).links
    link = next((x for x in links if x.number == number), None)
    if link is None or not link.href:
        return None
    address = link_address(link, nested(delivery.filled or {}, dispatch.facts))
    return (
        address
        if address and urlsplit(address).scheme in ("http", "https", "mailto", "tel")
        else None
    )


@pages.get("/n/<token>")
@public
def full_page(token: str) -> Answer:
    """The page of ours that a tap on a push notification opens, as its reader gets it."""
    found = _who("page", token)
    delivery = numbered(db(), *found) if found else None
    if found is None or delivery is None:
        return public_page("lost"), 404
    dispatch = db().get_one(Dispatch, delivery.dispatch_id)
    edition = Compiled.from_json(db().get_one(Edition, dispatch.edition_id).compiled)
    page = Renderer(edition).page(
        nested(delivery.filled or {}, dispatch.facts, signing.Tokens(settings().secret, *found))
    )
    if page is not None and edition.push and flask.request.method != "HEAD":
        why = actions.by_machine(
            db(), now(), *found, flask.request.headers.get("User-Agent", ""), "clicked"
        )
        actions.react(
            db(),
            now(),
            *found,
            "clicked",
            link=edition.push.get("link"),
            machine=bool(why),
            note=why,
        )
    return _shut_in(page.html) if page else (public_page("lost"), 404)


@pages.get("/n/proof/<sealed>")
@public
def proof_page(sealed: str) -> Answer:
    """The page that a tap on a proof of a push notification opens: its newest draft, as the
    proof was read."""
    found = reading.proof(moment(), sealed, settings())
    return _shut_in(found[1].html) if found else (public_page("lost"), 404)


def _shut_in(html: str) -> flask.Response:
    """A message as a page of its own: its links lead on, nothing in it runs."""
    response = flask.Response(html, mimetype="text/html")
    response.headers["Content-Security-Policy"] = (
        "sandbox allow-popups allow-popups-to-escape-sandbox "
        "allow-top-navigation-by-user-activation; default-src 'none'; "
        "style-src 'unsafe-inline'; img-src http: https: data:; frame-ancestors 'none'"
    )
    return response


def _known_visitor(target: str, contact_id: int) -> str:
    """The address with a sign by which our script on a known website recognises who comes."""
    parts = urlsplit(target)
    origin = f"{parts.scheme}://{parts.netloc}"
    own_document = target.startswith(f"{settings().public_url}/d/")
    if not own_document and origin not in websites(db()):
        return target
    sign = signing.arrival(settings().secret, contact_id, now())
    # The query stays as it was written, byte for byte: websites may have signed it.
    return urlunsplit(
        parts._replace(query=f"{parts.query}&mr={sign}" if parts.query else f"mr={sign}")
    )


def language_of(contact: Contact | None) -> str:
    """The language that somebody who opened a link reads; None: nobody who is known."""
    return reader_language.chosen(contact.language if contact else None, _asked())


def _asked() -> list[str]:
    """The locales that the browser asks for, the most wanted first."""
    return [locale for locale, _ in flask.request.accept_languages]


def public_page(name: str, contact: Contact | None = None, **shown: Any) -> str:
    """A page for people who are written to, in the language they read."""
    code = language_of(contact)
    with reader_language.reading(code, _asked()):
        return flask.render_template(
            f"tracking/{name}.html",
            organisation=settings().organisation,
            language=code,
            **shown,
        )


def no_such_link(token: str) -> Answer:
    """The page of a link that was cut off on the way, or that a proof was sent with."""
    if token.startswith(_PREVIEW):
        return public_page("proof")
    return public_page("lost"), 404


@pages.get("/u/<token>")
@public
def unsubscribe(token: str) -> Answer:
    """Asks once more: mail scanners follow links, and following one must not take anybody off."""
    found = _who("leave", token)
    if found is None:
        return no_such_link(token)
    dispatch = actions.dispatch_of(db(), *found)
    topic = next(
        (t for t in people_queries.topics(db()) if dispatch and t.id == dispatch.topic_id), None
    )
    return _unsubscribe_page(found, topic, False)


@pages.post("/u/<token>")
@public
def unsubscribe_now(token: str) -> Answer:
    """From the page, or one click in a mail reader (RFC 8058)."""
    found = _who("leave", token)
    if found is None:
        return public_page("lost"), 404
    one_click = flask.request.form.get("List-Unsubscribe") == "One-Click"
    actions.unsubscribe(
        db(), now(), *found, "with one click in the mail app" if one_click else "on the page"
    )
    return _unsubscribe_page(found, None, True)


def _unsubscribe_page(found: tuple[int, int], topic: Topic | None, gone: bool) -> str:
    contact = people_queries.living(db(), found[1])
    # Who may stop everything may also stop a part of it.
    return public_page(
        "unsubscribe",
        contact,
        choose=signing.make(settings().secret, "choose", *found),
        topic=reader_language.name_of(topic, language_of(contact)) if topic else None,
        gone=gone,
    )


@pages.post("/gateway/sms/<any(inbound, receipt):what>")
@pages.post("/gateway/sms/<mark>/<any(inbound, receipt):what>")
@public
def sms_gateway(what: str, mark: str = "") -> Answer:
    """What the gateway for text messages tells: an answer of somebody, or what became of a message.
    The mark shows who asks: in the header, as in “Authorization: Bearer …”, or in the address, for
    gateways that send no header."""
    mark = mark or flask.request.headers.get("Authorization", "").removeprefix("Bearer ").strip()
    if not signing.check_text(settings().secret, "gateway", "sms", mark):
        flask.abort(404)
    data = flask.request.get_json(silent=True) or {}
    if what == "inbound":
        done_words = actions.sms_answered(
            db(), now(), str(data.get("from", "")), str(data.get("text", ""))
        )
        return flask.jsonify(understood=done_words)
    found = _who("message", str(data.get("id", "")))
    if found and data.get("status") == "failed":
        actions.sms_failed(db(), now(), *found, str(data.get("why", ""))[:300])
    return flask.jsonify(ok=True)


WITHOUT_CSRF = (unsubscribe_now, sms_gateway)
