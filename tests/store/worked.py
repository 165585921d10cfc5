"""Journeys as a marketer types them, people with names, and what becomes of each, worked out by
hand.

A moment is a day of November 2026 and an hour in London (“24 10:00”), or a whole ISO moment; the
world begins on Monday the 23rd at 14:00.
"""

import dataclasses
import datetime as dt
from collections.abc import Mapping, Sequence
from typing import Any

import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.campaigns.models import Campaign
from meadowrun.core.content import document as doc
from meadowrun.core.journeys import edit, typed
from meadowrun.core.journeys.steps import Goal, Itinerary, numbered
from meadowrun.core.journeys.words import Names
from meadowrun.journeys import actions, queries
from meadowrun.journeys.models import Journey, JourneyEntry, JourneyMove
from meadowrun.messages import actions as messages
from meadowrun.outgoing.hearing import hear
from meadowrun.people.actions import set_consent
from meadowrun.people.models import EventKind, Field
from meadowrun.tracking.taking import take_events
from meadowrun.village.jobs import DUE_NEXT
from tests.conftest import NOW
from tests.store.journeys import advance
from tests.store.people import IDA, add, ready_send

#: Name, email agreed, phone, zone, company.
PEOPLE = (
    ("Ada", True, "+447700900001", "Europe/London", ""),
    ("Ben", True, "", "Europe/London", ""),
    ("Cleo", False, "+447700900003", "Asia/Tokyo", ""),
    ("Dan", True, "", "Europe/London", "Dome Ltd"),
    ("Eve", True, "", "America/New_York", "Dome Ltd"),
    ("Finn", True, "", "Europe/London", ""),
)
#: Key, what somebody did, and what somebody does.
KINDS = (
    ("membership_started", "started a membership", "start a membership"),
    ("app_opened", "opened the app", "open the app"),
    ("tickets_viewed", "looked at tickets", "look at tickets"),
    ("ticket_bought", "bought a ticket", "buy a ticket"),
    ("visited", "visited the dome", "visit the dome"),
    ("case_closed", "closed a case", "close a case"),
    ("survey_answered", "answered a survey", "answer a survey"),
    ("booked", "booked the open night", "book the open night"),
)
EMAILS = ("Welcome", "Come back", "Survey A", "Survey B", "Offer")
TEXTS = ("Get the app", "Last call")
FIELDS = (
    ("contact", "open_night", "open night", "date"),
    ("contact", "birthday", "birthday", "date"),
    ("contact", "level", "level", "text"),
    ("company", "contract", "contract end", "date"),
)


@dataclasses.dataclass(frozen=True)
class Worked:
    """One journey: what starts it, its steps by the path they are added to (“” is the main one,
    “2a” the first path of step 2), what happens, and what becomes of people."""

    starts: Sequence[str]
    steps: Sequence[tuple[str, str]]
    #: moment, who, and the event with its details; or moment, "", and what is done to the database
    happens: Sequence[tuple[str, str, Any]]
    until: str
    #: for each entry of somebody: moment and where they went, with why: “24 10:00 3 time”
    become: Mapping[str, Sequence[Sequence[str]]]
    exits: Sequence[str] = ()
    again: str = "once"
    subject: str = ""
    #: a goal within 30 days, the key of its event
    goal: str = ""
    #: the name of a second lane; starts and steps after “ | ” are of it
    lane: str = ""


def at(moment: str) -> dt.datetime:
    if len(moment) > 8:
        return dt.datetime.fromisoformat(moment).replace(tzinfo=dt.UTC)
    day, _, hour = moment.partition(" ")
    hours, _, minutes = hour.partition(":")
    return dt.datetime(2026, 11, int(day), int(hours), int(minutes), tzinfo=dt.UTC)


def world(database) -> int:
    """The people, the messages and the kinds of event; gives the campaign."""
    with clock.at(NOW), database.session() as session:
        for owner, key, label, kind in FIELDS:
            session.add(Field(owner=owner, key=key, label=label, type=kind, created_at=NOW))
        for key, did, do in KINDS:
            session.add(EventKind(key=key, did=did, do=do, details=DETAILS))
        session.flush()
        for name, agreed, phone, zone, company in PEOPLE:
            known = {"phone": phone} if phone else {}
            known |= {"company": company} if company else {}
            address = f"{name.lower()}@post.example"
            made = add(session, NOW, address, agreed, first_name=name, timezone=zone, **known)
            if phone:
                set_consent(session, NOW, made.id, 0, True, "test", "sms")
        send = ready_send(session, NOW, {"in": [], "out": []}, success=None)
        written = session.scalars(sa.text("SELECT document FROM messages")).one()
        for name in EMAILS:
            messages.create(session, IDA, NOW, name, written)
        for name in TEXTS:
            text = doc.empty() | {"channel": "sms", "text_only": True, "plain": "Hello"}
            messages.create(session, IDA, NOW, name, doc.take(text), "sms")
        return send.campaign_id


DETAILS = {
    "case": {"label": "case", "type": "text"},
    "amount": {"label": "amount", "type": "number"},
}


def begin(database, campaign: int, worked: Worked, name: str = "Worked") -> int:
    """Types a journey and starts it at NOW; its number."""
    with clock.at(NOW), database.session() as session:
        made = actions.create(session, IDA, NOW, session.get_one(Campaign, campaign), name)
        names = queries.names(session)
        actions.write(
            session, IDA, NOW, made, made.version, "typed", lambda _: itinerary(worked, names)
        )
        actions.start(session, IDA, NOW, made, made.version)
        ident = made.id
    advance(database, NOW)
    return ident


def itinerary(worked: Worked, names: Names) -> Itinerary:
    """What comes of typing a journey, every word of which must be read."""
    built = Itinerary()
    if worked.lane:
        built = edit.add_lane(built, worked.lane)
    lane = built.lanes[-1].id
    for said in worked.starts:
        text = said.removeprefix("| ")
        start, unused = typed.read_start(text, names)[0]
        assert unused == (), (text, start)
        into = lane if text != said else ""
        built = edit.add_start(built, dataclasses.replace(start, lane=into))
    for path, text in worked.steps:
        reading = typed.read(text, names.of(built))[0]
        assert reading.unused == (), (text, reading)
        places = {called: ident for ident, called in numbered(built).items()}
        built = edit.add(built, reading.step, lane if path == "|" else places.get(path, edit.ROOT))
    for text in worked.exits:
        rule, unused = typed.read_exit_rule(text, names)[0]
        assert unused == (), (text, rule)
        built = edit.add_exit(built, rule)
    if worked.goal:
        built = edit.with_goal(built, Goal(worked.goal, 30))
    return edit.with_again(built, worked.again, 30, worked.subject)


def live(database, worked: Worked) -> None:
    """Lets the time pass, with all that happens, at each moment at which anybody is due."""
    rest = sorted(worked.happens, key=lambda one: at(one[0]))
    end, now = at(worked.until), NOW
    while True:
        with database.session() as session:
            due = session.execute(sa.text(DUE_NEXT), {"now": now}).scalar()
        now = min(moment for moment in (due, at(rest[0][0]) if rest else None, end) if moment)
        while rest and at(rest[0][0]) <= now:
            _, who, what = rest.pop(0)
            _happens(database, now, who, what)
        advance(database, now)
        if now >= end:
            return


def _happens(database, now: dt.datetime, who: str, what: Any) -> None:
    if not who:
        what(database, now)
        return
    kind, details = what if isinstance(what, tuple) else (what, {})
    with clock.at(now), database.session() as session:
        row = {"event": kind, "contact": contact(session, who), "at": now.isoformat()}
        take_events(session, now, "t", [row | {"details": details}])


#: Somebody did something with what they were sent last.
_REACTED = """
INSERT INTO reactions (contact_id, at, dispatch_id, delivery, kind, machine, note)
SELECT d.contact_id, :at, d.dispatch_id, d.number, :kind, FALSE, '' FROM deliveries d
WHERE d.contact_id = :contact AND d.outcome = 'delivered' ORDER BY d.at DESC, d.number DESC LIMIT 1
RETURNING dispatch_id
"""


def reacts(name: str, kind: str):
    """Somebody opens, or clicks in, what they were sent last."""

    def do(database, now):
        with clock.at(now), database.session() as session:
            who = contact(session, name)
            values = {"at": now, "kind": kind, "contact": who}
            dispatch = session.scalar(sa.text(_REACTED), values)
            hear(session, dispatch, [who], now)

    return do


def contact(session, name: str) -> int:
    asked = sa.text("SELECT id FROM contacts WHERE first_name = :name")
    return session.scalar(asked, {"name": name})


def became(database, ident: int, who: str) -> list[list[str]]:
    """Every entry of somebody, as the log tells it."""
    with database.session() as session:
        journey = session.get_one(Journey, ident)
        itinerary = queries.walked(session, journey)
        called = numbered(itinerary) | {rule.id: "rule" for rule in itinerary.exits}
        entries = session.scalars(
            sa.select(JourneyEntry)
            .where(
                JourneyEntry.journey_id == ident, JourneyEntry.contact_id == contact(session, who)
            )
            .order_by(JourneyEntry.id)
        ).all()
        return [
            [
                f"{_said(move.at)} {called.get(move.to_step, 'out')} "
                f"{called.get(move.because, move.because)}"
                for move in session.scalars(
                    sa.select(JourneyMove)
                    .where(JourneyMove.entry_id == entry.id)
                    .order_by(JourneyMove.id)
                )
            ]
            for entry in entries
        ]


def tasks(database) -> list[tuple[str, str | None, str]]:
    """Whom each task is about, who has it, and when it is due."""
    asked = """
    SELECT c.first_name, u.name, t.due_at FROM colleague_tasks t
    JOIN contacts c ON c.id = t.contact_id LEFT JOIN users u ON u.id = t.user_id ORDER BY t.id
    """
    with database.session() as session:
        return [(who, by, _said(due)) for who, by, due in session.execute(sa.text(asked))]


def _said(moment: dt.datetime) -> str:
    moment = moment.astimezone(dt.UTC)
    if (moment.year, moment.month) == (2026, 11):
        return f"{moment:%d %H:%M}"
    return f"{moment:%Y-%m-%d %H:%M}"
