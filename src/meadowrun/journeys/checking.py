"""What keeps a journey from starting, and what should be mended: its own steps, and the messages,
addresses and journeys that they lead to."""

from collections.abc import Collection, Iterator

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
from meadowrun.messages.models import Message
from meadowrun.messages.queries import ANYWHERE, state_to_send
from meadowrun.messages.ready import Use
from meadowrun.messages.values import known_refs
from meadowrun.shell.models import User

_NO_LINK = Wording("The message before this step does not have this link. Choose another.")
_ROUND = Wording("This leads back here by itself: people could go round and round.")


def findings(
    session: orm.Session, found: Journey, itinerary: Itinerary, inner: Collection[str] = ()
) -> list[Check]:
    """What must and what should be mended; `inner` are the machines inside this network that may
    be called. What is switched off is not asked."""
    itinerary, names = itinerary.on(), queries.names(session)
    used = itinerary.messages()
    messages = {
        one.id: one for one in session.scalars(sa.select(Message).where(Message.id.in_(used)))
    }
    states = {ident: state_to_send(session, one, "approved") for ident, one in messages.items()}
    missing = {ident for ident, state in states.items() if state.missing}
    said = check(itinerary, names, missing)
    use = _use(session, found, itinerary, names)
    stops = {
        ident: ready.stops(session, names.words, one, states[ident].document, use, ANYWHERE)
        for ident, one in messages.items()
        if ident not in missing
    }
    links = queries.links_before(session, itinerary)
    for step, _, _ in itinerary.walk():
        if isinstance(step, WaitForStep):
            said += [
                Check(MUST, _NO_LINK, path.id)
                for path in step.paths
                if path.link and path.link not in links.get(step.id, ())
            ]
        if isinstance(step, MessageStep):
            said += _of_messages(step, stops, names)
        if isinstance(step, TaskStep | TellStep):
            details = set[str]().union(*details_said(itinerary, names))
            said += _of_words(session, step, use.facts, details, names)
        if isinstance(step, WebhookStep) and (wrong := outgoing_http.problem(step.address, inner)):
            said.append(Check(MUST, wrong, step.id))
    if itinerary.again == "any":
        said += [
            Check(SHOULD, _ROUND, step.id)
            for step, _, _ in itinerary.walk()
            if isinstance(step, JumpStep) and _leads_back(session, step.journey, found.id)
        ]
    if found.sender_id is None and used:
        said.append(Check(MUST, Wording("Choose the sender."), "", "from"))
    return said


def _use(session: orm.Session, found: Journey, itinerary: Itinerary, names: Names) -> Use:
    """What the messages of a journey can speak of, and when they go."""
    campaign = session.get_one(Campaign, found.campaign_id)
    within = None
    if found.hours:
        hours = Hours.of(found.hours)
        if hours.begins < hours.ends:
            within = hours.begins // 60, -(-hours.ends // 60)
    said = details_said(itinerary, names)
    # What only some of its starts say is missing to whoever comes in by another.
    details = set.intersection(*said) if said else set()
    return Use(campaign.facts, details, within)


def _of_messages(step: MessageStep, stops: dict[int, list[Check]], names: Names) -> Iterator[Check]:
    """What must be mended in the messages of a step, each by its name."""
    for message in dict.fromkeys(step.messages):
        for one in stops.get(message, ()):
            name = names.messages[message][0]
            text = Wording("“%(message)s”: %(problem)s", message=name, problem=one.text)
            yield Check(one.level, text, step.id)


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
