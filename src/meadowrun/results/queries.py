"""What a send did: the tally, the way from delivered to success, links, and the first days. Bases are stated."""

import dataclasses
import datetime as dt
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm
from sqlalchemy.dialects.postgresql import insert

from meadowrun.core.content.compiled import Compiled
from meadowrun.core.guardrails.verdict import OUTCOMES
from meadowrun.messages.models import Edition
from meadowrun.results.models import SendNumbers
from meadowrun.sends.models import Send
from meadowrun.sends.queries import tally
from meadowrun.tracking.models import EventKind


@dataclasses.dataclass(frozen=True)
class LinkResult:
    number: int
    label: str
    href: str
    people: int
    clicks: int


@dataclasses.dataclass(frozen=True)
class Result:
    """Everything the result page shows; every count is of single people unless it says otherwise."""

    tally: dict[str, int]
    audience: int
    delivered: int
    opened: int
    machine_only: int
    clicked: int
    converted: int
    success: EventKind | None
    amount: float | None
    unsubscribed: int
    complained: int
    bounced: int
    links: list[LinkResult]
    #: (start of the hour or day, opened, clicked, converted), counting each person's first time
    timeline: list[tuple[dt.datetime, int, int, int]]
    step: dt.timedelta


#: What counts as delivered: taken and not come back. Everyone counted after that is among them.
_OF_SEND = "d.send_id = :send AND d.taken_at = :taken"
#: Reactions are only looked for from the snapshot on, which leaves out older partitions.
_REACTED = ("FROM reactions r JOIN deliveries d ON d.contact_id = r.contact_id AND d.send_id = r.send_id "
            f"WHERE r.send_id = :send AND r.at >= :taken AND {_OF_SEND} AND d.outcome = 'delivered'")
#: A click by a person counts as an opening, whether its pictures were shown or not.
PEOPLE_SQL: dict[str, str] = {
    "delivered": f"SELECT d.contact_id FROM deliveries d WHERE {_OF_SEND} AND d.outcome = 'delivered'",
    "opened": f"SELECT r.contact_id {_REACTED} AND r.kind IN ('opened', 'clicked') AND NOT r.machine",
    "machine_only": f"SELECT r.contact_id {_REACTED} AND r.kind = 'opened' AND r.machine AND NOT EXISTS (SELECT 1 FROM "
                    "reactions p WHERE p.send_id = r.send_id AND p.contact_id = r.contact_id AND p.at >= :taken "
                    "AND p.kind IN ('opened', 'clicked') AND NOT p.machine)",
    "clicked": f"SELECT r.contact_id {_REACTED} AND r.kind = 'clicked' AND NOT r.machine",
    "unsubscribed": f"SELECT r.contact_id {_REACTED} AND r.kind = 'unsubscribed'",
    "complained": f"SELECT r.contact_id {_REACTED} AND r.kind = 'complained'",
    "converted": "SELECT e.contact_id FROM deliveries d JOIN events e ON e.contact_id = d.contact_id AND "
                 f"e.kind_id = :kind AND e.at >= d.at AND e.at < d.at + :days WHERE {_OF_SEND} AND "
                 "d.outcome = 'delivered' AND e.at >= :taken",
}


def _values(session: orm.Session, send: Send) -> dict[str, Any]:
    kind = success_kind(session, send)
    return {"send": send.id, "taken": send.taken_at, "kind": kind.id if kind else -1,
            "days": dt.timedelta(days=send.success_days)}


def success_kind(session: orm.Session, send: Send) -> EventKind | None:
    if not send.success_event:
        return None
    return session.scalar(sa.select(EventKind).where(EventKind.key == send.success_event))


def people_sql(what: str) -> str | None:
    """The query of contact ids behind a number of the page: a name of PEOPLE_SQL, an outcome, or link<N>."""
    if what in PEOPLE_SQL:
        return PEOPLE_SQL[what]
    if what == "audience":
        return f"SELECT d.contact_id FROM deliveries d WHERE {_OF_SEND}"
    if what in OUTCOMES:
        return f"SELECT d.contact_id FROM deliveries d WHERE {_OF_SEND} AND d.outcome = '{what}'"
    if what.startswith("link") and what[4:].isdigit():
        return f"{PEOPLE_SQL['clicked']} AND r.link = {int(what[4:])}"
    return None


def people_behind(session: orm.Session, send: Send, what: str, most: int, after: int = 0) -> list[Any]:
    """The people behind a number, by contact number: rows of id, names, address, outcome and note."""
    query = people_sql(what)
    if query is None or send.taken_at is None:
        return []
    return list(session.execute(sa.text(
        "SELECT c.id, c.first_name, c.last_name, coalesce(x.address, c.email) AS email, x.outcome, x.note, x.at "
        f"FROM (SELECT DISTINCT q.contact_id FROM ({query}) q WHERE q.contact_id > :after "
        "ORDER BY q.contact_id LIMIT :most) p JOIN contacts c ON c.id = p.contact_id "
        "JOIN deliveries x ON x.contact_id = p.contact_id AND x.send_id = :send AND x.taken_at = :taken "
        "ORDER BY c.id"), {**_values(session, send), "after": after, "most": most}).all())


def count_behind(session: orm.Session, send: Send, what: str) -> int:
    query = people_sql(what)
    if query is None or send.taken_at is None:
        return 0
    return session.execute(sa.text(f"SELECT count(DISTINCT q.contact_id) FROM ({query}) q"),
                           _values(session, send)).scalar_one()


def numbers(session: orm.Session, send: Send) -> dict[str, int]:
    """Every count of a send, of single people: its tally, and what those delivered did. Three queries."""
    if send.taken_at is None:
        return {}
    values = _values(session, send)
    row = session.execute(sa.text(
        "SELECT count(*) FILTER (WHERE person) AS opened, count(*) FILTER (WHERE program AND NOT person) AS machine_only, "
        "count(*) FILTER (WHERE clicked) AS clicked, count(*) FILTER (WHERE unsubscribed) AS unsubscribed, "
        "count(*) FILTER (WHERE complained) AS complained FROM (SELECT r.contact_id, "
        "bool_or(r.kind IN ('opened', 'clicked') AND NOT r.machine) AS person, bool_or(r.kind = 'opened' AND r.machine) AS program, "
        "bool_or(r.kind = 'clicked' AND NOT r.machine) AS clicked, bool_or(r.kind = 'unsubscribed') AS unsubscribed, "
        f"bool_or(r.kind = 'complained') AS complained {_REACTED} GROUP BY r.contact_id) x"), values).one()
    found = dict(row._mapping)
    found["converted"] = count_behind(session, send, "converted") if values["kind"] != -1 else 0
    return tally(session, send) | found


def kept_numbers(session: orm.Session, send: Send) -> dict[str, int]:
    """`numbers` as last worked out in the background; worked out now when that has not happened yet."""
    kept = session.get(SendNumbers, send.id)
    return kept.numbers if kept is not None else numbers(session, send)


def refresh_numbers(session: orm.Session, send: Send, now: dt.datetime) -> None:
    """Works the kept numbers of a send out anew."""
    found = numbers(session, send)
    session.execute(insert(SendNumbers).values(send_id=send.id, counted_at=now, numbers=found).on_conflict_do_update(
        index_elements=["send_id"], set_={"counted_at": now, "numbers": found}))


def result(session: orm.Session, send: Send, now: dt.datetime) -> Result:
    """The result of a send that has been taken."""
    found = numbers(session, send)
    counts = {name: found[name] for name in OUTCOMES if name in found}
    values = _values(session, send)
    kind = success_kind(session, send)
    amount = None
    if kind is not None and kind.details.get("amount", {}).get("type") == "number":
        amount = session.execute(sa.text(
            "SELECT coalesce(sum((e.details->>'amount')::numeric), 0) FROM deliveries d JOIN events e "
            "ON e.contact_id = d.contact_id AND e.kind_id = :kind AND e.at >= d.at AND e.at < d.at + :days "
            f"WHERE {_OF_SEND} AND d.outcome = 'delivered' AND e.at >= :taken"), values).scalar_one()
    step = dt.timedelta(hours=1) if send.taken_at and now - send.taken_at < dt.timedelta(days=2) \
        else dt.timedelta(hours=6)
    return Result(
        tally=counts, audience=send.audience_size or 0, delivered=counts.get("delivered", 0), opened=found["opened"],
        machine_only=found["machine_only"], clicked=found["clicked"], converted=found["converted"], success=kind,
        amount=float(amount) if amount is not None else None, unsubscribed=found["unsubscribed"],
        complained=found["complained"], bounced=counts.get("bounced", 0), links=_links(session, send, values),
        timeline=_timeline(session, send, values, step, now), step=step)


def _links(session: orm.Session, send: Send, values: dict[str, Any]) -> list[LinkResult]:
    if send.edition_id is None:
        return []
    edition = session.get_one(Edition, send.edition_id)
    counts = {row[0]: (row[1], row[2]) for row in session.execute(sa.text(
        f"SELECT r.link, count(DISTINCT r.contact_id), count(*) {_REACTED} AND r.kind = 'clicked' AND NOT r.machine "
        "GROUP BY r.link"), values)}
    found = [LinkResult(link.number, link.label, link.href, *counts.get(link.number, (0, 0)))
             for link in Compiled.from_json(edition.compiled).links]
    return sorted(found, key=lambda x: (-x.people, x.number))


def _timeline(session: orm.Session, send: Send, values: dict[str, Any], step: dt.timedelta,
              now: dt.datetime) -> list[tuple[dt.datetime, int, int, int]]:
    """The first four days (two in steps of an hour): each person once, at their first time."""
    if send.taken_at is None:
        return []
    until = min(now, send.taken_at + step * (48 if step == dt.timedelta(hours=1) else 20))
    first: dict[str, dict[int, int]] = {}
    sources = {"opened": (PEOPLE_SQL["opened"], "r"), "clicked": (PEOPLE_SQL["clicked"], "r"),
               "converted": (PEOPLE_SQL["converted"], "e")}
    for name, (query, table) in sources.items():
        inner = query.replace(f"SELECT {table}.contact_id", f"SELECT {table}.contact_id, min({table}.at) AS at", 1)
        rows = session.execute(sa.text(
            "SELECT floor(extract(epoch FROM x.at - :taken) / :step)::int, count(*) FROM "
            f"({inner} GROUP BY {table}.contact_id) x WHERE x.at < :until GROUP BY 1"),
            {**values, "step": step.total_seconds(), "until": until})
        first[name] = {row[0]: row[1] for row in rows}
    steps = max(1, int((until - send.taken_at) / step) + 1)
    return [(send.taken_at + step * i, first["opened"].get(i, 0), first["clicked"].get(i, 0),
             first["converted"].get(i, 0)) for i in range(steps)]
