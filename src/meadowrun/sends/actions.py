"""Verbs of sends: written like a letter of instruction, checked, started, paused, stopped."""

import dataclasses
import datetime as dt
import zoneinfo
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import audit, clock, jobs
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.campaigns.models import Campaign
from meadowrun.core import values, wording
from meadowrun.core.content.checks import sorted_checks
from meadowrun.core.content.findings import MUST, Check, must, should
from meadowrun.core.guardrails.limits import stopped_by
from meadowrun.core.language import Wording
from meadowrun.core.timing.moments import MOST_PORTIONS
from meadowrun.core.timing.zones import moment_of
from meadowrun.gateways.channels import CHANNELS
from meadowrun.gateways.routes import ROUTES
from meadowrun.messages import actions as message_actions
from meadowrun.messages import queries as message_queries
from meadowrun.messages import ready
from meadowrun.messages.models import Message
from meadowrun.messages.ready import Use
from meadowrun.messages.senders import Sender
from meadowrun.messages.values import known_refs
from meadowrun.outgoing import actions as outgoing
from meadowrun.outgoing import speeds
from meadowrun.outgoing.allowance import allowance
from meadowrun.outgoing.models import Dispatch
from meadowrun.outgoing.rules import rules
from meadowrun.outgoing.settling import locked
from meadowrun.people.models import EventKind
from meadowrun.people.queries import definitions_using, dictionary
from meadowrun.sends.models import Send
from meadowrun.sends.names import name_findings
from meadowrun.sends.queries import EDITABLE, channel_of, hours
from meadowrun.sends.timing import (
    dates_ahead,
    first_local,
    has_passed,
    next_date,
    starts,
)
from meadowrun.sends.told import settings_in_words


def create(
    session: orm.Session, actor: Actor, now: dt.datetime, campaign: Campaign, name: str, zone: str
) -> Send:
    name = " ".join(name.split())
    if not name:
        raise Invalid("Give the send a name you will recognise in reports.", "name")
    send = Send(
        campaign_id=campaign.id,
        name=name,
        state="draft",
        audience={"in": [], "out": []},
        zone=zone,
        success_days=7,
        created_at=now,
        changed_at=now,
        sender_id=session.scalar(sa.select(Sender.id).order_by(Sender.id).limit(1)),
    )
    session.add(send)
    session.flush()
    audit.record(session, actor, now, "began", "send", send.id, name)
    return send


def change(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    send: Send,
    based_on: int,
    changed: Mapping[str, Any],
) -> None:
    """Changes the sheet. Raises Conflict when it already runs or somebody else changed it after
    version `based_on`."""
    session.refresh(send, with_for_update=True)
    if send.state not in EDITABLE:
        raise Conflict("This send has started; its sheet can no longer be changed.")
    if send.version != based_on:
        raise Conflict(
            (
                "Somebody changed this send while you were editing it. Here it is as it stands "
                "now, without your change."
            ),
            send.version,
        )
    channel = channel_of(session, send)
    before = settings_in_words(session, send)
    for name, value in changed.items():
        setattr(send, name, value)
    if "message_id" in changed and "takes" not in changed:
        # What was chosen for one message is no answer for another.
        send.takes = "approved"
    if channel_of(session, send) != channel:
        # Who may get a text was no answer to who may get a push notification.
        send.consent_rule = "agreed"
    if send.state == "planned":
        # A changed plan is looked at again before it goes.
        send.state = "draft"
        send.next_local = send.begins_at = None
    send.version += 1
    send.changed_at = now
    # Written at once: the next lock reads the row anew.
    session.flush()
    told = audit.from_to(before, settings_in_words(session, send))
    audit.record(session, actor, now, "changed", "send", send.id, send.name, **told)


def findings(session: orm.Session, send: Send, public_url: str, going: int) -> list[Check]:
    """Everything that stands between this send and its people, the gravest first; `slot` names the
    line of the sheet."""
    found = [*_of_the_sheet(session, send, going), *name_findings(session, send)]
    message = session.get(Message, send.message_id) if send.message_id else None
    if message is None:
        found.append(must("Choose the message.", "", "message"))
    else:
        found += _of_the_message(session, send, message, public_url)
    return sorted_checks(found)


def _beyond_allowance(session: orm.Session, send: Send, going: int) -> Iterator[Check]:
    """Whether it would take more than may still leave."""
    found = allowance(session, clock.now(session), zoneinfo.ZoneInfo(send.zone))
    if found is not None and going > found.left:
        yield should(
            Wording(
                "It takes %(going)s messages, and only %(left)s of %(most)s may still leave this "
                "%(per)s.",
                going=wording.number(going),
                left=wording.number(found.left),
                most=wording.number(found.most),
                per=Wording("day") if found.per == "day" else Wording("month"),
            ),
            "",
            "to",
        )


def _beyond_warm_up(session: orm.Session, send: Send, going: int) -> Iterator[Check]:
    """Whether it takes days, because the domain it is from is new."""
    sender = session.get(Sender, send.sender_id) if send.sender_id else None
    if sender is None or not CHANNELS[channel_of(session, send)].paced:
        return
    zone = zoneinfo.ZoneInfo(send.zone)
    last = speeds.last_day(session, sender.address, going, clock.now(session), zone)
    if last is not None:
        yield should(
            Wording(
                "%(domain)s is new and sends a few more each day: the last of %(going)s get it on "
                "%(day)s.",
                domain=speeds.domain_of(sender.address),
                going=wording.people(going),
                day=wording.day(last),
            ),
            "",
            "from",
        )


def _of_the_sheet(session: orm.Session, send: Send, going: int) -> Iterator[Check]:
    """What is missing on the sheet, apart from its message."""
    yield from _beyond_allowance(session, send, going)
    yield from _beyond_warm_up(session, send, going)
    if not send.audience.get("in"):
        yield must("Nobody is chosen yet. Choose the audience.", "", "to")
    elif going == 0:
        yield must("Nobody would get this.", "", "to")
    if problem := stopped_by(going, send.audience_limit, send.limit_rule):
        yield Check(MUST, problem, slot="limit")
    if send.control and not send.success_event:
        yield should(
            "There is a control group, but nothing counts as success yet: there would be nothing "
            "to compare.",
            "",
            "success",
        )
    if send.portion_size and going > send.portion_size * MOST_PORTIONS:
        yield must(
            Wording(
                "%(going)s in portions of %(size)s are over 1,000 portions. Choose larger ones.",
                going=wording.people(going),
                size=wording.number(send.portion_size),
            ),
            "",
            "portions",
        )
    if send.rhythm and send.leaves_at and (ahead := dates_ahead(send, 1)):
        first = first_local(send)
        if send.next_local is None and ahead[0] != first:
            yield should(
                Wording(
                    "%(day)s is not a day of its rhythm. The first one is %(first)s.",
                    day=wording.weekday_day(first.date()),
                    first=wording.weekday_date(ahead[0].date()),
                ),
                "",
                "leaves",
            )
    begins = starts(session, send, clock.now(session))
    if send.ends_at is not None and send.ends_at <= begins:
        yield must(
            "It ends before it goes out. Choose a later end, or an earlier start.", "", "within"
        )
    if send.sender_id is None and CHANNELS[channel_of(session, send)].signed:
        yield must("Choose the sender.", "", "from")
    if send.success_event and not session.scalar(
        sa.select(EventKind).where(EventKind.key == send.success_event)
    ):
        yield must("What counted as success no longer exists.", "", "success")


def _of_the_message(
    session: orm.Session, send: Send, message: Message, public_url: str
) -> Iterator[Check]:
    """What keeps its message from being sent, in each of its versions."""
    campaign = session.get_one(Campaign, send.campaign_id)
    document = message_queries.to_send(session, message, send.takes)
    use = Use(campaign.facts, hours=hours(send))
    words = dictionary(session)
    for check in ready.stops(session, words, message, document, use, public_url):
        yield dataclasses.replace(check, message=message.id)


def start(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    send: Send,
    public_url: str,
    going: int,
    based_on: int,
    approved: bool = False,
) -> None:
    """Lets a send go: at once, or at its moment when that lies ahead.

    Raises Conflict when it has started already or was changed since it was looked at, Invalid with
    the first thing that must be fixed.
    """
    check_ready(session, now, send, public_url, going, based_on)
    above = rules(session).second_person_above
    if above is not None and going > above and not approved:
        raise Invalid("A send to so many people is approved by somebody else. Ask for it.", "to")
    settle_content(session, actor, now, send, public_url)
    send.started_by = actor.name
    send.changed_at = now
    send.begins_at = starts(session, send, now)
    if send.rhythm:
        send.state, send.next_local = "planned", next_date(session, send, None, now)
    elif send.begins_at <= now:
        send.state = "taking"
        jobs.enqueue(session, "sends.take", send_id=send.id)
    else:
        send.state = "planned"
    audit.record(
        session,
        actor,
        now,
        "started" if send.state == "taking" else "planned",
        "send",
        send.id,
        send.name,
        people=going,
    )


def check_ready(
    session: orm.Session, now: dt.datetime, send: Send, public_url: str, going: int, based_on: int
) -> None:
    """Locks a send, and raises what keeps it from going: Conflict when it has started already or
    was changed since it was looked at, Invalid with the first thing that must be fixed."""
    session.refresh(send, with_for_update=True)
    if send.state != "draft":
        raise Conflict("This send was started already.")
    if send.version != based_on:
        raise Conflict(
            "This send was changed since you looked at it. Review it once more before it goes."
        )
    problems = [c for c in findings(session, send, public_url, going) if c.level == MUST]
    if problems:
        raise Invalid(problems[0].text, problems[0].slot)
    if has_passed(session, send, now):
        raise Invalid(
            "The time it should go out has passed. Choose another, or send it now.", "leaves"
        )


def settle_content(
    session: orm.Session, actor: Actor, now: dt.datetime, send: Send, public_url: str
) -> None:
    """Settles what a send goes with: the edition of its message, and the campaign's facts."""
    message = session.get_one(Message, send.message_id)
    send.edition_id = message_actions.edition_to_send(
        session, actor, now, message, public_url, send.takes
    ).id
    send.facts = dict(session.get_one(Campaign, send.campaign_id).facts)


def _locked(session: orm.Session, send: Send) -> Dispatch | None:
    """The dispatch of a send, both locked and as they are now: the dispatch first, as workers lock
    them."""
    dispatch = locked(session, send.dispatch_id) if send.dispatch_id else None
    session.refresh(send, with_for_update=True)
    return dispatch


def _dispatch(session: orm.Session, send: Send, allowed: tuple[str, ...], did: str) -> Dispatch:
    """The dispatch of a send, locked. Raises Conflict unless the send is in one of some states."""
    dispatch = _locked(session, send)
    if send.state not in allowed or dispatch is None:
        raise Conflict(
            Wording("This send is %(state)s; it cannot be %(did)s now.", state=send.state, did=did)
        )
    return dispatch


def pause(session: orm.Session, actor: Actor, now: dt.datetime, send: Send) -> None:
    """Nobody new is handed over; what is being handed over finishes."""
    outgoing.pause(session, now, _dispatch(session, send, ("running",), "paused"))
    audit.record(session, actor, now, "paused", "send", send.id, send.name)


def resume(session: orm.Session, actor: Actor, now: dt.datetime, send: Send) -> None:
    outgoing.resume(session, now, _dispatch(session, send, ("paused",), "resumed"))
    audit.record(session, actor, now, "resumed", "send", send.id, send.name)


def moved(session: orm.Session, send_id: int, state: str, now: dt.datetime) -> None:
    """The dispatch of a send is in another state."""
    send = session.get_one(Send, send_id)
    send.state, send.changed_at = state, now
    send.finished_at = now if state in ("done", "stopped") else None
    session.flush()


def unplan(session: orm.Session, actor: Actor, now: dt.datetime, send: Send) -> None:
    """Takes a send back to the desk that is planned, or whose audience is still being settled: it
    will not go by itself, and what it goes with is settled anew."""
    session.refresh(send, with_for_update=True)
    if send.state not in ("planned", "taking"):
        raise Conflict(
            Wording("This send is %(state)s; it cannot be taken back now.", state=send.state)
        )
    send.state, send.changed_at = "draft", now
    send.edition_id, send.facts = None, {}
    send.next_local = send.begins_at = None
    session.flush()
    audit.record(session, actor, now, "taken back", "send", send.id, send.name)


def moment_on(send: Send, day: dt.date, now: dt.datetime) -> dt.datetime:
    """When a send would go out on another day, at the same time. Raises Conflict where it cannot be
    moved, Invalid for a moment that has passed."""
    if send.state not in EDITABLE or send.leaves_at is None:
        raise Conflict(Wording("“%(name)s” has no date that could be moved.", name=send.name))
    if send.rhythm:
        raise Conflict(
            Wording("“%(name)s” repeats: change its rhythm on its own page.", name=send.name)
        )
    local = dt.datetime.combine(day, first_local(send).time())
    moment = moment_of(local, zoneinfo.ZoneInfo(send.zone))
    if moment < now:
        raise Invalid("That moment has passed. Choose a day ahead.", "day")
    return moment


def move_to(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    send: Send,
    day: dt.date,
    based_on: int,
) -> None:
    """Moves a send to another day, at the same time; a planned one stays planned. Raises Conflict
    when somebody else changed it since, or it cannot be moved, Invalid for a day that has
    passed."""
    session.refresh(send, with_for_update=True)
    if send.version != based_on:
        raise Conflict("Somebody changed this send meanwhile. Take a look once more.")
    before = settings_in_words(session, send)
    send.leaves_at = moment_on(send, day, now)
    if send.local_at is not None:
        send.local_at = dt.datetime.combine(day, send.local_at.time())
    if send.state == "planned":
        send.begins_at = starts(session, send, now)
    send.version += 1
    send.changed_at = now
    session.flush()
    told = audit.from_to(before, settings_in_words(session, send))
    audit.record(session, actor, now, "moved", "send", send.id, send.name, **told)


def stop(session: orm.Session, actor: Actor, now: dt.datetime, send: Send) -> None:
    """For good: those still to go are counted as stopped. In-app messages that lie ready are taken
    away, also when all were laid."""
    in_app_messages = ("done",) if CHANNELS[channel_of(session, send)].waits_there else ()
    outgoing.stop(
        session, now, _dispatch(session, send, ("running", "paused", *in_app_messages), "stopped")
    )
    audit.record(session, actor, now, "stopped", "send", send.id, send.name)


def discard(session: orm.Session, actor: Actor, now: dt.datetime, send: Send) -> None:
    """Deletes the instructions of a send that never began. Raises Conflict for one that did, or
    that a condition names."""
    if send.state != "draft" or send.taken_at is not None:
        raise Conflict(
            Wording("“%(name)s” has begun; what was sent stays on record.", name=send.name)
        )
    if session.scalar(sa.select(Send.id).where(Send.repeats_id == send.id).limit(1)):
        raise Conflict(
            Wording("Dates of “%(name)s” were sent; it stays on record.", name=send.name)
        )
    if used := definitions_using(
        session, f'$.** ? (@.kind == "mail" && @.of.send == {int(send.id)})'
    ):
        raise Conflict(
            Wording(
                "“%(name)s” is used by %(used)s. Change those first.",
                name=send.name,
                used=", ".join(used[:5]),
            )
        )
    audit.record(session, actor, now, "deleted", "send", send.id, send.name)
    session.delete(send)


def settle_doubts(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    send: Send,
    contacts: Sequence[int] | None,
    arrived: bool,
) -> int:
    """A person says what became of messages whose answer was lost, of some people or (None) of all:
    they count as delivered, or go once more. Of a stopped send nothing goes any more. Says of how
    many; raises Conflict for none.
    """
    dispatch = _locked(session, send)
    done = (
        outgoing.settle_doubts(session, now, dispatch, contacts, arrived, actor.name)
        if dispatch
        else 0
    )
    if not done:
        raise Conflict("None of these is in doubt any more.")
    audit.record(
        session,
        actor,
        now,
        "settled a doubt of",
        "send",
        send.id,
        send.name,
        people=done,
        arrived=arrived,
    )
    return done


def save_sender(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    name: str,
    address: str,
    reply_to: str,
    signature: str = "",
    name_ref: str = "",
    address_ref: str = "",
    sender: Sender | None = None,
    route: str = "first",
) -> Sender:
    """Adds an identity that mail is sent as, or changes one. With both refs, fields of a contact or
    company that name the person's own desk contact, who signs where both are filled; `route` is the
    mail server it goes by first, one of ROUTES. Raises Invalid naming the field."""
    name, address, reply_to = " ".join(name.split()), address.strip(), reply_to.strip()
    if not name:
        raise Invalid("Give the name that readers see beside the email.", "name")
    for text, where in ((address, "address"), (reply_to, "reply_to")):
        problem = values.email_problem(text) if text or where == "address" else None
        if problem:
            raise Invalid(f"{problem}.", where)
    if bool(name_ref) != bool(address_ref):
        raise Invalid("Choose both fields of the desk contact, or none.", "name_ref")
    if {name_ref, address_ref} - {""} - known_refs(dictionary(session)).keys():
        raise Invalid("There is no such field.", "name_ref")
    if route not in ROUTES:
        raise Invalid("Choose one of the mail servers offered.", "route")
    did = "changed the sender" if sender else "added the sender"
    sender = sender or Sender()
    sender.name, sender.address, sender.reply_to, sender.signature = (
        name,
        address,
        reply_to,
        signature.strip()[:2000],
    )
    sender.name_ref, sender.address_ref, sender.route = name_ref, address_ref, route
    session.add(sender)
    session.flush()
    audit.record(session, actor, now, did, "sender", sender.id, name, address=address)
    return sender
