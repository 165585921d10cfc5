"""One person's whole record: taken along, or erased for good."""

import datetime as dt
from collections.abc import Mapping
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import audit
from meadowrun.base.audit import Actor
from meadowrun.people import sampling
from meadowrun.people.queries import consent_of, contact, lists_of

Json = dict[str, Any]


_COMPANY = "SELECT name FROM companies WHERE id = :id"
#: What is kept of a contact in other tables, by the name it has in the file; :id is the contact.
_KEPT = {
    "consent_history": """
SELECT channel, topic_id, agreed, at, how
FROM consent_changes WHERE contact_id = :id ORDER BY at, id
""",
    "tags": """
SELECT t.path
FROM contact_tags k JOIN tags t ON t.id = k.tag_id
WHERE k.contact_id = :id ORDER BY t.path
""",
    "scores": """
SELECT s.name, p.points
FROM contact_scores p JOIN scores s ON s.id = p.score_id
WHERE p.contact_id = :id ORDER BY 1
""",
    "points_given": """
SELECT s.name, p.points, p.at, p.by, p.why
FROM score_points p JOIN scores s ON s.id = p.score_id
WHERE p.contact_id = :id ORDER BY p.id
""",
    "events": """
SELECT k.key AS event, e.at, e.details
FROM events e JOIN event_kinds k ON k.id = e.kind_id
WHERE e.contact_id = :id ORDER BY e.at
""",
    "details_kept_aside": """
SELECT k.key AS event, a.at, a.detail, a.value
FROM details_aside a JOIN event_kinds k ON k.id = a.kind_id
WHERE a.contact_id = :id ORDER BY a.at, a.id
""",
    "mails": """
SELECT s.name AS send, d.outcome, d.address, d.at, d.note, d.filled
FROM deliveries d JOIN dispatches s ON s.id = d.dispatch_id
WHERE d.contact_id = :id ORDER BY d.taken_at
""",
    "reactions": """
SELECT s.name AS send, r.kind, r.at, r.link, r.machine, r.note
FROM reactions r JOIN dispatches s ON s.id = r.dispatch_id
WHERE r.contact_id = :id ORDER BY r.at
""",
    "devices": """
SELECT kind, endpoint, since, gone_at
FROM push_devices WHERE contact_id = :id ORDER BY id
""",
    "in_app_messages": """
SELECT s.name AS send, p.laid_at, p.times, p.last_at, p.not_before, p.ended_at
FROM in_app_places p JOIN dispatches s ON s.id = p.dispatch_id
WHERE p.contact_id = :id ORDER BY p.laid_at
""",
    "asked_to_confirm": """
SELECT kind, email, details, source, said, asked_at, mailed_at, confirmed_at
FROM confirmations WHERE contact_id = :id ORDER BY id
""",
    "best_hours": """
SELECT hours, known FROM best_hours WHERE contact_id = :id
""",
    "journeys": """
SELECT j.name, e.began_at, e.state, e.because, e.ended_at, e.goal_at, e.details
FROM journey_entries e JOIN journeys j ON j.id = e.journey_id
WHERE e.contact_id = :id ORDER BY e.id
""",
    "journey_calls": """
SELECT c.address, c.state, c.status, c.answer, c.done_at
FROM journey_calls c JOIN journey_entries e ON e.id = c.entry_id
WHERE e.contact_id = :id ORDER BY c.id
""",
    "tasks": """
SELECT kind, subject, state, outcome, due_at, created_at, done_at
FROM colleague_tasks WHERE contact_id = :id ORDER BY id
""",
    "documents_viewed": """
SELECT f.name, v.at
FROM file_views v JOIN files f ON f.id = v.file_id
WHERE v.contact_id = :id ORDER BY v.at
""",
}


def everything(session: orm.Session, contact_id: int) -> Json:
    """All that is kept of one contact, ready for JSON. Raises NotFound."""
    found = contact(session, contact_id)
    columns = {
        c.name: getattr(found, c.name)
        for c in found.__table__.columns
        if c.name not in ("attributes", "search_key", "name_key")
    }
    company = session.execute(sa.text(_COMPANY), {"id": found.company_id}).scalar()
    return {
        "contact": _for_json(columns) | {"company": company},
        "fields": found.attributes,
        "consent": [
            _for_json(
                {
                    "channel": c.channel,
                    "topic": c.topic,
                    "agreed": c.agreed,
                    "how": c.how,
                    "at": c.at,
                }
            )
            for c in consent_of(session, contact_id)
        ],
        "lists": [item.name for item in lists_of(session, contact_id)],
    } | {
        name: [
            _for_json(row) for row in session.execute(sa.text(query), {"id": contact_id}).mappings()
        ]
        for name, query in _KEPT.items()
    }


def _for_json(row: Mapping[Any, Any]) -> Json:
    return {k: v.isoformat() if isinstance(v, dt.datetime) else v for k, v in row.items()}


def erase(session: orm.Session, actor: Actor, now: dt.datetime, contact_id: int) -> None:
    """Erases a contact for good. Raises NotFound.

    What was sent and done stays under a number that no longer leads to anybody, so that every past
    sum stays right: numbers among an event's details stay, everything else they said, addresses and
    filled-in values go. A send that is still to reach them finds nobody. The audit keeps that
    somebody was erased, not who.
    """
    found = contact(session, contact_id)
    values = {"id": contact_id}
    session.execute(
        sa.text(
            "UPDATE deliveries SET address = NULL, filled = NULL, note = NULL, given = NULL "
            "WHERE contact_id = :id"
        ),
        values,
    )
    session.execute(sa.text("UPDATE reactions SET note = '' WHERE contact_id = :id"), values)
    session.execute(
        sa.text(
            "UPDATE events e SET details = (SELECT jsonb_object_agg(key, value) FROM "
            "jsonb_each(e.details) WHERE jsonb_typeof(value) = "
            "'number') WHERE contact_id = :id AND details IS NOT NULL"
        ),
        values,
    )
    session.execute(sa.text("DELETE FROM details_aside WHERE contact_id = :id"), values)
    session.execute(
        sa.text(
            "UPDATE audit SET object_name = 'an erased contact', detail = '{}' WHERE object_kind "
            "= 'contact' AND object_id = :id"
        ),
        values,
    )
    if found.email_key:
        session.execute(
            sa.text("DELETE FROM confirmations WHERE email_key = :address"),
            {"address": found.email_key},
        )
        session.execute(
            sa.text("DELETE FROM import_refusals WHERE cells::text ILIKE '%' || :address || '%'"),
            {"address": found.email_key},
        )
    sampling.forget(session, contact_id)
    session.delete(found)
    session.flush()
    audit.record(session, actor, now, "erased", "contact", contact_id, "an erased contact")
