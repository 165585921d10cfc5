"""The links of a send, drawn on the email as it was sent."""

import flask

from meadowrun.core.channels import KINDS
from meadowrun.core.language import Wording, in_language
from meadowrun.core.results.drawn import Badge, with_badges
from meadowrun.core.wording import number, share
from meadowrun.people.queries import contact as get_contact
from meadowrun.results import queries
from meadowrun.results.queries import Result
from meadowrun.sends.models import Send
from meadowrun.sends.queries import channel_of
from meadowrun.sends.queries import send as get_send
from meadowrun.sends.sent_mail import exact, without_ways
from meadowrun.shell.framed import in_frame
from meadowrun.shell.request import Answer, db, now, settings

pages = flask.Blueprint("drawn", __name__, url_prefix="/results/<int:ident>/email")


@pages.get("")
def show(ident: int) -> Answer:
    """The email with how many clicked each link, of somebody who got it, by version."""
    send = _mail(ident)
    result = queries.result(db(), send, now())
    found = queries.readers(db(), send)
    asked = flask.request.args.get("contact", "")
    reader = next((one for one in found if str(one.contact_id) == asked), None)
    reader = reader or next(iter(found), None)
    mail = exact(db(), settings(), send, reader.contact_id) if reader else None
    _, there = with_badges(mail.html, _badges(result)) if mail else ("", set[int]())
    return flask.render_template(
        "results/drawn.html",
        send=send,
        result=result,
        reader=reader,
        readers=found,
        contact=get_contact(db(), reader.contact_id) if reader else None,
        subject=mail.subject if mail else "",
        elsewhere=[one for one in result.links if one.number not in there],
    )


@pages.get("/<int:contact>.html")
def page(ident: int, contact: int) -> Answer:
    """That email, for its frame."""
    send = _mail(ident)
    mail = exact(db(), settings(), send, contact)
    if mail is None:
        flask.abort(404)
    html, _ = with_badges(mail.html, _badges(queries.result(db(), send, now())))
    return in_frame(without_ways(html, settings().public_url))


def _badges(result: Result) -> dict[int, Badge]:
    """What stands beside each link: people, and their share of those who got it."""
    most = max((one.people for one in result.links), default=0)
    return {
        one.number: Badge(
            in_language(
                Wording(
                    "%(people)s · %(share)s",
                    people=number(one.people),
                    share=share(one.people, result.delivered),
                )
            ),
            one.people / most if most else 0.0,
        )
        for one in result.links
    }


def _mail(ident: int) -> Send:
    """A send of a mail that left."""
    send = get_send(db(), ident)
    if send.taken_at is None or not KINDS[channel_of(db(), send)].mail:
        flask.abort(404)
    return send
