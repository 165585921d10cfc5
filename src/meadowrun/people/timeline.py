"""Everything that happened with one contact, newest first."""

import dataclasses
import datetime as dt
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.core.guardrails.outcomes import WORDS
from meadowrun.core.wording import held

#: What was sent to somebody before a moment, the newest first.
SENT_BEFORE = """SELECT coalesce(d.at, d.taken_at), s.name, d.outcome, d.note, s.owner_id
FROM deliveries d JOIN dispatches s ON s.id = d.dispatch_id AND s.owner_kind = 'send'
WHERE d.contact_id = :id AND coalesce(d.at, d.taken_at) < :before ORDER BY 1 DESC LIMIT :most"""


#: What somebody did with what was sent before a moment, the newest first.
REACTIONS_BEFORE = """SELECT r.at, r.kind, r.machine, s.name, r.note, s.owner_id
FROM reactions r JOIN dispatches s ON s.id = r.dispatch_id AND s.owner_kind = 'send'
WHERE r.contact_id = :id AND r.at < :before AND r.kind <> 'bounced'
ORDER BY r.at DESC LIMIT :most"""


@dataclasses.dataclass(frozen=True)
class Entry:
    """One line of a timeline. `send_id` leads to the exact mail."""

    at: dt.datetime
    kind: str
    text: str
    detail: str
    send_id: int | None = None


def _said(value: Any) -> str:
    """A detail as it is read. It may be from before its kind had types: what it is itself says
    how."""
    return held(
        "yes_no"
        if isinstance(value, bool)
        else "number"
        if isinstance(value, int | float)
        else "text",
        value,
    )


def timeline(
    session: orm.Session, contact_id: int, before: dt.datetime | None, most: int = 60
) -> list[Entry]:
    """Events, mails and reactions of a contact before a moment."""
    values = {
        "id": contact_id,
        "before": before or dt.datetime(9999, 1, 1, tzinfo=dt.UTC),
        "most": most,
    }
    found: list[Entry] = []
    for at, did, details in session.execute(
        sa.text(
            "SELECT e.at, k.did, e.details FROM events e JOIN event_kinds k ON k.id = e.kind_id "
            "WHERE e.contact_id = :id AND e.at < :before ORDER BY e.at DESC LIMIT :most"
        ),
        values,
    ):
        said = ", ".join(
            f"{key.replace('_', ' ')} {_said(value)}"
            for key, value in (details or {}).items()
            if value is not None
        )
        found.append(Entry(at, "event", did, said))
    for at, name, outcome, note, send_id in session.execute(
        sa.text(SENT_BEFORE),
        values,
    ):
        if outcome in ("delivered", "bounced"):
            text = f"was sent “{name}”" + ("" if outcome == "delivered" else ", which bounced")
        else:
            text = f"was not sent “{name}”: {WORDS[outcome].lower()}"
        found.append(
            Entry(at, "mail", text, note if outcome == "bounced" and note else "", send_id)
        )
    for at, kind, machine, name, note, send_id in session.execute(
        sa.text(REACTIONS_BEFORE),
        values,
    ):
        verb = {
            "opened": "opened",
            "clicked": "clicked in",
            "replied": "replied to",
            "unsubscribed": "unsubscribed by",
            "complained": "complained about",
        }[kind]
        who = "a program " if machine else ""
        found.append(
            Entry(at, "reaction", f"{who}{verb} “{name}”", note if machine else "", send_id)
        )
    return sorted(found, key=lambda m: m.at, reverse=True)[:most]
