"""Messages out of and into open formats: MJML, HTML, EML."""

import flask

from meadowrun.base import audit
from meadowrun.base.errors import Invalid
from meadowrun.core.content import exchange
from meadowrun.core.content.compiled import placed
from meadowrun.core.language import Wording
from meadowrun.gateways.email import Letter, mime
from meadowrun.messages import actions, asking, bringing, page, queries
from meadowrun.messages.senders import senders
from meadowrun.people.asked import words
from meadowrun.shell.request import Answer, actor, db, done, needs, now, settings

pages = flask.Blueprint("exchange", __name__)


def _attached(content: bytes | str, kind: str, name: str) -> flask.Response:
    response = flask.Response(content, mimetype=kind)
    bare = "".join(c if c.isalnum() else "-" for c in name)[:80].strip("-") or "message"
    response.headers.set(
        "Content-Disposition",
        "attachment",
        filename=f"{bare}.{kind.rsplit('/', 1)[-1].replace('rfc822', 'eml')}",
    )
    return response


@pages.get("/messages/<int:ident>/message.mjml")
def mjml(ident: int) -> Answer:
    message = queries.message(db(), ident)
    if message.document.get("code") or message.document.get("text_only"):
        raise Invalid("A message in code, or of text only, has no lines to be written as MJML.")
    document, shared = message.document, queries.shared_of(db(), message.document)
    source = exchange.to_mjml(
        document,
        shared,
        settings().public_url,
        asking.of_document(db(), document, placed(document, shared)),
    )
    return _attached(source, "text/mjml", message.name)


@pages.get("/messages/<int:ident>/message.eml")
def eml(ident: int) -> Answer:
    """The mail as one person would get it, as a file any mail reader opens."""
    message = queries.message(db(), ident)
    person = page.chosen_person(flask.request.args.get("as"))
    mail = page.rendered(message, person)
    sender = next(iter(senders(db())), None)
    letter = Letter(
        key=f"file-{ident}",
        contact_id=0,
        from_name=sender.name if sender else settings().organisation,
        from_address=sender.address if sender else f"nobody@{settings().mail_domain}",
        reply_to="",
        to=(person.email if person else None) or f"nobody@{settings().mail_domain}",
        return_path="",
        subject=mail.subject,
        html=mail.html,
        text=mail.text,
        date=now().timestamp(),
        message_id=f"<file-{ident}@{settings().mail_domain}>",
    )
    return _attached(mime(letter), "message/rfc822", message.name)


@pages.post("/messages/<int:ident>/code")
@needs("author")
def turn(ident: int) -> Answer:
    """Turns a message into code: what was pasted or uploaded, or what its lines make. One way; the
    drafts before stay."""
    message = queries.message(db(), ident)
    source = bringing.given(flask.request.files.get("file"), flask.request.form.get("code", ""))
    lost: list[str] = []
    if source.strip():
        document, lost = bringing.read_in(db(), source, words(), settings().public_url)
        document |= {
            "in_app": message.document.get("in_app"),
            "subject": message.document["subject"] or document["subject"],
            "preheader": message.document["preheader"] or document["preheader"],
        }
    else:
        document = bringing.as_code(db(), message.document, words(), settings().public_url)
    actions.save(db(), actor(), now(), message, document, message.version, words(), apart=True)
    audit.record(db(), actor(), now(), "turned into code", "message", message.id, message.name)
    said = "It is code now." if document.get("code") else "Its lines were read from the file."
    return done(
        "messages.edit",
        said
        + (
            Wording(
                " Left out: %(lost)s%(value)s.",
                lost="; ".join(lost[:12]),
                value=" and more" if len(lost) > 12 else "",
            )
            if lost
            else ""
        ),
        ident=ident,
    )
