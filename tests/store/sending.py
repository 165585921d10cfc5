"""A gateway that keeps what it is given, and sends to people of every kind."""

import sqlalchemy as sa

from meadowrun.base import clock, jobs
from meadowrun.base.errors import GatewayUnavailable
from meadowrun.core.content.document import empty
from meadowrun.gateways.handing import Handed, all_may_go
from meadowrun.gateways.smtp import NullGateway
from meadowrun.messages import actions as messages
from meadowrun.outgoing.queries import tally
from meadowrun.people import actions as people
from meadowrun.people import keeping
from meadowrun.sends import actions
from meadowrun.sends.models import Send
from tests.conftest import NOW
from tests.store.people import IDA, add, kinds, many, ready_send
from tests.store.work import work


class Keeper(NullGateway):
    """Keeps every letter, one on its way at a time; may do something else with some of them."""

    at_once = 1

    def __init__(self, refuse=(), defer=(), break_after=None, remembers=None):
        self.letters, self.refuse, self.defer, self.break_after = [], refuse, defer, break_after
        self.remembers = remembers

    @property
    def can_be_asked(self):
        return self.remembers is not None

    def hand_over(self, messages, begin=all_may_go):
        for letter in messages:
            if self.break_after is not None and len(self.letters) >= self.break_after:
                raise GatewayUnavailable("The mail server hung up.")
            if not begin([letter]):
                continue
            self.letters.append(letter)
            outcome = (
                "bounced"
                if letter.to in self.refuse
                else "deferred"
                if letter.to in self.defer
                else "delivered"
            )
            yield Handed(
                letter.contact_id,
                outcome,
                "250 taken" if outcome == "delivered" else "no",
                hard=outcome == "bounced",
            )

    def took(self, ids):
        return {} if self.remembers is None else {m: m in self.remembers for m in ids}


def start(database, settings, send_id, going):
    with clock.at(NOW), database.session() as session:
        send = session.get_one(Send, send_id)
        actions.start(session, IDA, NOW, send, settings.public_url, going, send.version)


def started(database, settings, people):
    """A send to so many people that was started; its snapshot is still to be taken."""
    with clock.at(NOW), database.session() as session:
        many(session, NOW, people)
        ident = ready_send(session, NOW, {"in": [{"segment": segment(session).id}], "out": []}).id
    start(database, settings, ident, people)
    return ident


def run_all(database, send_id, now=NOW):
    """Does by hand what a worker does: the audience is settled, then whatever is due leaves."""
    with clock.at(now):
        jobs.run_here("sends.take", send_id=send_id)
        work(database)


def go(database, now):
    """Everything that is due at a moment: planned sends begin, audiences are settled, batches
    leave."""
    with clock.at(now):
        jobs.run_here("sends.sweep")
        with database.session() as session:
            began = sa.select(Send.id).where(Send.state == "taking")
            taking = session.scalars(began.order_by(Send.begins_at, Send.id)).all()
        for ident in taking:
            jobs.run_here("sends.take", send_id=ident)
        work(database)


def counts(database, send_id):
    with database.session() as session:
        send = session.get_one(Send, send_id)
        found = tally(session, send.dispatch_id)
        assert sum(found.values()) == send.audience_size
        return found, send


def segment(session, lines=()):
    from meadowrun.people.queries import dictionary
    from meadowrun.segments.actions import save

    return save(session, IDA, NOW, dictionary(session), "Everyone", {"lines": list(lines)})


def mixed(session):
    """One person for each thing that can hold a mail back, and three who get it."""
    kinds(session)
    made = {
        name: add(session, NOW, f"{name}@post.example", first_name=name.title())
        for name in ("ann", "ben", "cleo", "hard", "later")
    }
    add(session, NOW, "no@post.example", agreed=False)
    add(session, NOW, "unasked@post.example", agreed=None)
    add(session, NOW, None, first_name="Nobody")
    bounced = add(session, NOW, "old@post.example")
    bounced.bounced_at = NOW
    add(session, NOW, "gone@post.example")
    keeping.suppress(session, NOW, "gone@post.example", "asked", "desk")
    unusable = add(session, NOW, None, first_name="Dirty")
    unusable.email = "dirty.post.example"
    twin = add(session, NOW, None, first_name="Twin", reference="2")
    twin.email, twin.email_key, twin.email_usable = "Ann@post.example", "ann@post.example", True
    left = add(session, NOW, "left@post.example", town="Out")
    session.flush()
    return made, left


def texting(
    session,
    text=(
        "Hi {{ contact.first_name | default('you', true) }}, book: "
        "https://farrowhill.example/book. STOP ends these"
    ),
):
    """A send of a text message to people of every kind: two get it, the rest for one reason
    each."""
    for number, (name, phone, agreed) in enumerate(
        (
            ("Ann", "07700 900001", True),
            ("Bo", "07700 900002", True),
            ("Cy", "07700 900003", False),
            ("Di", None, True),
            ("Ed", "07700 900005", None),
            ("Flo", "07700 900001", True),
            ("Gus", "07700 900000", True),
        )
    ):
        contact = add(session, NOW, f"p{number}@post.example", first_name=name, phone=phone)
        if agreed is not None:
            people.set_consent(session, NOW, contact.id, 0, agreed, "test", "sms")
    send = ready_send(session, NOW, {"in": [{"segment": segment(session).id}], "out": []})
    message = messages.create(
        session,
        IDA,
        NOW,
        "A text",
        empty() | {"channel": "sms", "text_only": True, "plain": text},
        "sms",
    )
    send.message_id = message.id
    session.flush()
    return send.id
