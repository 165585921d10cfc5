"""Push notifications: written beside a drawn device, read as anyone, checked, proofed to one's own
devices."""

from typing import Any

import flask

from meadowrun.base.errors import Invalid
from meadowrun.core.channels import KINDS
from meadowrun.core.content import fillins
from meadowrun.core.content.findings import About
from meadowrun.core.content.push import EMPTY, SHOWN, SYSTEMS, TAPS, payload, push_checks, texts_of
from meadowrun.gateways.channels import CHANNELS
from meadowrun.messages import editable, follows, page, queries, readership, reading, views
from meadowrun.messages.gaps import counted, gaps_of
from meadowrun.messages.models import Message
from meadowrun.people.asked import moment, words
from meadowrun.people.devices import devices_by_kind
from meadowrun.people.queries import file_weights
from meadowrun.segments.queries import segments
from meadowrun.shell.request import Answer, db, needs

pages = flask.Blueprint("notifications", __name__)


def _message(ident: int) -> Message:
    message = queries.message(db(), ident)
    if message.channel != "push":
        raise Invalid("This is not a push notification.")
    return message


@pages.get("/messages/<int:ident>/notification")
def edit(ident: int) -> Answer:
    message = _message(ident)
    return flask.render_template(
        "messages/notification.html",
        message=message,
        through=page.through(),
        person=page.reader(message.document),
        reviews=queries.reviews(db(), ident),
        segments=segments(db()),
        name_of=page.name_of,
        also_as=CHANNELS.values(),
        **_follows(message),
    )


def _follows(message: Message) -> dict[str, Any]:
    document = message.document
    known = queries.known(db(), words())
    facts = reading.facts(db(), message.id)
    among, whose = reading.audience_of(moment(), message.id)
    everyone = readership.everyone(db())
    written = [
        document["subject"],
        document["plain"] or "",
        *(text for _, text in texts_of(document["push"])),
    ]
    refs = set().union(*(fillins.refs(text) for text in written))
    gaps = gaps_of(moment(), document, [("", "plain", text) for text in written], among)
    found = push_checks(
        document,
        About(
            blanks=counted(gaps),
            dated=readership.dated(db(), refs),
            known=known,
            facts=None if facts is None else list(facts),
            feeds=[f.key for f in queries.feeds(db())],
            longest=readership.longest(
                db(), refs, words(), list(among) if among is not None else None
            ),
            weights=file_weights(db(), [document["push"]["picture"], document["push"]["icon"]]),
        ),
    )
    _, reachable = readership.reach(db(), "push", None)
    wanted = document["push"].get("systems", SYSTEMS)
    emails = [
        m for m in queries.messages(db()) if KINDS[m.channel].mail and not m.document.get("one_of")
    ]
    return {
        "document": document,
        "push": EMPTY | document["push"],
        "emails": emails,
        "checks": found,
        "devices": {SYSTEMS[k]: n for k, n in sorted(devices_by_kind(db()).items()) if k in wanted},
        "reachable": reachable,
        "facts": facts,
        "shown": SHOWN,
        "bytes": len(payload(document["subject"], document["plain"] or "", document["push"])),
        "labels": follows.labels_of(document),
        "editable": editable,
        "readers": reading.who_reads_words(moment(), document, among),
        "among": len(among) if among is not None else everyone,
        "whose": whose,
        "systems": SYSTEMS,
        "taps": TAPS,
    }


@pages.post("/messages/<int:ident>/notification")
@needs("author")
def save(ident: int) -> Answer:
    message = _message(ident)
    return views.saved(
        message, lambda: _follows(message), "notification_lines", "notification_margin"
    )


@pages.get("/messages/<int:ident>/notification/read")
def read(ident: int) -> Answer:
    """The push notification as somebody would get it."""
    message = _message(ident)
    person = page.chosen_person(flask.request.args.get("as"))
    mail = page.rendered(message, person)
    return flask.jsonify(
        title=mail.subject,
        body=mail.text.strip(),
        push=mail.push,
        person=person.id if person else None,
        name=page.name_of(person),
    )
