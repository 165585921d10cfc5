"""What keeps a journey from starting, and what should be fixed: its own steps, and the messages,
addresses and journeys that they lead to."""

import dataclasses
from collections.abc import Collection, Iterator, Mapping
from typing import Any, NamedTuple

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.campaigns.models import Campaign
from meadowrun.core.content.findings import MUST, SHOULD, Check
from meadowrun.core.journeys.check import check, details_said
from meadowrun.core.journeys.steps import (
    Itinerary,
    JumpStep,
    MessageStep,
    TaskStep,
    TellStep,
    WaitForStep,
    WebhookStep,
)
from meadowrun.core.journeys.words import Names
from meadowrun.core.language import Wording
from meadowrun.core.timing.hours import Hours
from meadowrun.gateways import outgoing as outgoing_http
from meadowrun.journeys import queries
from meadowrun.journeys.models import Journey
from meadowrun.journeys.wordings import problem_of
from meadowrun.messages import ready
from meadowrun.messages.compiling import ANYWHERE
from meadowrun.messages.models import Message
from meadowrun.messages.queries import State, state_to_send
from meadowrun.messages.ready import Use
from meadowrun.messages.values import known_refs
from meadowrun.shell.models import User

_NO_LINK = Wording("The message before this step does not have this link. Choose another.")
_ROUND = Wording("This leads back here by itself: people could go round and round.")


#: The links before each step that waits for something: address → what it is called.
Links = Mapping[str, Mapping[str, str]]


class Known(NamedTuple):
    """What whoever asks has read of an itinerary already."""

    names: Names
    links: Links


def findings(
    session: orm.Session,
    found: Journey,
    itinerary: Itinerary,
    inner: Collection[str] = (),
    known: Known | None = None,
) -> list[Check]:
    """What must and what should be fixed; `inner` are the machines inside this network that may be
    called, `known` what was read already. What is switched off is not asked."""
    itinerary = itinerary.on()
    if known is None:
        known = Known(queries.names(session), queries.links_before(session, itinerary))
    names, links = known
    used = _Used.by(session, found, itinerary)
    said = check(itinerary, names, used.missing)
    for lane in itinerary.lanes:
        said += _of_lane(session, itinerary.alone(lane), used, names, links, inner)
    for step, _, _ in itinerary.walk():
        if isinstance(step, JumpStep) and _goes_round(session, itinerary, step, found):
            said.append(Check(SHOULD, _ROUND, step.id))
    if found.sender_id is None and used.messages:
        said.append(Check(MUST, Wording("Choose the sender."), "", "from"))
    return said


def _of_lane(
    session: orm.Session,
    lane: Itinerary,
    used: "_Used",
    names: Names,
    links: Links,
    inner: Collection[str],
) -> Iterator[Check]:
    """What is found of the steps of one lane."""
    details = details_said(lane, names)
    # What only some of its starts say is missing to whoever comes in by another.
    always = set.intersection(*details) if details else set()
    for step, _, _ in lane.walk():
        if isinstance(step, WaitForStep):
            known = links.get(step.id, {})
            lost = [path for path in step.paths if path.link and path.link not in known]
            yield from [Check(MUST, _NO_LINK, path.id) for path in lost]
        if isinstance(step, MessageStep):
            yield from used.stops(step, names, always)
        if isinstance(step, TaskStep | TellStep):
            some = set[str]().union(*details)
            yield from _of_words(session, step, used.facts, some, names)
        if isinstance(step, WebhookStep) and (wrong := outgoing_http.problem(step.address, inner)):
            yield Check(MUST, wrong, step.id)


@dataclasses.dataclass
class _Used:
    """The messages that an itinerary uses, and what was found of them: by message and the hours in
    which it goes."""

    session: orm.Session
    hours: Mapping[str, Any]
    facts: Mapping[str, str]
    messages: dict[int, Message]
    states: dict[int, State]
    found: dict[tuple[int, tuple[int, int] | None], list[Check]]

    @classmethod
    def by(cls, session: orm.Session, found: Journey, itinerary: Itinerary) -> "_Used":
        """Those of a journey."""
        asked = sa.select(Message).where(Message.id.in_(itinerary.messages()))
        messages = {one.id: one for one in session.scalars(asked)}
        states = {key: state_to_send(session, one, "approved") for key, one in messages.items()}
        facts = session.get_one(Campaign, found.campaign_id).facts
        return cls(session, found.hours, facts, messages, states, {})

    @property
    def missing(self) -> set[int]:
        """Those that nobody has approved yet."""
        return {ident for ident, state in self.states.items() if state.missing}

    def stops(self, step: MessageStep, names: Names, details: Collection[str]) -> Iterator[Check]:
        """What must be fixed in the messages of a step, each by its name."""
        within = _within(step.within(self.hours))
        for ident in dict.fromkeys(step.messages):
            if ident not in self.messages or ident in self.missing:
                continue
            key = ident, within
            if key not in self.found:
                message, document = self.messages[ident], self.states[ident].document
                use = Use(self.facts, details, within)
                self.found[key] = ready.stops(
                    self.session, names.words, message, document, use, ANYWHERE
                )
            for one in self.found[key]:
                name = names.messages[ident][0]
                text = Wording("“%(message)s”: %(problem)s", message=name, problem=one.text)
                yield Check(one.level, text, step.id)


def _within(kept: Mapping[str, Any]) -> tuple[int, int] | None:
    """The hours in which messages go, first and last; None where that is at any hour, or over
    midnight."""
    hours = Hours.of(kept)
    return (hours.begins // 60, -(-hours.ends // 60)) if hours.begins < hours.ends else None


def _of_words(
    session: orm.Session,
    step: TaskStep | TellStep,
    facts: Collection[str],
    details: Collection[str],
    names: Names,
) -> Iterator[Check]:
    """What colleagues are told and asked: whether it can be filled in, and whether they see it."""
    text = step.text if isinstance(step, TellStep) else step.subject
    if problem := problem_of(text, known_refs(names.words), facts, details):
        yield Check(MUST, problem, step.id)
    if isinstance(step, TellStep):
        asked = sa.select(User.name).where(User.id.in_(step.to), ~User.told, User.active)
        for name in session.scalars(asked.order_by(User.name)):
            said = Wording("%(name)s does not wish to be told by email.", name=name)
            yield Check(SHOULD, said, step.id)


def _goes_round(session: orm.Session, itinerary: Itinerary, step: JumpStep, found: Journey) -> bool:
    """Whether people can come back by a jump, and again."""
    return itinerary.again == "any" and _leads_back(session, step.journey or found.id, found.id)


def _leads_back(session: orm.Session, journey_id: int, to: int) -> bool:
    """Whether jumps lead from a journey to another one, by whatever is between."""
    seen, ahead = set(), [journey_id]
    while ahead:
        ident = ahead.pop()
        if ident == to:
            return True
        other = session.get(Journey, ident)
        if ident in seen or other is None:
            continue
        seen.add(ident)
        itinerary = queries.walked(session, other) or queries.draft(session, other)
        ahead += [step.journey for step, _, _ in itinerary.walk() if isinstance(step, JumpStep)]
    return False
