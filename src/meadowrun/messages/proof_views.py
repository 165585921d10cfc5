"""Proofs of emails: really sent to colleagues, as one or several chosen people; marked, and never
counted."""

import flask

from meadowrun.base import audit, signing
from meadowrun.base.errors import GatewayUnavailable, Invalid
from meadowrun.core import values
from meadowrun.gateways.email import Letter
from meadowrun.gateways.smtp import gateway
from meadowrun.messages import queries, reading, views
from meadowrun.messages.models import Message
from meadowrun.messages.senders import Sender, senders
from meadowrun.people.asked import words
from meadowrun.people.models import Contact
from meadowrun.people.queries import contact_of
from meadowrun.shell.request import actor, db, done, needs, not_done, now, settings, zone

pages = flask.Blueprint("proofs", __name__)


@pages.post("/messages/<int:ident>/proof")
@needs("author")
def email(ident: int) -> object:
    """Really sends the newest draft to colleagues, as one or several chosen people; marked, and
    never counted."""
    message = queries.message(db(), ident)
    form = flask.request.form
    text = form.get("to", "") + ("," + queries.house(db()).proof_group if form.get("group") else "")
    addresses = list(
        dict.fromkeys(
            a.strip() for a in text.replace(";", ",").replace("\n", ",").split(",") if a.strip()
        )
    )
    if not addresses:
        raise Invalid("Type at least one address to send the proof to.", "to")
    if len(addresses) > 20:
        raise Invalid("A proof goes to at most 20 addresses; for more people, make a send.", "to")
    for address in addresses:
        problem = values.email_problem(address)
        if problem:
            raise Invalid(f"{problem}.", "to")
    sender = next((s for s in senders(db()) if str(s.id) == form.get("from")), None) or next(
        iter(senders(db())), None
    )
    if sender is None:
        raise Invalid("There is no sender yet.", "from")
    people = [views.chosen_person(form.get("as")), *_named(form.get("also", ""))]
    if form.get("each"):
        found, _ = reading.who_reads(db(), message.document, words(), now(), zone())
        people += [
            db().get(Contact, v.someone)
            for r in found
            for v in (*r.versions, r.others)
            if v.someone
        ]
    people = list({p.id if p else 0: p for p in people}.values())[:25]
    letters, sent = _proofs(message, sender, people, addresses), []
    try:
        sent = list(gateway(settings()).hand_over(letters))
    except GatewayUnavailable as problem:
        return not_done(f"The proof did not go: {problem}", "messages.edit", ident=ident)
    refused = sorted(
        {f"{letters[h.contact_id].to} ({h.note})" for h in sent if h.outcome != "delivered"}
    )
    audit.record(
        db(), actor(), now(), "sent a proof of", "message", message.id, message.name, to=addresses
    )
    arrived = sum(h.outcome == "delivered" for h in sent)
    said = (
        f"The proof of draft {message.draft}, as "
        f"{', '.join(views.name_of(p) for p in people)}, went out: {arrived} of "
        f"{len(letters)} mails."
    )
    return done(
        "messages.edit",
        said + (f" Not taken: {', '.join(refused)}." if refused else ""),
        ident=ident,
    )


def _named(text: str) -> list[Contact]:
    """The contacts of some addresses, separated by commas. Raises Invalid naming one that nobody
    has."""
    found = []
    for address in filter(
        None, (a.strip() for a in text.replace(";", ",").replace("\n", ",").split(","))
    ):
        contact = contact_of(db(), address)
        if contact is None:
            raise Invalid(
                f"Nobody has the address “{address}”, so the message cannot be read as them.",
                "also",
            )
        found.append(contact)
    return found


def _proofs(
    message: Message, sender: Sender, people: list[Contact | None], addresses: list[str]
) -> list[Letter]:
    letters = []
    stamp = signing.sign_text(settings().secret, "proof", now().isoformat())
    for person in people:
        mail = views.rendered(message, person)
        mark = "[Proof]" if len(people) == 1 else f"[Proof as {views.name_of(person)}]"
        for address in addresses:
            key = f"proof-{message.id}-{message.draft}-{len(letters)}-{stamp}"
            letters.append(
                Letter(
                    key=key,
                    contact_id=len(letters),
                    from_name=sender.name,
                    from_address=sender.address,
                    reply_to=sender.reply_to,
                    to=address,
                    return_path=f"proofs@{settings().mail_domain}",
                    subject=f"{mark} {mail.subject}",
                    html=mail.html,
                    text=mail.text,
                    date=now().timestamp(),
                    message_id=f"<{key}@{settings().mail_domain}>",
                )
            )
    return letters
