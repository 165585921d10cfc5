"""In-app messages: a proof of one on the organisation's own website."""

from urllib.parse import urlsplit

import flask

from meadowrun.base import audit, signing
from meadowrun.base.errors import Invalid
from meadowrun.core.values import is_whole
from meadowrun.messages import queries
from meadowrun.shell.keys import websites
from meadowrun.shell.request import actor, db, done, needs, now, settings

pages = flask.Blueprint("in_app_messages", __name__)


def on_website(address: str) -> str:
    """The address, where it is a page of one of these websites; else nothing."""
    return address if address.startswith(tuple(f"{site}/" for site in websites(db()))) else ""


@pages.post("/messages/<int:ident>/in-app/proof")
@needs("author")
def proof(ident: int) -> object:
    """Makes the address of a page of a website on which the newest draft stands, as a chosen
    person; colleagues can be given it. It is never counted."""
    message, form = queries.message(db(), ident), flask.request.form
    if message.channel != "in_app":
        raise Invalid("This is no in-app message.")
    page, person = form.get("to", "").strip(), form.get("as", "")
    parts = urlsplit(page)
    if not on_website(page):
        raise Invalid(
            (
                f"“{page}” is not on a website that carries our script. Websites are named under "
                "Connections."
            ),
            "to",
        )
    sign = signing.seal(
        settings().secret, "proof", message.id, int(person) if is_whole(person) else 0
    )
    audit.record(
        db(), actor(), now(), "sent a proof of", "message", message.id, message.name, to=[page]
    )
    return done(
        "messages.edit",
        ident=ident,
        proof=f"{page}{'&' if parts.query else '?'}mr-in-app={sign}",
        **{"as": person},
    )
