"""A sample campaign to learn on: twelve invented people whose emails all come to whoever made it, a
segment, two emails, a send and a journey. It can be thrown away again.

Nothing of it reaches anybody else: each of the twelve has the address of its maker with a name
behind a plus sign (subaddressing, RFC 5233).
"""

import datetime as dt
import functools
import html
import re
from collections.abc import Callable
from typing import TypeVar

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.audit import Actor
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.base.settings import Settings
from meadowrun.campaigns import actions as campaigns
from meadowrun.campaigns.models import Campaign
from meadowrun.core.content import document
from meadowrun.core.content.lines import Json
from meadowrun.core.journeys import edit
from meadowrun.core.journeys.steps import (
    ExitStep,
    Itinerary,
    MessageStep,
    Path,
    Span,
    Start,
    WaitForStep,
    Who,
)
from meadowrun.core.language import Wording
from meadowrun.core.values import email_problem
from meadowrun.core.wording import free_name
from meadowrun.home.models import Sample
from meadowrun.journeys import actions as journeys
from meadowrun.journeys.models import Journey
from meadowrun.messages import actions as messages
from meadowrun.messages import copying
from meadowrun.messages.models import Message
from meadowrun.people import keeping, wholly
from meadowrun.people.actions import full_name, lock_people, save_contact
from meadowrun.people.models import Contact, PeopleList
from meadowrun.people.queries import dictionary, uses_of_list
from meadowrun.segments import actions as segments
from meadowrun.segments.models import Segment
from meadowrun.sends import actions as sends
from meadowrun.sends.models import Send

#: First name, last name and town of the invented people. The towns are invented, too.
PEOPLE = (
    ("Ada", "Lindqvist", "Tallowby"),
    ("Tomasz", "Wrona", "Tallowby"),
    ("Noor", "Haddad", "Tallowby"),
    ("Kenji", "Mori", "Tallowby"),
    ("Lucía", "Prado", "Tallowby"),
    ("Ifeoma", "Eze", "Quenmoor"),
    ("Søren", "Dahl", "Quenmoor"),
    ("Maeve", "Quinn", "Quenmoor"),
    ("Ravi", "Menon", "Ostrelle"),
    ("Élodie", "Blanc", "Ostrelle"),
    ("Hanna", "Keller", "Ostrelle"),
    ("Zoë", "Marks", "Ostrelle"),
)
#: Where the sample's people come from, as their page says.
SOURCE = "sample campaign"
#: Whom the sample's segment takes.
TOWNS = ("Tallowby", "Quenmoor")
#: The address of one of them.
_OF_SAMPLE = re.compile(r"\+sample\d+@")
_GREETING = 'Dear {{ contact.first_name | default("friend", true) }}'


def current(session: orm.Session) -> Sample | None:
    """The sample campaign; None where there is none."""
    return session.get(Sample, 1)


def make(
    session: orm.Session, actor: Actor, now: dt.datetime, settings: Settings, address: str
) -> Sample:
    """Makes the sample campaign; all its emails go to `address`. Raises Invalid where that cannot
    be written to, and Conflict where there is a sample already."""
    address = address.strip()
    if problem := email_problem(address):
        raise Invalid(problem, "address")
    lock_people(session)
    if current(session) is not None:
        raise Conflict("There is a sample campaign already. Delete that one first.")
    people = _people(session, actor, now, address)
    listed = keeping.make_list(session, actor, now, str(Wording("Sample people")), SOURCE, people)
    segment = _segment(session, actor, now, listed)
    campaign = campaigns.save(
        session,
        actor,
        now,
        {"name": _free(session, Campaign, Wording("Sample: open evening")), "kind": "Other"},
    )
    invitation, reminder = _emails(session, actor, now, settings)
    send = sends.create(
        session, actor, now, campaign, str(Wording("Sample: send")), settings.timezone
    )
    send.audience = {"in": [{"segment": segment.id}], "out": []}
    # They were never asked: as with contacts of one's own who have said nothing yet.
    send.message_id, send.consent_rule = invitation.id, "not_refused"
    journey = journeys.create(
        session,
        actor,
        now,
        campaign,
        str(Wording("Sample: invite, and remind")),
        _itinerary(segment, invitation, reminder),
    )
    journey.consent_rule = "not_refused"
    made = Sample(
        id=1,
        people=people,
        list_id=listed.id,
        segment_id=segment.id,
        invitation_id=invitation.id,
        reminder_id=reminder.id,
        campaign_id=campaign.id,
        send_id=send.id,
        journey_id=journey.id,
        made_at=now,
        made_by=actor.name,
    )
    session.add(made)
    session.flush()
    return made


def _people(session: orm.Session, actor: Actor, now: dt.datetime, address: str) -> list[int]:
    """The invented people, whose emails all go to one address; gives their numbers."""
    return [
        save_contact(
            session,
            actor,
            now,
            {
                "email": _plus(address, number),
                "first_name": first,
                "last_name": last,
                "town": town,
            },
            source=SOURCE,
        ).id
        for number, (first, last, town) in enumerate(PEOPLE, 1)
    ]


def _emails(
    session: orm.Session, actor: Actor, now: dt.datetime, settings: Settings
) -> tuple[Message, Message]:
    """The invitation, and the reminder that the journey sends."""
    invitation = _email(
        settings,
        Wording("Come and see us on Friday"),
        Wording("Our doors are open this Friday from six. Bring anyone you like."),
        Wording("Tell us that you are coming"),
    )
    reminder = _email(
        settings,
        Wording("Friday is the day"),
        Wording("In case you missed it: our doors are open this Friday from six."),
        Wording("Have a look"),
    )
    first, second = (
        messages.create(session, actor, now, _free(session, Message, name), document)
        for name, document in (
            (Wording("Sample: invitation"), invitation),
            (Wording("Sample: reminder"), reminder),
        )
    )
    return first, second


def _plus(address: str, number: int) -> str:
    """The address of somebody whose mail comes to another one."""
    name, at, domain = address.rpartition("@")
    return f"{name}+sample{number}{at}{domain}"


def _free(
    session: orm.Session, model: "type[Campaign | Message | Segment]", wanted: Wording
) -> str:
    """A name that nothing of a kind has yet."""
    return free_name(str(wanted), set(session.scalars(sa.select(model.name))))


def _segment(session: orm.Session, actor: Actor, now: dt.datetime, listed: PeopleList) -> Segment:
    name = _free(session, Segment, Wording("Sample: two of three towns"))
    definition = {
        "match": "all",
        "lines": [
            {"id": "a1", "kind": "list", "list": listed.id, "inside": True},
            {"id": "a2", "kind": "field", "field": "town", "op": "is", "value": list(TOWNS)},
        ],
    }
    return segments.save(session, actor, now, dictionary(session), name, definition)


def _email(settings: Settings, subject: Wording, text: Wording, button: Wording) -> Json:
    """A short email that greets by name, with one button."""
    lines = [document.new_line(kind) for kind in ("heading", "text", "button")]
    lines[0]["text"] = str(subject)
    lines[1]["html"] = f"<p>{_GREETING},</p><p>{html.escape(str(text))}</p>"
    lines[2] |= {"label": str(button), "href": settings.public_url}
    closing = document.closing(settings.organisation, settings.postal_address)
    return document.empty() | {"subject": str(subject), "lines": [*lines, closing]}


def _itinerary(segment: Segment, invitation: Message, reminder: Message) -> Itinerary:
    """Everybody of the segment gets the invitation, and whoever does not click the reminder."""
    found = edit.add(Itinerary(), MessageStep("", invitation.id))
    remind = (MessageStep("", reminder.id),)
    ways = (Path("", (ExitStep(""),), reaction="clicked"), Path("", remind))
    found = edit.add(found, WaitForStep("", Span(2, "day"), ways))
    return edit.add_start(found, Start("everyone", who=Who(segment.id)))


_Kind = TypeVar("_Kind")
#: What is made of a thing of a kind by its number, in words.
Uses = Callable[[str, int], list[str]]


def throw_away(session: orm.Session, actor: Actor, now: dt.datetime, uses: Uses) -> list[str]:
    """Takes the sample campaign away: its people are erased while their addresses are those of the
    sample, and everything of it is deleted of which nothing was sent and that nothing else uses.
    Gives the names of what stays. Raises Conflict where there is no sample."""
    found = session.get(Sample, 1, with_for_update=True)
    if found is None:
        raise Conflict("There is no sample campaign any more.")
    by = (session, actor, now)
    stays: list[str] = []

    def try_to(name: str, delete: Callable[[], None]) -> None:
        try:
            with session.begin_nested():
                delete()
                session.flush()
        except Conflict:
            stays.append(name)

    if send := _of(session, Send, found.send_id):
        _halt(session, actor, now, send)
        try_to(send.name, lambda: sends.discard(*by, send))
    if journey := _of(session, Journey, found.journey_id):
        if journey.state not in ("draft", "ended"):
            journeys.end(*by, journey)
        try_to(journey.name, lambda: journeys.delete(*by, journey))
    for ident in (found.invitation_id, found.reminder_id):
        if message := _of(session, Message, ident):
            try_to(message.name, functools.partial(copying.delete, *by, message))
    if segment := _of(session, Segment, found.segment_id):
        used = uses("segment", segment.id)
        try_to(segment.name, lambda: segments.delete(*by, segment, used))
    if listed := _of(session, PeopleList, found.list_id):
        used_by = uses_of_list(session, listed.id)
        try_to(listed.name, lambda: keeping.delete_list(*by, listed, used_by))
    people = sa.select(Contact).where(Contact.id.in_(found.people)).order_by(Contact.id)
    for one in session.scalars(people).all():
        if one.source == SOURCE and _OF_SAMPLE.search(one.email or ""):
            wholly.erase(*by, one.id)
        else:
            # By now it is somebody real: it was merged with another, or has an address of its own.
            stays.append(full_name(one))
    if campaign := _of(session, Campaign, found.campaign_id):
        holds = uses("campaign", campaign.id)
        try_to(campaign.name, lambda: campaigns.delete(*by, campaign, holds))
    session.delete(found)
    session.flush()
    return stays


def _of(session: orm.Session, model: type[_Kind], ident: int | None) -> _Kind | None:
    """Something that belongs to the sample, unless it was deleted by itself."""
    return session.get(model, ident) if ident is not None else None


def _halt(session: orm.Session, actor: Actor, now: dt.datetime, send: Send) -> None:
    """Takes a send back that has not begun, and stops one that goes out."""
    if send.state in ("planned", "taking"):
        sends.unplan(session, actor, now, send)
    elif send.state in ("running", "paused"):
        sends.stop(session, actor, now, send)
