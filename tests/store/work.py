"""Does by hand what workers do: a look at what is due, and the jobs that it asks for."""

import sqlalchemy as sa

from meadowrun.base import jobs, signing
from meadowrun.outgoing.models import Dispatch

#: Takes the job of the door out that a worker would take next.
NEXT = """
UPDATE procrastinate_jobs SET status = 'succeeded' WHERE id = (
    SELECT id FROM procrastinate_jobs WHERE status = 'todo'
    AND task_name IN ('outgoing.deliver', 'outgoing.settle', 'outgoing.again')
    ORDER BY priority DESC, id LIMIT 1) RETURNING task_name, args
"""


def work(database):
    """One look at what is due, and everything that follows from it."""
    jobs.run_here("outgoing.sweep")
    drain(database)


def drain(database):
    """Every job that waits, and those that they ask for."""
    for _ in range(100):
        with database.session() as session:
            found = session.execute(sa.text(NEXT)).first()
        if found is None:
            return
        jobs.run_here(found.task_name, **found.args)
    raise AssertionError("there is no end to it")


def number_of(database, send_id, contact):
    """The number of the delivery of a send to a contact."""
    with database.session() as session:
        return session.execute(
            sa.text(
                "SELECT d.number FROM deliveries d JOIN sends s ON s.dispatch_id = d.dispatch_id "
                "WHERE s.id = :send AND d.contact_id = :contact"
            ),
            {"send": send_id, "contact": contact},
        ).scalar_one()


def token_of(database, settings, purpose, send_id, contact):
    """The token of the delivery of a send to a contact, for a purpose."""
    return signing.make(settings.secret, purpose, number_of(database, send_id, contact), contact)


def dispatched(session, send, taken, state="running", size=None):
    """A dispatch of a send by hand, of its message's newest edition, sealed when it has a size."""
    edition = send.edition_id or session.scalar(
        sa.text("SELECT max(id) FROM editions WHERE message_id = :m"), {"m": send.message_id}
    )
    if edition is None:
        edition = session.execute(
            sa.text(EDITION), {"m": send.message_id, "at": taken}
        ).scalar_one()
    channel = session.execute(
        sa.text("SELECT channel FROM messages WHERE id = :m"), {"m": send.message_id}
    ).scalar_one()
    made = Dispatch(
        owner_kind="send",
        owner_id=send.id,
        name=send.name,
        channel=channel,
        message_id=send.message_id,
        edition_id=edition,
        sender_id=send.sender_id,
        topic_id=send.topic_id,
        campaign_id=send.campaign_id,
        consent_rule=send.consent_rule,
        taken_at=taken,
        state=state,
        size=size,
    )
    session.add(made)
    session.flush()
    send.dispatch_id, send.taken_at = made.id, taken
    session.flush()
    return made


#: An edition with nothing in it, for a message that was never sent.
EDITION = """
INSERT INTO editions (message_id, number, document, compiled, at, by) SELECT id, 1, document,
'{}', :at, 'by hand' FROM messages
WHERE id = :m RETURNING id
"""


def delivered(session, send, contact, outcome="delivered", at=None, **more):
    """A delivery of a send to a contact by hand: its number."""
    columns = {
        "contact_id": contact,
        "dispatch_id": send.dispatch_id,
        "taken_at": send.taken_at,
        "due": send.taken_at,
        "outcome": outcome,
        "at": at,
        **more,
    }
    return session.execute(
        sa.text(
            f"INSERT INTO deliveries ({', '.join(columns)}) VALUES "
            f"({', '.join(f':{name}' for name in columns)}) RETURNING number"
        ),
        columns,
    ).scalar_one()


def reacted(session, send, contact, kind, at, link=None, machine=False, note=""):
    """A reaction to the delivery of a send to a contact, by hand."""
    session.execute(
        sa.text(
            "INSERT INTO reactions (contact_id, at, dispatch_id, delivery, kind, link, machine, "
            "note) SELECT contact_id, :at, dispatch_id, number, "
            ":kind, :link, :machine, :note FROM deliveries WHERE dispatch_id = :dispatch AND "
            "contact_id = :contact"
        ),
        {
            "at": at,
            "kind": kind,
            "link": link,
            "machine": machine,
            "note": note,
            "dispatch": send.dispatch_id,
            "contact": contact,
        },
    )
