"""The page on which readers choose what they get, how often, and where; and the page that confirms
what they ask for."""

import flask

from meadowrun.base import signing
from meadowrun.base.errors import MeadowrunError, NotFound
from meadowrun.core import wording
from meadowrun.core.channels import KINDS, USUAL
from meadowrun.core.language import Wording, in_language
from meadowrun.core.values import email_key, is_whole
from meadowrun.core.wording import joined, masked
from meadowrun.gateways.channels import CHANNELS
from meadowrun.outgoing.timing import judge_again
from meadowrun.people import actions as people
from meadowrun.people import queries as people_queries
from meadowrun.people import reader_language, wishes
from meadowrun.people.models import Contact
from meadowrun.shell.request import Answer, db, now, public, settings, zone
from meadowrun.tracking import actions, confirming
from meadowrun.tracking.views import language_of, no_such_link, public_page

pages = flask.Blueprint("preferences", __name__)
#: What the page says where somebody ticks a topic: kept as evidence, in the language they read.
_NOT_BY_EMAIL = Wording("You do not get by email:")
_TICK = Wording(
    "Tick what you would like. We ask you by email to confirm it: a link can be passed on."
)
#: Where consent is given or withdrawn here, in words that are kept with it.
_HERE = "on the preference page"


def _found(token: str) -> tuple[int, Contact] | None:
    """The number of the delivery whose link was opened, and whom it went to."""
    found = signing.read(settings().secret, "choose", token)
    contact = people_queries.living(db(), found[1]) if found else None
    return (found[0], contact) if found and contact is not None else None


@pages.get("/p/<token>")
@public
def show(token: str) -> Answer:
    """What somebody gets, and what they can change of it."""
    found = _found(token)
    if found is None:
        return no_such_link(token)
    return _page(found[1])


@pages.post("/p/<token>")
@public
def save(token: str) -> Answer:
    """Takes away what was unticked, and keeps how often somebody wishes to hear of us. Nothing is
    agreed to by the link alone: whoever an email was passed on to could do it as well. What is
    wished for is asked of the address first."""
    found = _found(token)
    if found is None:
        return public_page("lost"), 404
    number, contact = found
    form = flask.request.form
    told: list[str] = []
    try:
        if form.get("everything") == "stop":
            actions.unsubscribe(db(), now(), number, contact.id, _HERE)
            people.set_consent(db(), now(), contact.id, 0, False, _HERE)
            _keep_channels(contact, set())
        else:
            _keep_topics(contact, set(form.getlist("topic")))
            _keep_channels(contact, set(form.getlist("channel")))
            _keep_often(contact, form.get("often", ""), form.get("pause", ""))
            told = [*_wish(contact, form.getlist("wish")), *_move(contact, form.get("email", ""))]
    except MeadowrunError as problem:
        db().rollback()
        return _page(_found(token)[1], problem=problem), problem.status  # type: ignore[index]
    return _page(contact, saved=True, told=told)


def _keep_often(contact: Contact, often: str, pause: str) -> None:
    """Keeps how many messages a week somebody wishes for, and until when they wish for none."""
    if often:
        wishes.at_most(db(), contact, int(often) if is_whole(often) else None)
        judge_again(db(), now(), [contact.id])
    if pause:
        wishes.pause(db(), now(), contact, int(pause) if is_whole(pause) else None)


def _wish(contact: Contact, wanted: list[str]) -> list[str]:
    """Asks the address about topics that somebody wishes for. Says so."""
    off = {str(state.topic_id): state for state, on in _topics(contact) if not on}
    chosen = [off[one] for one in wanted if one in off]
    if not chosen or not contact.email:
        return []
    names = ", ".join(state.topic for state in chosen)
    with reader_language.reading(language_of(contact)):
        said = " ".join(in_language(text) for text in (_NOT_BY_EMAIL, names, _TICK))
    confirming.ask(
        db(),
        now(),
        "sign_up",
        contact.email,
        [state.topic_id for state in chosen],
        confirming.PREFERENCE_PAGE,
        said,
        contact.id,
    )
    return [
        Wording(
            "We have sent an email to %(address)s. Open the link in it to confirm what you would "
            "like.",
            address=masked(contact.email),
        )
    ]


def _move(contact: Contact, typed: str) -> list[str]:
    """Asks a new address of somebody whether it is theirs. Says so. Raises Invalid."""
    typed = typed.strip()
    if not typed or email_key(typed) == contact.email_key:
        return []
    confirming.ask(
        db(),
        now(),
        "address",
        typed,
        [],
        confirming.PREFERENCE_PAGE,
        "A new address for what you get from us.",
        contact.id,
    )
    return [
        Wording(
            "We have sent an email to %(address)s. Once you open the link in it, we write there.",
            address=typed,
        )
    ]


def _page(
    contact: Contact,
    saved: bool = False,
    told: list[str] | None = None,
    problem: MeadowrunError | None = None,
) -> str:
    topics, channels = _topics(contact), _channels(contact)
    until, code = contact.paused_until, language_of(contact)
    return public_page(
        "preferences",
        contact,
        saved=saved,
        told=told or [],
        problem=problem,
        given=flask.request.form if problem else {},
        address=masked(contact.email or ""),
        has_address=bool(contact.email),
        phone=masked(contact.phone or ""),
        by_phone={key for key, one in CHANNELS.items() if one.shown_address == "phone"},
        topics=[(state, _about(state, code)) for state, on in topics if on],
        channels=[state for state, on in channels if on],
        wished=[(state, _about(state, code)) for state, on in topics if not on],
        others=joined([state.topic for state, on in channels if not on], "and"),
        often=contact.most_a_week,
        choices=[(most, wording.count_of(most, "message")) for most in wishes.AT_MOST],
        pauses=[(months, wording.count_of(months, "month")) for months in wishes.PAUSES],
        paused_until=until.astimezone(zone()).date() if until else None,
    )


def _about(state: people_queries.ConsentState, code: str) -> str:
    """What a topic is about, and how often something comes, as it is described in a language;
    nothing for all email."""
    found = next((t for t in people_queries.topics(db()) if t.id == state.topic_id), None)
    return reader_language.about(found, code) if found else ""


@pages.get("/confirm/<token>")
@public
def ask_to_confirm(token: str) -> Answer:
    """Asks once more: mail scanners follow links, and following one must not agree to anything."""
    try:
        found = confirming.waiting(db(), token)
    except NotFound:
        return public_page("lost"), 404
    return _confirm_page(found)


@pages.post("/confirm/<token>")
@public
def confirm(token: str) -> Answer:
    """Does what was asked for."""
    try:
        found = confirming.confirm(db(), now(), token)
    except NotFound:
        return public_page("lost"), 404
    except MeadowrunError as problem:
        db().rollback()
        return _confirm_page(confirming.waiting(db(), token), problem), problem.status
    return _confirm_page(found)


def _confirm_page(found: confirming.Confirmation, problem: MeadowrunError | None = None) -> str:
    contact = people_queries.living(db(), found.contact_id) if found.contact_id else None
    code = language_of(contact)
    names = {
        topic.id: reader_language.name_of(topic, code) for topic in people_queries.topics(db())
    }
    return public_page(
        "confirm",
        contact,
        found=found,
        problem=problem,
        wished=[names[topic] for topic in found.topics if topic in names],
    )


def _consent(contact: Contact) -> list[people_queries.ConsentState]:
    """What somebody agreed to, in the language they read."""
    return people_queries.consent_of(db(), contact.id, code=language_of(contact))


def _topics(contact: Contact) -> list[tuple[people_queries.ConsentState, bool]]:
    """The topics of email, and whether a person gets them now; an organisation without topics has
    all of its mail for one."""
    whole, *topics = (c for c in _consent(contact) if c.channel == USUAL)
    if not topics:
        return [(whole, bool(whole.agreed))]
    return [
        (
            state,
            bool(
                whole.agreed is not False
                and (state.agreed or state.agreed is None and whole.agreed)
            ),
        )
        for state in topics
    ]


def _channels(contact: Contact) -> list[tuple[people_queries.ConsentState, bool]]:
    """The channels besides email that concern somebody, and topics there of which they said
    something, each with whether they get it now."""
    concerned = {key for key, channel in CHANNELS.items() if channel.concerns(db(), contact)} - {
        USUAL
    }
    return [
        (c, bool(c.agreed or c.agreed is None and KINDS[c.channel].agreed_unless_refused))
        for c in _consent(contact)
        if c.channel != USUAL
        and (c.agreed is not None or c.channel in concerned and not c.topic_id)
    ]


def _keep_channels(contact: Contact, wanted: set[str]) -> None:
    """Writes down which of the channels that they got a person unticked."""
    for state, on in _channels(contact):
        if on and state.key not in wanted:
            people.set_consent(db(), now(), contact.id, state.topic_id, False, _HERE, state.channel)


def _keep_topics(contact: Contact, wanted: set[str]) -> None:
    """Writes down which of the topics that they got by email a person unticked."""
    for state, on in _topics(contact):
        if on and str(state.topic_id) not in wanted:
            people.set_consent(db(), now(), contact.id, state.topic_id, False, _HERE)


WITHOUT_CSRF = (save, confirm)
