"""Sending proofs of a message, of whatever channel."""

import flask

from meadowrun.base.errors import GatewayUnavailable, Invalid
from meadowrun.channels.proof import Asked, typed
from meadowrun.core.language import Wording
from meadowrun.core.wording import count_of
from meadowrun.gateways.channels import CHANNELS
from meadowrun.messages import page, queries, reading
from meadowrun.outgoing import proofs
from meadowrun.people.asked import moment
from meadowrun.people.models import Contact
from meadowrun.people.queries import contact_of
from meadowrun.shell.request import Answer, actor, db, done, needs, not_done, now, settings

pages = flask.Blueprint("proofs", __name__)


@pages.post("/messages/<int:ident>/proof")
@needs("author")
def send(ident: int) -> Answer:
    """Really sends the newest draft to colleagues, as one or several chosen people; marked, and
    never counted."""
    message, form = queries.message(db(), ident), flask.request.form
    editor = CHANNELS[message.channel].editor
    people = [page.chosen_person(form.get("as")), *_named(form.get("also", ""))]
    if form.get("each"):
        found, _ = reading.who_reads(moment(), message.document)
        readers = [one.someone for r in found for one in (*r.versions, r.others)]
        people += [db().get(Contact, number) for number in readers if number]
    try:
        sent = proofs.prove(
            Asked(db(), settings(), now(), message, form),
            actor(),
            people,
            lambda person: page.rendered(message, person),
            page.name_of,
        )
    except GatewayUnavailable as problem:
        return not_done(
            Wording("The proof was not sent: %(problem)s", problem=problem), editor, ident=ident
        )
    if sent.shown_at:
        return done(editor, ident=ident, proof=sent.shown_at, **{"as": form.get("as", "")})
    return done(editor, _said(sent), ident=ident)


def _said(sent: proofs.Sent) -> str:
    """What became of it, in words."""
    if not sent.arrived:
        return f"The proof was not sent: {', '.join(sent.refused)}."
    whole = count_of(sent.copies, sent.one, sent.several)
    said = f"The proof, as {', '.join(sent.read_as)}, was sent to {sent.arrived} of {whole}."
    return said + (f" Not accepted: {', '.join(sent.refused)}." if sent.refused else "")


def _named(text: str) -> list[Contact | None]:
    """The contacts of some addresses. Raises Invalid naming one that nobody has."""
    found: list[Contact | None] = []
    for address in typed(text):
        contact = contact_of(db(), address)
        if contact is None:
            raise Invalid(
                Wording(
                    "Nobody has the address “%(address)s”, so the message cannot be read as them.",
                    address=address,
                ),
                "also",
            )
        found.append(contact)
    return found
