"""Write and read: a message's lines on the left, what a chosen person will see on the right."""

from collections.abc import Callable
from typing import Any

import flask
from markupsafe import escape

from meadowrun.base import audit
from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.base.manifest import happened
from meadowrun.core import wording
from meadowrun.core.audience import definition as d
from meadowrun.core.channels import CHANNELS, KINDS
from meadowrun.core.content import begin, readers
from meadowrun.core.content import document as doc
from meadowrun.core.content.formats import FORMATS
from meadowrun.core.content.onpage import on_page
from meadowrun.core.content.rendering import Rendered
from meadowrun.core.language import Wording, in_language
from meadowrun.core.values import is_whole
from meadowrun.gateways.channels import CHANNELS as ALL
from meadowrun.messages import (
    actions,
    bringing,
    copying,
    editing,
    follows,
    page,
    queries,
    readership,
    reading,
)
from meadowrun.messages.models import Draft, Message
from meadowrun.messages.senders import senders
from meadowrun.people.asked import moment, words
from meadowrun.people.queries import contacts_page
from meadowrun.people.tagged import narrowed
from meadowrun.segments.looking import look
from meadowrun.segments.models import Segment
from meadowrun.segments.queries import segments
from meadowrun.shell.accounts import people_who
from meadowrun.shell.framed import in_frame
from meadowrun.shell.keys import on_website, websites
from meadowrun.shell.later import comes_later
from meadowrun.shell.request import (
    Answer,
    actor,
    body,
    counts_of,
    dates_of,
    db,
    done,
    needs,
    now,
    running_of,
    settings,
    zone,
)

pages = flask.Blueprint("messages", __name__)


@pages.get("/messages")
def table() -> Answer:
    rows, tagged = narrowed(queries.messages(db()))
    return flask.render_template(
        "messages/table.html",
        rows=rows,
        tagged=tagged,
        used=counts_of("message"),
        dates=dates_of("message"),
        running=running_of("message"),
        channels=CHANNELS,
    )


@pages.get("/messages/new")
@needs("author")
def new() -> Answer:
    return _new(None)


def _new(problem: MeadowrunError | None) -> str:
    form = flask.request.form
    return flask.render_template(
        "messages/new.html",
        problem=problem,
        name=form.get("name", ""),
        code=form.get("code", ""),
        own=queries.messages(db()),
        channels=CHANNELS,
        layouts=begin.LAYOUTS,
        form=form,
        lines_of=_lines_of,
    )


def _lines_of(layout: str) -> list[doc.Json]:
    """What a layout's sketch is drawn from."""
    lines: list[doc.Json] = begin.document(
        layout, settings().organisation, settings().postal_address, {}
    )["lines"]
    return lines


@pages.post("/messages/new")
@needs("author")
def create() -> Answer:
    form, lost = flask.request.form, list[str]()
    try:
        channel = form.get("channel", "email")
        if channel not in CHANNELS:
            raise Invalid("There is no such channel.", "channel")
        source = (
            bringing.given(flask.request.files.get("file"), form.get("code", ""))
            if KINDS[channel].mail
            else ""
        )
        chosen = form.get("words_of") or form.get("from", "")
        if source.strip():
            document, lost = bringing.read_in(db(), source, words(), settings().public_url)
        elif is_whole(chosen) and (form.get("words_of") or KINDS[channel].mail):
            document, lost = copying.document_from(
                db(), queries.message(db(), int(chosen)), channel, settings(), words()
            )
        else:
            document = copying.begun(db(), channel, settings(), chosen)
        made = actions.create(db(), actor(), now(), form.get("name", ""), document, channel)
    except MeadowrunError as problem:
        db().rollback()
        return _new(problem), problem.status
    return done(
        "messages.edit",
        Wording("Not copied: %(lost)s.", lost="; ".join(lost)) if lost else None,
        ident=made.id,
    )


@pages.get("/messages/<int:ident>")
@comes_later("Counting who reads this message")
def edit(ident: int) -> Answer:
    message = queries.message(db(), ident)
    editor_of = ALL[message.channel].editor
    if editor_of != "messages.edit":
        asked: dict[str, Any] = flask.request.args.to_dict()
        return flask.redirect(flask.url_for(editor_of, ident=ident, **asked))
    if message.document.get("one_of"):
        return flask.redirect(flask.url_for("choosing.show", ident=ident))
    return flask.render_template(
        "messages/edit.html",
        message=message,
        through=page.through(),
        name_of=page.name_of,
        also_as=ALL.values(),
        part=None,
        person=page.reader(message.document),
        senders=senders(db()),
        reviews=queries.reviews(db(), ident),
        base=f"/messages/{ident}",
        house=queries.house(db()),
        websites=websites(db()),
        proof=on_website(db(), flask.request.args.get("proof", "")),
        **editor(message.channel),
        **follows.shown(message.document, message),
    )


def editor(channel: str = "email") -> dict[str, Any]:
    """What the two halves need besides the document."""
    return {
        "segments": segments(db()),
        "looks": readers.LOOKS,
        "mail_readers": readers.readers(),
        "types": [(key, doc.LINE_TYPES[key][0]) for key in KINDS[channel].line_types],
    }


@pages.post("/messages/<int:ident>/save")
@needs("author")
def save(ident: int) -> Answer:
    """Applies what an author changed and answers with what follows from it."""
    message = queries.message(db(), ident)
    return saved(message, lambda: follows.shown(message.document, message), "lines", "margin")


def saved(message: Message, parts: Callable[[], dict[str, Any]], lines: str, margin: str) -> Answer:
    """Saves the changes that an editor posts. The templates `lines` and `margin` draw what comes
    back, of these `parts`."""
    data = body()
    posted = editing.apply(
        data,
        editing.Newest(message.document, message.version, message.changed_by, "message"),
        lambda given: actions.take(given, words(), message.channel),
        around(),
    )
    actions.save(
        db(),
        actor(),
        now(),
        message,
        posted.document,
        editing.based_on(data),
        words(),
        data.get("apart") is True,
    )
    done_with = editing.Posted(message.document, posted.touched)
    return answered(message.draft, message.version, done_with, message, parts(), lines, margin)


def around() -> editing.Around:
    """What an edit asks of the database, for this request."""
    return editing.Around(db(), actor(), now(), words())


def answered(
    number: int,
    version: int,
    posted: editing.Posted,
    message: Message | None,
    parts: dict[str, Any],
    lines: str = "lines",
    margin: str = "margin",
) -> Answer:
    """What an editor gets back: the draft's number and version, when it was saved, the document,
    the right column, and the lines where more changed than what was typed."""
    answer: dict[str, Any] = {
        "draft": number,
        "version": version,
        "saved": in_language(wording.time(now().astimezone(zone()))),
        "document": posted.document,
        "touched": posted.touched,
        "margin": flask.render_template(f"messages/{margin}.html", message=message, **parts),
    }
    if editing.redraws(body()):
        answer["lines"] = flask.render_template(f"messages/{lines}.html", message=message, **parts)
    return flask.jsonify(answer)


@pages.post("/messages/<int:ident>/rename")
@needs("author")
def rename(ident: int) -> Answer:
    actions.rename(
        db(), actor(), now(), queries.message(db(), ident), flask.request.form.get("name", "")
    )
    return done("messages.edit", ident=ident)


@pages.get("/messages/<int:ident>/read")
def read(ident: int) -> Answer:
    """What a person will see: subject, preheader and plain text as JSON, for the head of the
    reading side."""
    message = queries.message(db(), ident)
    person = page.chosen_person(flask.request.args.get("as"))
    mail, preheader = page.read_with_head(message, person)
    return flask.jsonify(
        subject=mail.subject or "(no subject yet)",
        preheader=preheader,
        text=mail.text,
        person=person.id if person else None,
        name=page.name_of(person),
    )


@pages.get("/messages/<int:ident>/read.html")
def read_html(ident: int) -> Answer:
    """The mail itself, shut into a sandbox: no script, no form, nothing from elsewhere but
    pictures."""
    message = queries.message(db(), ident)
    mail = page.rendered(message, page.chosen_person(flask.request.args.get("as")))
    seen = looked(mail, flask.request.args.get("look", "desktop"))
    return in_frame(
        on_page(seen, mail.in_app, message.document["settings"]) if mail.in_app else seen,
        heard=True,
    )


def looked(mail: Rendered, look: str) -> str:
    """The page of a mail as some look shows it. Marks of lines, which the editor finds its way by,
    stay in."""
    if not mail.html:
        return (
            "<!doctype html><meta charset='utf-8'><body style='margin:24px'>"
            f"<pre style='white-space:pre-wrap'>{escape(mail.text)}</pre>"
        )
    try:
        return readers.shown(mail.html, look)
    except KeyError:
        raise Invalid(Wording("There is no mail app “%(look)s”.", look=look)) from None


@pages.post("/messages/<int:ident>/people")
def found_people(ident: int = 0) -> Answer:
    """People to read as that a search finds."""
    rows = contacts_page(db(), str(body().get("q", ""))).rows[:10]
    return flask.jsonify(
        people=[{"id": r[0].id, "name": page.name_of(r[0]), "note": r[0].email or ""} for r in rows]
    )


@pages.get("/messages/<int:ident>/people")
def people(ident: int = 0) -> Answer:
    """The next or previous person to read as, of a segment or of everyone."""
    arguments, ids = flask.request.args, None
    if is_whole(arguments.get("segment", "")):
        segment = db().get(Segment, int(arguments["segment"]))
        if segment is not None:
            try:
                ids = list(look(moment(), d.parse(segment.definition, words())).sieve.members)
            except d.DefinitionError:
                ids = []
    near = int(arguments["from"]) if is_whole(arguments.get("from", "")) else 0
    found = readership.neighbour(db(), near, ids, arguments.get("go") != "back")
    return flask.jsonify(id=found)


@pages.post("/messages/reads-as")
def reads_as() -> Answer:
    """Keeps as whom this colleague reads messages from now on."""
    data = body()
    person, segment = str(data.get("person")), str(data.get("segment"))
    if is_whole(person):
        page.keep_reader(int(person), int(segment) if is_whole(segment) else 0)
    return flask.jsonify(kept=True)


@pages.get("/messages/<int:ident>/fills")
def fills(ident: int = 0) -> Answer:
    """What `@` and `#` offer."""
    known = [
        {
            "ref": ref,
            "label": label
            if not ref.startswith("company.") or label.startswith("company")
            else Wording("company’s %(label)s", label=label),
        }
        for ref, label in queries.known(db(), words()).items()
    ]
    known += [
        {"ref": "greeting", "label": Wording("greeting that fits the hour")},
        {"ref": "sender.signature", "label": Wording("sender’s signature")},
        *(
            {"ref": f"feed.{f.key}", "label": Wording("feed %(key)s", key=f.key)}
            for f in queries.feeds(db())
        ),
    ]
    known += [
        {
            "ref": f"event.{key}",
            "label": Wording("%(label)s, of what starts the journey", label=label),
        }
        for key, label in (happened(db(), ident) if ident else {}).items()
    ]
    facts = [
        {"ref": f"fact.{key}", "label": key.replace("_", " "), "value": str(value)}
        for key, value in ((reading.facts(db(), ident) if ident else None) or {}).items()
    ]
    return flask.jsonify(
        fields=sorted(known, key=lambda k: k["label"].lower()),
        facts=facts,
        formats=FORMATS,
        segments=[{"id": s.id, "name": s.name} for s in segments(db())],
    )


@pages.get("/messages/<int:ident>/drafts")
def drafts(ident: int) -> Answer:
    message = queries.message(db(), ident)
    return flask.render_template(
        "messages/drafts.html",
        message=message,
        rows=queries.drafts(db(), ident),
        editions=queries.editions(db(), ident),
        reviews=queries.reviews_by_draft(db(), ident),
        names={u.id: u.name for u in people_who(db(), "viewer")},
    )


@pages.post("/messages/<int:ident>/drafts/<int:number>/name")
@needs("author")
def name_draft(ident: int, number: int) -> Answer:
    """Gives a draft a name; so it is kept as it is."""
    actions.name_draft(
        db(),
        actor(),
        now(),
        queries.message(db(), ident),
        number,
        flask.request.form.get("name", ""),
    )
    return done("messages.drafts", ident=ident)


@pages.get("/messages/<int:ident>/drafts/<int:number>.html")
def draft_html(ident: int, number: int) -> Answer:
    message = queries.message(db(), ident)
    draft = db().get(Draft, (ident, number))
    if draft is None:
        flask.abort(404)
    mail = page.rendered(message, page.chosen_person(None), draft.document)
    seen = looked(mail, "desktop")
    marks = "".join(
        f".ln-{i}{{outline:3px solid #c98a1b;outline-offset:-3px}}"
        for i in flask.request.args.get("mark", "").split("-")
        if i.isalnum()
    )
    return in_frame(seen.replace("</head>", f"<style>{marks}</style></head>", 1) if marks else seen)


@pages.post("/messages/<int:ident>/restore/<int:number>")
@needs("author")
def restore(ident: int, number: int) -> Answer:
    actions.restore(db(), actor(), now(), queries.message(db(), ident), number)
    return done(
        "messages.edit",
        Wording("Draft %(number)s is the newest again; the one before it stays.", number=number),
        ident=ident,
    )


@pages.post("/messages/<int:ident>/starting-point")
@needs("author")
def starting_point(ident: int) -> Answer:
    """Offers a message where new ones are begun, or no longer."""
    message = queries.message(db(), ident)
    message.starting_point = not message.starting_point
    audit.record(
        db(),
        actor(),
        now(),
        "changed",
        "message",
        message.id,
        message.name,
        starting_point=message.starting_point,
    )
    return done(
        "messages.edit",
        "It is now offered as a starting point."
        if message.starting_point
        else "It is no longer offered as a starting point.",
        ident=ident,
    )
