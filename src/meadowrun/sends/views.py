"""The send's sheet: read from top to bottom like a letter of instruction, looked at once more, and
let go."""

from typing import Any

import flask

from meadowrun.base.audit import record
from meadowrun.base.db import existing as found_row
from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.campaigns.models import Campaign
from meadowrun.core import wording
from meadowrun.core.channels import CHANNEL_WORDS, CHANNELS
from meadowrun.core.content.findings import MUST
from meadowrun.core.guardrails.outcomes import reason_words, rule_words, words_for
from meadowrun.core.language import Wording
from meadowrun.core.wording import count_of
from meadowrun.gateways.channels import CHANNELS as ALL
from meadowrun.gateways.routes import ROUTES
from meadowrun.messages.models import Edition, Message
from meadowrun.messages.queries import state_to_send
from meadowrun.messages.senders import Sender, senders
from meadowrun.messages.values import known_refs
from meadowrun.outgoing import troubles
from meadowrun.outgoing.claims import BATCH
from meadowrun.outgoing.pace import pace
from meadowrun.outgoing.queries import tally, to_contact, waits
from meadowrun.people.actions import save_topic
from meadowrun.people.asked import moment, words
from meadowrun.people.models import Topic
from meadowrun.people.queries import contact as get_contact
from meadowrun.people.queries import contacts_page, topics
from meadowrun.people.reader_language import PARTS, other_languages
from meadowrun.sends import (
    actions,
    again_to,
    approval,
    estimates,
    queries,
    repeated,
    sent_mail,
    timing,
)
from meadowrun.sends.models import Send
from meadowrun.sends.sheet_page import (
    arrivals_of,
    gateway_problem,
    limits,
    sheet,
    spoken,
    success_of,
    three_of,
    would_read,
)
from meadowrun.sends.why import why
from meadowrun.shell.framed import in_frame
from meadowrun.shell.later import comes_later
from meadowrun.shell.request import (
    Answer,
    actor,
    db,
    done,
    integer,
    needs,
    not_done,
    now,
    settings,
)

#: In an email that is only looked at, instead of the picture that would count an opening.
pages = flask.Blueprint("sends", __name__)
#: So many people are told of at once.
MOST_ASKED = 20


@pages.post("/campaigns/<int:ident>/send")
@needs("author")
def add(ident: int) -> Answer:
    """A send more of a campaign."""
    made = actions.create(
        db(),
        actor(),
        now(),
        found_row(db(), Campaign, ident, "campaign"),
        flask.request.form.get("name", ""),
        settings().timezone,
    )
    return done("sends.show", ident=made.id)


@pages.get("/sends/<int:ident>")
@comes_later("Counting who would get this")
def show(ident: int) -> Answer:
    send = queries.send(db(), ident)
    if send.taken_at is not None or send.state == "taking":
        return flask.render_template("sends/running.html", **_running(send))
    return sheet(send, None)


@pages.get("/sends/<int:ident>/look")
@needs("author")
@comes_later("Counting who gets this")
def last_look(ident: int) -> Answer:
    """Everything once more, with the true numbers, before it goes."""
    send = queries.send(db(), ident)
    if send.state != "draft":
        return done("sends.show", ident=ident)
    try:
        estimate = estimates.estimate(moment(), send)
    except Invalid as problem:
        return sheet(send, problem), 422
    findings = actions.findings(db(), send, settings().public_url, estimate.going)
    had = repeated.have_it(moment(), send)
    message = db().get(Message, send.message_id) if send.message_id else None
    return flask.render_template(
        "sends/look.html",
        send=send,
        campaign=db().get(Campaign, send.campaign_id),
        estimate=estimate,
        **spoken(send),
        findings=findings,
        had=had,
        three=three_of(send, estimate) if send.message_id else [],
        blocked=any(f.level == MUST for f in findings),
        second=approval.is_needed(db(), estimate.going),
        mail_problem=gateway_problem(send),
        success=success_of(send),
        when=arrivals_of(send, estimate),
        message=message,
        state=state_to_send(db(), message, send.takes) if message else None,
        sender=db().get(Sender, send.sender_id) if send.sender_id else None,
        names=lambda part: [queries.name_of(db(), item) for item in send.audience.get(part, [])],
    )


@pages.get("/sends/<int:ident>/as/<int:contact>.html")
def as_person(ident: int, contact: int) -> Answer:
    """The mail as one person of the audience would get it now, for a frame."""
    send = queries.send(db(), ident)
    message = db().get(Message, send.message_id) if send.message_id else None
    if message is None:
        raise Invalid("Choose a message first.", "message")
    mail = would_read(send, message, [get_contact(db(), contact).id]).get(contact)
    if mail is None:
        raise Invalid("There is no version of the message for this person.", "message")
    return in_frame(sent_mail.page(mail, message.document))


def _seen(send: Send) -> tuple[estimates.Estimate, int]:
    """(what would become of everybody, the version of the send that was looked at). Raises Invalid
    when the number of people is not the one that was looked at any more."""
    form = flask.request.form
    estimate = estimates.estimate(moment(), send)
    going = estimate.going
    seen = integer(form.get("going"), "going")
    if going != seen and not form.get("anyway"):
        raise Invalid(
            Wording(
                "Meanwhile the number changed from %(seen)s to %(going)s people. Review it once "
                "more.",
                seen=wording.number(seen),
                going=wording.number(going),
            ),
            "to",
        )
    return estimate, integer(form.get("version"), "version")


@pages.post("/sends/<int:ident>/ask")
@needs("author")
def ask(ident: int) -> Answer:
    """Asks a second person to approve a send."""
    send = queries.send(db(), ident)
    try:
        estimate, version = _seen(send)
        public_url = settings().public_url
        approval.ask(db(), actor(), now(), send, public_url, estimate.going, version)
    except MeadowrunError as problem:
        db().rollback()
        return sheet(queries.send(db(), ident), problem), problem.status
    return done("sends.show", "Everyone who may approve it sees it on Today.", ident=ident)


@pages.post("/sends/<int:ident>/refuse")
@needs("approver")
def refuse(ident: int) -> Answer:
    """Refuses a send that waits for approval."""
    send = queries.send(db(), ident)
    try:
        approval.refuse(db(), actor(), now(), send, flask.request.form.get("why", ""))
    except MeadowrunError as problem:
        return not_done(problem, "sends.show", ident=ident)
    return done("sends.show", "Refused. The person who asked is told.", ident=ident)


@pages.post("/sends/<int:ident>/<any(start, approve):verb>")
@needs("approver")
def start(ident: int, verb: str) -> Answer:
    """Lets a send go: as its author, or as the second person who approves it."""
    send = queries.send(db(), ident)
    lets_go = approval.approve if verb == "approve" else actions.start
    try:
        estimate, version = _seen(send)
        public_url = settings().public_url
        lets_go(db(), actor(), now(), send, public_url, estimate.going, version)
        send.foreseen = estimate.outcomes
    except MeadowrunError as problem:
        db().rollback()
        return sheet(queries.send(db(), ident), problem), problem.status
    return done(
        "sends.show",
        Wording("Scheduled: it goes out %(leaves)s.", leaves=timing.clock_words(send))
        if send.state == "planned"
        else None,
        ident=ident,
    )


@pages.post("/sends/<int:ident>/<any(pause, resume, stop, unplan):verb>")
@needs("approver")
def steer(ident: int, verb: str) -> Answer:
    try:
        getattr(actions, verb)(db(), actor(), now(), queries.send(db(), ident))
    except MeadowrunError as problem:
        return not_done(problem, "sends.show", ident=ident)
    return done("sends.show", ident=ident)


@pages.post("/sends/<int:ident>/delete")
@needs("author")
def delete(ident: int) -> Answer:
    send = queries.send(db(), ident)
    name, campaign = send.name, send.campaign_id
    try:
        actions.discard(db(), actor(), now(), send)
    except MeadowrunError as problem:
        return not_done(problem, "sends.show", ident=ident)
    return done("campaigns.show", Wording("“%(name)s” was deleted.", name=name), ident=campaign)


@pages.get("/sends/<int:ident>/why")
def why_page(ident: int) -> Answer:
    """Why people got a send or did not, by name or address."""
    send = queries.send(db(), ident)
    who = flask.request.args.get("who", "").strip()
    found, problem = [], None
    try:
        rows = contacts_page(db(), who).rows[:MOST_ASKED] if who else []
        found = [why(moment(), send, row[0]) for row in rows]
    except Invalid as wrong:
        problem = wrong
    return flask.render_template(
        "sends/why.html",
        send=send,
        campaign=db().get(Campaign, send.campaign_id),
        who=who,
        found=found,
        problem=problem,
        most=MOST_ASKED,
    )


@pages.post("/sends/<int:ident>/missed")
@needs("author")
def missed(ident: int) -> Answer:
    """A new send of the same to those who did not get it."""
    try:
        made = again_to.send_to_missed(db(), actor(), now(), queries.send(db(), ident))
    except MeadowrunError as problem:
        db().rollback()
        return not_done(problem, "sends.show", ident=ident)
    return done(
        "sends.show",
        "This is a new send to them. People who may not get it still get nothing.",
        ident=made.id,
    )


@pages.post("/sends/<int:ident>/settle")
@needs("approver")
def settle(ident: int) -> Answer:
    """Settles doubts: of the chosen people (`contact`), or of all."""
    form = flask.request.form
    everybody = form.get("all")
    chosen = None if everybody else [integer(c, "contact") for c in form.getlist("contact")]
    if chosen == []:
        return not_done("Choose the people first.", "results.behind", ident=ident, what="in_doubt")
    arrived = (everybody or form.get("arrived")) == "yes"
    people = actions.settle_doubts(db(), actor(), now(), queries.send(db(), ident), chosen, arrived)
    what = "counted as delivered" if arrived else "sent to again"
    return done(
        "results.behind",
        Wording(
            "%(people)s settled: %(what)s.", people=count_of(people, "person", "people"), what=what
        ),
        ident=ident,
        what="in_doubt",
    )


@pages.post("/sends/<int:ident>/again")
@needs("approver")
def again(ident: int) -> Answer:
    """Tries batches once more that failed too often."""
    send = queries.send(db(), ident)
    if send.dispatch_id:
        troubles.try_again(db(), send.dispatch_id)
    record(db(), actor(), now(), "tried again", "send", send.id, send.name)
    return done("sends.show", "It is tried again.", ident=ident)


def _running(send: Send) -> dict[str, Any]:
    counts = tally(db(), send.dispatch_id)
    left = sum(counts.get(k, 0) for k in ("waiting", "in_hand", "deferred"))
    channel = queries.channel_of(db(), send)
    due = (
        send.state == "taking"
        or send.state == "running"
        and counts.get("waiting", 0) + counts.get("in_hand", 0) > 0
    )
    later = waits(db(), send.dispatch, now())
    at_once = left - sum(some.people for some in later)
    speed = pace(db(), send.dispatch_id) if send.dispatch_id and send.state == "running" else None
    return {
        "troubles": troubles.of(db(), send.dispatch_id) if send.dispatch_id else [],
        "most_tries": troubles.MOST,
        "batch_size": BATCH,
        "stale": troubles.standing_still(db(), send.dispatch_id) if due else None,
        "asked": ALL[channel].can_be_asked(settings()),
        "put_off": [(w, reason_words({"because": w.because or "gateway"}, channel)) for w in later],
        "pace": speed,
        "minutes": speed.minutes_for(at_once) if speed else None,
        "missed": again_to.how_many(counts) if send.state in ("done", "stopped") else 0,
        "send": send,
        "campaign": db().get(Campaign, send.campaign_id),
        "tally": counts,
        "left": left,
        "words_of": words_for(channel),
        "may": rule_words(send.consent_rule, channel, bool(send.topic_id)),
        "all_of": CHANNEL_WORDS[channel],
        **limits(send),
        "message": db().get(Message, send.message_id),
        "edition": db().get(Edition, send.edition_id) if send.edition_id else None,
        "success": success_of(send),
        "sender": db().get(Sender, send.sender_id) if send.sender_id else None,
        "topic": db().get(Topic, send.topic_id) if send.topic_id else None,
        "channels": CHANNELS,
        "names": lambda part: [queries.name_of(db(), item) for item in send.audience.get(part, [])],
    }


@pages.get("/sends/<int:ident>/progress")
def progress(ident: int) -> Answer:
    """The part of a send's page that renews itself. When the send is no longer what the page shows
    it as (`shown`), the whole page is asked for again, since what can be done with it has changed,
    too."""
    send = queries.send(db(), ident)
    if send.state != flask.request.args.get("shown"):
        return "<span data-finished></span>"
    return (
        ""
        if send.state == "planned"
        else flask.render_template("sends/progress.html", **_running(send))
    )


@pages.get("/sends/<int:ident>/mail/<int:contact>")
def mail(ident: int, contact: int) -> Answer:
    send = queries.send(db(), ident)
    found = to_contact(db(), send.dispatch_id, contact)
    if found is None:
        flask.abort(404)
    return flask.render_template(
        "sends/mail.html",
        send=send,
        contact=get_contact(db(), contact),
        delivery=found,
        mail=sent_mail.exact(db(), settings(), send, contact),
        channel=queries.channel_of(db(), send),
        words_of=words_for(queries.channel_of(db(), send)),
    )


@pages.get("/sends/<int:ident>/mail/<int:contact>.html")
def mail_html(ident: int, contact: int) -> Answer:
    send = queries.send(db(), ident)
    exact = sent_mail.exact(db(), settings(), send, contact)
    if exact is None:
        flask.abort(404)
    edition = db().get_one(Edition, send.edition_id)
    html = sent_mail.page(exact, edition.document)
    return in_frame(sent_mail.without_ways(html, settings().public_url))


@pages.get("/senders")
@needs("author")
def senders_page() -> Answer:
    """Senders, and what it can be about; `sender` or `topic` is the one that is being
    changed."""
    arguments, given = flask.request.args, {}
    if arguments.get("sender"):
        one = found_row(db(), Sender, integer(arguments["sender"], "sender"), "sender")
        given = {
            "sender": str(one.id),
            **{
                n: getattr(one, n)
                for n in (
                    "name",
                    "address",
                    "reply_to",
                    "signature",
                    "name_ref",
                    "address_ref",
                    "route",
                )
            },
        }
    elif arguments.get("topic"):
        about = found_row(db(), Topic, integer(arguments["topic"], "topic"), "topic")
        given = {
            "known": str(about.id),
            "topic": about.name,
            "about": about.about,
            "often": about.often,
            **{
                f"{part}_{code}": text
                for code, texts in about.by_language.items()
                for part, text in texts.items()
            },
        }
    return _senders(given, None)


def _senders(given: dict[str, str], problem: MeadowrunError | None) -> str:
    return flask.render_template(
        "sends/senders.html",
        senders=senders(db()),
        topics=topics(db()),
        given=given,
        problem=problem,
        languages=other_languages(),
        routes=ROUTES if settings().smtp_url_2 else {},
        fields=sorted(known_refs(words()).items(), key=lambda i: i[1]),
    )


@pages.post("/senders")
@needs("admin")
def save_sender_or_topic() -> Answer:
    form = flask.request.form
    try:
        if "topic" in form:
            known = (
                found_row(db(), Topic, integer(form["known"], "topic"), "topic")
                if form.get("known")
                else None
            )
            made = save_topic(
                db(),
                actor(),
                now(),
                form["topic"],
                form.get("about", ""),
                known,
                form.get("often", ""),
                {
                    code: {part: form.get(f"{part}_{code}", "") for part in PARTS}
                    for code in other_languages()
                },
            ).name
        else:
            sender = (
                found_row(db(), Sender, integer(form["sender"], "sender"), "sender")
                if form.get("sender")
                else None
            )
            made = actions.save_sender(
                db(),
                actor(),
                now(),
                form.get("name", ""),
                form.get("address", ""),
                form.get("reply_to", ""),
                form.get("signature", ""),
                form.get("name_ref", ""),
                form.get("address_ref", ""),
                sender,
                form.get("route") or "first",
            ).name
    except MeadowrunError as problem:
        db().rollback()
        return _senders(form.to_dict(), problem), problem.status
    return done(
        "sends.senders_page",
        Wording("“%(made)s” was changed.", made=made)
        if form.get("known") or form.get("sender")
        else Wording("“%(made)s” can be chosen now.", made=made),
    )
