"""Why a person got a send, or did not: by the outcome that was kept with what it stood on, or, of
one that has not gone, by the verdict as it would be now."""

import dataclasses
import datetime as dt

import sqlalchemy as sa

from meadowrun.core.guardrails.guards import Facts
from meadowrun.core.guardrails.outcomes import fact_words, reason_words, words_for
from meadowrun.core.guardrails.verdict import verdict
from meadowrun.core.language import Wording
from meadowrun.outgoing.queries import to_contact
from meadowrun.people.models import Contact
from meadowrun.people.moment import Moment
from meadowrun.sends.models import Send
from meadowrun.sends.queries import audience_of, channel_of, facts_of_audience


@dataclasses.dataclass(frozen=True, slots=True)
class Why:
    """What became, or would become, of one person, and why."""

    contact: Contact
    #: an outcome, "go" for who would get it, or "not_in" for who is not in the audience
    outcome: str
    #: the same in words
    what: str
    because: str
    #: what it stood on, as it was then
    facts: tuple[str, ...] = ()
    #: when it was handed over; while they wait, until when
    at: dt.datetime | None = None
    until: dt.datetime | None = None
    #: in the gateway's words
    note: str = ""


def why(moment: Moment, send: Send, contact: Contact) -> Why:
    """What became of one person, or would. Raises Invalid where the audience cannot be worked
    out."""
    channel = channel_of(moment.session, send)
    if send.dispatch_id is None:
        return _would(moment, send, contact, channel)
    kept = to_contact(moment.session, send.dispatch_id, contact.id)
    if kept is None:
        return Why(
            contact,
            "not_in",
            Wording("Not in the audience"),
            Wording("when it was settled, they were in none of its segments and lists"),
        )
    waits = kept.outcome in ("waiting", "deferred")
    return Why(
        contact,
        kept.outcome,
        words_for(channel)[kept.outcome],
        reason_words(kept.stood_on, channel),
        tuple(fact_words(kept.stood_on, channel)),
        None if waits else kept.at,
        kept.due if waits else None,
        kept.note or "",
    )


def _would(moment: Moment, send: Send, contact: Contact, channel: str) -> Why:
    """What would become of one person now."""
    who = audience_of(moment, send)
    facts, values = facts_of_audience(send, who, channel, moment.now)
    asked = sa.text(f"SELECT * FROM ({facts}) x WHERE id = :why_contact")
    row = moment.session.execute(asked, values | {"why_contact": contact.id}).first()
    if row is None:
        return Why(
            contact,
            "not_in",
            Wording("Not in the audience"),
            Wording("they are in none of its segments and lists, or in one that is left out"),
        )
    known = {
        name: bool(getattr(row, name))
        for name in ("repeated_address", "had_before", "held_out", "control")
    }
    said = verdict(Facts.of(row, **known), send.consent_rule)
    kept = said.to_json()
    return Why(
        contact,
        said.outcome,
        Wording("Would get it") if said.goes else words_for(channel)[said.outcome],
        reason_words(kept, channel),
        tuple(fact_words(kept, channel)),
    )
