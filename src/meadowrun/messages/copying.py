"""Copies of messages, what one says taken along to another channel, and letting go of one that
nothing uses."""

import datetime as dt

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import audit
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.base.manifest import left_by
from meadowrun.base.settings import Settings
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.channels import CHANNELS, KINDS, beginning
from meadowrun.core.content import begin
from meadowrun.core.content.carry import carried
from meadowrun.core.content.compiled import placed
from meadowrun.core.content.document import DocumentError
from meadowrun.core.content.lines import Json
from meadowrun.core.content.sms import STOP_WORD
from meadowrun.core.language import Wording
from meadowrun.core.wording import free_name
from meadowrun.messages import actions, asking, queries
from meadowrun.messages.models import Edition, Message
from meadowrun.people.queries import definitions_using


def document_from(
    session: orm.Session, source: Message, channel: str, settings: Settings, words: Dictionary
) -> tuple[Json, list[str]]:
    """The beginning of a message for `channel` that says what another one says, and what was left
    behind. Raises Invalid."""
    try:
        return carried(
            source.channel,
            source.document,
            placed(source.document, queries.shared_of(session, source.document)),
            channel,
            settings.organisation,
            settings.postal_address,
            queries.house(session).looks,
            lambda lines: asking.keep(session, lines, words).key,
        )
    except DocumentError as problem:
        raise Invalid(str(problem), "from") from None


def begun(session: orm.Session, channel: str, settings: Settings, layout: str = "") -> Json:
    """What a new message of a channel begins with; `layout` is for an email."""
    looks = queries.house(session).looks
    if KINDS[channel].mail:
        return begin.document(layout, settings.organisation, settings.postal_address, looks)
    return beginning(channel, settings.organisation, STOP_WORD, looks)


def also(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    source: Message,
    channel: str,
    settings: Settings,
    words: Dictionary,
) -> tuple[Message, list[str]]:
    """Begins a message for a channel with what another one says; for its own channel a copy. Raises
    Invalid."""
    if channel not in CHANNELS:
        raise Invalid("There is no such channel.", "channel")
    document, left = document_from(session, source, channel, settings, words)
    wanted = f"{source.name}, {'copy' if channel == source.channel else CHANNELS[channel]}"
    taken = set(
        session.scalars(
            sa.select(Message.name).where(Message.name.startswith(wanted, autoescape=True))
        )
    )
    return actions.create(session, actor, now, free_name(wanted, taken), document, channel), left


def uses(session: orm.Session, message: Message) -> list[str]:
    """What uses a message, in words: sends, messages that choose it or open it as a page, and
    conditions on it."""
    sends = session.scalars(
        sa.text(
            "SELECT name FROM sends WHERE message_id = :id OR edition_id IN (SELECT id FROM "
            "editions WHERE message_id = :id) ORDER BY name"
        ),
        {"id": message.id},
    )
    others = session.scalars(
        sa.select(Message)
        .where(
            Message.id != message.id,
            sa.or_(
                Message.document.has_key("one_of"),
                Message.document["push"]["page"].as_integer() == message.id,
            ),
        )
        .order_by(Message.name)
    )
    naming = [
        m
        for m in others
        if message.id in {(m.document.get("push") or {}).get("page"), *_chosen(m.document)}
    ]
    line = f'@.kind == "mail" && @.of.message == {int(message.id)}'
    instead = f"exists(@.instead[*] ? (@ == {int(message.id)}))"
    step = f'@.kind == "message" && (@.message == {int(message.id)} || {instead})'
    asked = definitions_using(session, f"$.** ? ({line} || {step})")
    return (
        [f"the send “{name}”" for name in sends]
        + [f"the message “{m.name}”" for m in naming]
        + asked
    )


def _chosen(document: Json) -> set[int]:
    one_of = document.get("one_of")
    return {one_of["otherwise"], *one_of["values"].values()} if one_of else set()


def delete(session: orm.Session, actor: Actor, now: dt.datetime, message: Message) -> None:
    """Deletes a message, with its drafts, that nothing uses and of which nothing was sent. Raises
    Conflict naming what does."""
    if sent := left_by(session, message.id):
        raise Conflict(
            Wording(
                "“%(name)s” was sent, by “%(sent)s”. What was sent stays on record.",
                name=message.name,
                sent=sent,
            )
        )
    if used := uses(session, message):
        raise Conflict(
            Wording(
                "“%(name)s” is used by %(used)s. Change those first.",
                name=message.name,
                used=", ".join(used[:5]),
            )
        )
    audit.record(session, actor, now, "deleted", "message", message.id, message.name)
    session.execute(sa.delete(Edition).where(Edition.message_id == message.id))
    session.delete(message)
