"""What the page of a send says before it goes: its sheet, everyone's outcome, when people get it,
and a few of their messages."""

import contextlib
import textwrap
from collections.abc import Sequence
from dataclasses import asdict
from typing import Any

import flask

from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.base.manifest import numbers_of
from meadowrun.campaigns.models import Campaign
from meadowrun.core.channels import CHANNEL_WORDS, CHANNELS
from meadowrun.core.content.compiled import CompileError
from meadowrun.core.content.filling import CannotRender
from meadowrun.core.content.findings import MUST
from meadowrun.core.content.rendering import Rendered, Renderer
from meadowrun.core.guardrails.outcomes import OUTCOMES, rule_words, words_for
from meadowrun.core.language import Wording
from meadowrun.core.results.worth import least_gain
from meadowrun.core.timing.hours import HoursError
from meadowrun.gateways.channels import CHANNELS as ALL
from meadowrun.messages.compiling import compiled
from meadowrun.messages.models import Message
from meadowrun.messages.queries import state_to_send, to_send
from meadowrun.messages.senders import Sender
from meadowrun.messages.values import Needs, as_nobody, of_people
from meadowrun.outgoing.best_hours import learnt
from meadowrun.people.asked import moment, words
from meadowrun.people.kinds import event_kind
from meadowrun.people.models import EventKind, Topic
from meadowrun.people.queries import contacts_of
from meadowrun.sends import actions, estimates, queries, repeats, timing
from meadowrun.sends.models import Send
from meadowrun.sends.told import rules_in_words
from meadowrun.shell.request import db, now, settings, zone

#: so many people must have got a send before its success counts as usual
LEAST_USUAL = 50


def sheet(
    send: Send, problem: MeadowrunError | None, mine: list[tuple[str, str]] | None = None
) -> str:
    """The page of a send that has not gone; `mine` is a change that was refused because somebody
    else made one, to be made all the same."""
    estimate, as_of, trouble = None, now(), ""
    try:
        estimate, as_of = estimates.kept_estimate(moment(), send, fresh=problem is not None)
    except Invalid as wrong:
        trouble = str(wrong)
    going = estimate.going if estimate else 0
    findings = actions.findings(db(), send, settings().public_url, going)
    three = three_of(send, estimate) if estimate and going and send.message_id else []
    usual = _usual(send)
    message = db().get(Message, send.message_id) if send.message_id else None
    return flask.render_template(
        "sends/sheet.html",
        send=send,
        campaign=db().get(Campaign, send.campaign_id),
        estimate=estimate,
        trouble=trouble,
        findings=findings,
        problem=problem,
        mine=mine,
        three=three,
        as_of=as_of,
        **spoken(send),
        message=message,
        state=state_to_send(db(), message, send.takes) if message else None,
        sender=db().get(Sender, send.sender_id) if send.sender_id else None,
        topic=db().get(Topic, send.topic_id) if send.topic_id else None,
        success=success_of(send),
        names=lambda part: [queries.name_of(db(), item) for item in send.audience.get(part, [])],
        must=MUST,
        mail_problem=gateway_problem(send),
        usual=usual,
        told=_told(estimate, usual),
        kept=estimate.outcomes.get("control", 0) if estimate else 0,
        when=arrivals_of(send, estimate),
        habits=learnt(db()) if send.best_hour else None,
        dates=repeats.ahead(db(), send),
        occurrences=repeats.of(db(), send) if send.rhythm else [],
    )


def spoken(send: Send) -> dict[str, Any]:
    """How a send of this channel is spoken of: the channel, what would become of people, and its
    gateway."""
    channel = queries.channel_of(db(), send)
    return {
        "channel": channel,
        "channels": CHANNELS,
        "would": {"go": Wording("Will get it"), **words_for(channel)},
        "there": ALL[channel].there,
        "may": rule_words(send.consent_rule, channel, bool(send.topic_id)),
        "order": ("go", *OUTCOMES),
        "all_of": CHANNEL_WORDS[channel],
        **limits(send),
    }


def limits(send: Send) -> dict[str, str]:
    """The guardrails and times of a send in words, as its templates name them."""
    return {
        "within": timing.last_words(db(), send),
        "clock": timing.clock_words(send),
        **asdict(rules_in_words(db(), send)),
    }


def _told(
    estimate: estimates.Estimate | None, usual: tuple[int, int] | None
) -> tuple[float | None, float | None] | None:
    """The least true gains that would show against the control group, and against twice as many,
    judged by what is usual."""
    if estimate is None or not usual or usual[1] < LEAST_USUAL:
        return None
    base, control = usual[0] / usual[1], estimate.outcomes.get("control", 0)
    return least_gain(base, estimate.going, control), least_gain(
        base, max(0, estimate.going - control), 2 * control
    )


def success_of(send: Send) -> EventKind | None:
    return event_kind(db(), send.success_event)


def _usual(send: Send) -> tuple[int, int] | None:
    """(converted, delivered) of the last finished send with the same success, to compare with."""
    if not send.success_event:
        return None
    last = queries.last_with(db(), send.success_event)
    numbers = numbers_of(db(), last.id) if last else {}
    return (numbers.get("converted", 0), numbers.get("delivered", 0)) if last else None


def gateway_problem(send: Send) -> str | None:
    """What is wrong with the gateway of a send's channel, or None."""
    return ALL[queries.channel_of(db(), send)].problem(settings())


def three_of(send: Send, estimate: estimates.Estimate) -> list[dict[str, Any]]:
    """Three real people's subjects, as they would read them."""
    message = db().get_one(Message, send.message_id)
    try:
        mails = would_read(send, message, estimate.some)
    except CompileError:
        return []
    found = []
    for contact in contacts_of(db(), estimate.some):
        mail = mails.get(contact.id)
        if mail is None:
            continue
        found.append(
            {
                "contact": contact,
                "subject": mail.subject,
                "text": textwrap.shorten(
                    " ".join(line for line in mail.text.split("\n") if line.strip("= ")),
                    150,
                    placeholder=" …",
                ),
            }
        )
    return found


def would_read(send: Send, message: Message, ids: Sequence[int]) -> dict[int, Rendered]:
    """What some people would get now. Whoever has no version of the message is left out. Raises
    CompileError."""
    renderer = Renderer(
        compiled(db(), to_send(db(), message, send.takes), settings().public_url, tracked=False)
    )
    values = of_people(moment(), ids, Needs.of(renderer.compiled))
    facts = db().get_one(Campaign, send.campaign_id).facts
    found = {}
    for ident, flat in values.items():
        with contextlib.suppress(CannotRender):
            found[ident] = renderer.render(as_nobody(renderer.compiled, flat, facts, words()))
    return found


def arrivals_of(send: Send, estimate: estimates.Estimate | None) -> timing.Arrivals | None:
    """When people would get a send; None where all get it at once, or nobody does."""
    if estimate is None or not estimate.zones or not estimate.going:
        return None
    channel = queries.channel_of(db(), send)
    try:
        return timing.arrivals(db(), send, channel, estimate.zones, now(), zone())
    except HoursError:
        return None
