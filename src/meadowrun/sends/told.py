"""What a send is set to do in the words of its page, by what each part is called: for whoever reads
later who changed what."""

from dataclasses import dataclass

from sqlalchemy import orm

from meadowrun.core import wording
from meadowrun.core.guardrails.limits import (
    AT_LAST,
    again_words,
    caps_words,
    limit_words,
    still_in_words,
)
from meadowrun.core.guardrails.outcomes import rule_words
from meadowrun.core.language import Wording
from meadowrun.core.timing.moments import PASSED, portion_words
from meadowrun.messages.models import Message
from meadowrun.messages.senders import Sender
from meadowrun.people.kinds import event_kind
from meadowrun.people.models import Topic
from meadowrun.sends import queries, timing
from meadowrun.sends.models import Send

#: Which state of a message a send gives people, in words.
TAKES = {"approved": Wording("the approved edition"), "newest": Wording("the newest draft")}


@dataclass(frozen=True)
class SendRules:
    """When a send leaves and what may keep it from someone, each in words."""

    limit: str
    control_group: str
    caps: str
    again: str
    leaves: str
    passed: str
    hours: str
    portions: str
    at_last: str
    still: str


def rules_in_words(session: orm.Session, send: Send) -> SendRules:
    """When a send leaves and what may keep it from someone, as its page and its history say it."""
    return SendRules(
        limit=limit_words(send.audience_limit, send.limit_rule),
        control_group=queries.control_named(session, send),
        caps=caps_words(send.obeys_caps, send.counts, send.no_room),
        again=again_words(send.again_rule, send.again_days),
        leaves=timing.leaves_words(send),
        passed=PASSED[send.passed],
        hours=timing.hours_words_of(session, send),
        portions=portion_words(
            send.portion_size, send.portion_gap, send.stop_percent, send.best_hour
        ),
        at_last=AT_LAST[send.at_last],
        still=still_in_words(send.still_in),
    )


def settings_in_words(session: orm.Session, send: Send) -> dict[str, str]:
    """Every part of a send's page by what it is called, as {name: words}; empty words for what is
    not chosen."""
    channel = queries.channel_of(session, send)
    rules = rules_in_words(session, send)
    may = rule_words(send.consent_rule, channel, bool(send.topic_id))
    return _what(session, send) | {
        str(name): str(words)
        for name, words in (
            (Wording("who may get it"), may),
            (Wording("audience limit"), rules.limit),
            (Wording("control group"), rules.control_group),
            (Wording("message limits"), rules.caps),
            (Wording("had it before"), rules.again),
            (Wording("goes out"), rules.leaves),
            (Wording("people whose hour has passed"), rules.passed),
            (Wording("hours"), rules.hours),
            (Wording("portions"), rules.portions),
            (Wording("last moment"), timing.chosen_last_words(send)),
            (Wording("at the last moment"), rules.at_last),
            (Wording("for"), rules.still),
        )
    }


def _what(session: orm.Session, send: Send) -> dict[str, str]:
    """What it sends, to whom, from whom, and what counts as success."""
    message = session.get(Message, send.message_id) if send.message_id else None
    sender = session.get(Sender, send.sender_id) if send.sender_id else None
    topic = session.get(Topic, send.topic_id) if send.topic_id else None
    success = event_kind(session, send.success_event)
    return {
        str(name): str(words)
        for name, words in (
            (Wording("message"), message.name if message else ""),
            (Wording("version"), TAKES[send.takes] if message else ""),
            (Wording("to"), _names(session, send, "in")),
            (Wording("leaving out"), _names(session, send, "out")),
            (Wording("from"), sender.name if sender else ""),
            (Wording("topic"), topic.name if topic else ""),
            (
                Wording("success"),
                Wording(
                    "%(did)s within %(days)s",
                    did=success.did,
                    days=wording.count_of(send.success_days, "day"),
                )
                if success
                else "",
            ),
        )
    }


def _names(session: orm.Session, send: Send, part: str) -> str:
    return ", ".join(queries.name_of(session, item) for item in send.audience.get(part, []))
