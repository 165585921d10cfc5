"""What keeps a message from being sent, by whatever sends it: in each of its versions."""

import dataclasses
from collections.abc import Collection

from sqlalchemy import orm

from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.channels import KINDS, checks_of
from meadowrun.core.content.checks import greeting_clashes
from meadowrun.core.content.compiled import CompileError
from meadowrun.core.content.document import Json
from meadowrun.core.content.findings import MUST, About, Check
from meadowrun.messages import compiling, queries, readership
from meadowrun.messages.models import Message


@dataclasses.dataclass(frozen=True, slots=True)
class Use:
    """What is known of the way by which a message goes."""

    #: the facts of its campaign, by name
    facts: Collection[str]
    #: what the event says because of which it goes, by key; a send has none
    details: Collection[str] = ()
    #: the hours in which people get it, first and last, where they are known
    hours: tuple[int, int] | None = None


def stops(
    session: orm.Session,
    words: Dictionary,
    message: Message,
    document: Json,
    use: Use,
    public_url: str,
) -> list[Check]:
    """What must be fixed before a document of a message can go, and greetings that do not suit
    the hours at which it does."""
    try:
        compiled = compiling.compiled(session, document, public_url)
    except CompileError as problem:
        return [Check(MUST, str(problem))]
    found: list[Check] = []
    known, feeds = queries.known(session, words), [one.key for one in queries.feeds(session)]
    for read in queries.members(session, document):
        about = About(
            known=known,
            facts=use.facts,
            details=use.details,
            html_bytes=len(compiled.html),
            feeds=feeds,
            shared=queries.shared_of(session, read).keys(),
            broken=queries.broken(session, read, words),
            events=words.events.keys(),
            longest=readership.longest(session, compiled.refs, words, None)
            if KINDS[message.channel].limited
            else {},
        )
        found += [one for one in checks_of(message.channel, read, about) if one.level == MUST]
        if use.hours:
            found += greeting_clashes(read, use.hours)
    return found
