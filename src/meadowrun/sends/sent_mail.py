"""Exactly what somebody got, as it can be shown again."""

from markupsafe import escape
from sqlalchemy import orm

from meadowrun.base import signing
from meadowrun.base.settings import Settings
from meadowrun.core.content.compiled import Compiled
from meadowrun.core.content.lines import Json
from meadowrun.core.content.onpage import on_page
from meadowrun.core.content.rendering import Rendered, Renderer
from meadowrun.messages.models import Edition
from meadowrun.messages.values import nested
from meadowrun.outgoing.queries import to_contact
from meadowrun.sends.models import Send

#: A picture of nothing.
NO_PICTURE = "data:image/gif;base64,R0lGODlhAQABAAAAACwAAAAAAQABAAA="


def exact(session: orm.Session, settings: Settings, send: Send, contact_id: int) -> Rendered | None:
    """The edition with the values of the moment at which it left; None where nothing was written
    to them."""
    found = to_contact(session, send.dispatch_id, contact_id)
    if found is None or found.filled is None or send.edition_id is None:
        return None
    made = Compiled.from_json(session.get_one(Edition, send.edition_id).compiled)
    tokens = signing.Tokens(settings.secret, found.number, contact_id)
    return Renderer(made).render(nested(found.filled, send.facts, tokens))


def page(mail: Rendered, document: Json) -> str:
    """What somebody gets, for a frame: the mail, the in-app message on a website, or a text."""
    if mail.in_app:
        return on_page(mail.html, mail.in_app, document["settings"])
    return mail.html or (
        "<pre style='white-space:pre-wrap;font:16px/1.5 "
        f"sans-serif'>{escape(mail.subject)}\n{escape(mail.text)}</pre>"
    )


def without_ways(html: str, public_url: str) -> str:
    """HTML of ours in which our own addresses lead nowhere: to look at it is no opening and no
    click."""
    return (
        html.replace(f"{public_url}/o/", f"{NO_PICTURE}#")
        .replace(f"{public_url}/c/", "about:blank#")
        .replace(f"{public_url}/u/", "about:blank#")
    )
