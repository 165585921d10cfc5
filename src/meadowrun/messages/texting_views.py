"""Text messages: written, read on a phone as anyone, counted in parts for the longest values,
proofed."""

from typing import Any

import flask

from meadowrun.base.errors import Invalid
from meadowrun.core.content import fillins, sms
from meadowrun.core.content.findings import About
from meadowrun.gateways.channels import CHANNELS
from meadowrun.messages import editable, follows, page, queries, readership, reading, views
from meadowrun.messages.gaps import counted, gaps_of
from meadowrun.messages.models import Message
from meadowrun.people.asked import moment, words
from meadowrun.segments.queries import segments
from meadowrun.shell.request import Answer, db, needs, settings

pages = flask.Blueprint("texting", __name__)


@pages.get("/messages/<int:ident>/text")
def edit(ident: int) -> Answer:
    message = _message(ident)
    return flask.render_template(
        "messages/text.html",
        message=message,
        through=page.through(),
        person=page.reader(message.document),
        reviews=queries.reviews(db(), ident),
        segments=segments(db()),
        name_of=page.name_of,
        also_as=CHANNELS.values(),
        **_follows(message),
    )


def _message(ident: int) -> Message:
    message = queries.message(db(), ident)
    if message.channel != "sms":
        raise Invalid("This is not a text message.")
    return message


def _follows(message: Message) -> dict[str, Any]:
    """What follows from the text: its parts for the longest values really there, their cost, and
    what is wrong."""
    text = str(message.document["plain"] or "")
    among, whose = reading.audience_of(moment(), message.id)
    ids = list(among) if among is not None else None
    facts, known = reading.facts(db(), message.id), queries.known(db(), words())
    values = readership.longest(db(), fillins.refs(text), words(), ids) | {
        f"fact.{key}": [str(value)] for key, value in (facts or {}).items()
    }
    drawn = sms.longest(text, values, settings().public_url)
    made = sms.size(drawn)
    found = sms.sms_checks(
        message.document,
        About(
            known=known,
            facts=None if facts is None else list(facts),
            feeds=[f.key for f in queries.feeds(db())],
            dated=readership.dated(db(), fillins.refs(text)),
            blanks=counted(gaps_of(moment(), message.document, [("", "plain", text)], among)),
        ),
        drawn,
    )
    reach = readership.reach(db(), "sms", ids)
    return {
        "document": message.document,
        "size": made,
        "checks": found,
        "whose": whose,
        "with_phone": reach[0],
        "reachable": reach[1],
        "cost": sms.cost_words(made.parts, reach[1], settings().sms_price, settings().currency),
        "price": settings().sms_price,
        "facts": facts,
        "plainer": sms.plainer(text) != text,
        "labels": follows.labels_of(message.document),
        "editable": editable,
        "readers": reading.who_reads_words(moment(), message.document, among),
        "among": len(among) if among is not None else readership.everyone(db()),
    }


@pages.post("/messages/<int:ident>/text")
@needs("author")
def save(ident: int) -> Answer:
    message = _message(ident)
    return views.saved(message, lambda: _follows(message), "text_lines", "text_margin")


@pages.get("/messages/<int:ident>/text/read")
def read(ident: int) -> Answer:
    """The text as somebody would get it, with its own parts."""
    message = _message(ident)
    person = page.chosen_person(flask.request.args.get("as"))
    mail = page.rendered(message, person)
    made = sms.size(mail.text)
    return flask.jsonify(
        text=mail.text,
        person=person.id if person else None,
        name=page.name_of(person),
        parts=made.parts,
        alphabet=made.alphabet,
        left=made.left,
    )
