"""What a send did: the tally, the way from delivered to success, links, and the first days. Bases
are stated."""

import dataclasses
import datetime as dt
from collections.abc import Mapping
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm
from sqlalchemy.dialects.postgresql import insert

from meadowrun.base.kept import Kept
from meadowrun.core.channels import KINDS
from meadowrun.core.content.compiled import Compiled
from meadowrun.core.content.past import Past
from meadowrun.core.guardrails.outcomes import OUTCOMES
from meadowrun.core.results.worth import Group, Worth, worth
from meadowrun.core.values import is_whole
from meadowrun.messages.models import Edition, Message
from meadowrun.outgoing.queries import tally
from meadowrun.people.models import EventKind
from meadowrun.results.models import SendNumbers
from meadowrun.sends.models import Send

#: A page of the people behind a number of a result, with what became of their message.
BEHIND = """
SELECT c.id, c.first_name, c.last_name, coalesce(x.address, c.email) AS email, x.outcome, x.note,
    x.stood_on, x.at, CASE WHEN x.outcome = 'in_doubt' THEN x.due END AS asked_at
FROM (SELECT DISTINCT q.contact_id FROM ({query}) q WHERE q.contact_id > :after
    ORDER BY q.contact_id LIMIT :most) p
JOIN contacts c ON c.id = p.contact_id
JOIN deliveries x ON x.contact_id = p.contact_id AND x.dispatch_id = :dispatch
    AND x.taken_at = :taken
ORDER BY c.id"""


@dataclasses.dataclass(frozen=True)
class LinkResult:
    number: int
    label: str
    href: str
    people: int
    clicks: int


@dataclasses.dataclass(frozen=True)
class Result:
    """Everything the result page shows; every count is of people, each once, unless it says
    otherwise."""

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
    replied: int
    bounced: int
    links: list[LinkResult]
    #: (start of the hour or day, opened, clicked, converted), counting each person's first time
    timeline: list[tuple[dt.datetime, int, int, int]]
    step: dt.timedelta
    #: what sending did, against the control group; None where nobody was, or nothing counts as
    #: success
    worth: Worth | None
    #: the moment it was counted
    as_of: dt.datetime


def _step(column: str) -> str:
    """The step of a person's first time, as a column."""
    return f"floor(extract(epoch FROM {column} - :taken) / :step)::int AS step"


#: What counts as delivered: taken and not come back. Everyone counted after that is among them.
_OF_SEND = "d.dispatch_id = :dispatch AND d.taken_at = :taken"
#: Reactions are only looked for from the snapshot on, which leaves out older partitions.
_REACTED = (
    "FROM reactions r JOIN deliveries d ON d.contact_id = r.contact_id AND d.number = r.delivery "
    f"WHERE r.dispatch_id = :dispatch AND r.at >= :taken AND {_OF_SEND} AND d.outcome = 'delivered'"
)
#: A click by a person counts as an opening, whether its pictures were shown or not.
PEOPLE_SQL: dict[str, str] = {
    "delivered": (
        f"SELECT d.contact_id FROM deliveries d WHERE {_OF_SEND} AND d.outcome = 'delivered'"
    ),
    "opened": (
        f"SELECT r.contact_id {_REACTED} AND r.kind IN ('opened', 'clicked') AND NOT r.machine"
    ),
    "machine_only": f"SELECT r.contact_id {_REACTED} AND r.kind = 'opened' AND r.machine AND NOT "
    "EXISTS (SELECT 1 FROM reactions p WHERE p.dispatch_id = r.dispatch_id AND p.contact_id = "
    "r.contact_id AND p.at >= :taken AND p.kind IN ('opened', 'clicked') AND NOT p.machine)",
    "clicked": f"SELECT r.contact_id {_REACTED} AND r.kind = 'clicked' AND NOT r.machine",
    "unsubscribed": f"SELECT r.contact_id {_REACTED} AND r.kind = 'unsubscribed'",
    "complained": f"SELECT r.contact_id {_REACTED} AND r.kind = 'complained'",
    "replied": f"SELECT r.contact_id {_REACTED} AND r.kind = 'replied' AND NOT r.machine",
    "converted": "SELECT e.contact_id FROM deliveries d JOIN events e ON e.contact_id = "
    "d.contact_id AND e.kind_id = :kind AND e.at >= d.at AND e.at < d.at + :days WHERE "
    f"{_OF_SEND} AND d.outcome = 'delivered' AND e.at >= :taken",
    "control_converted": "SELECT e.contact_id FROM deliveries d JOIN events e ON e.contact_id = "
    "d.contact_id AND e.kind_id = :kind AND e.at >= d.at AND e.at < d.at + :days WHERE "
    f"{_OF_SEND} AND d.outcome = 'control' AND e.at >= :taken",
}
#: Who got it and did not do what is told of people of its channel.
PEOPLE_SQL |= {
    f"not_{key}": f"{PEOPLE_SQL['delivered']} EXCEPT {PEOPLE_SQL[key]}"
    for key in ("opened", "clicked")
}
#: Everyone whom the verdict let go against everyone of the control group: written to, whether it
#: arrived or
#: not, since it would not have
#: arrived with as many of the control group; each group with how many of it succeeded in the days
#: after their moment.
_WORTH_SQL = f"""
SELECT count(*) FILTER (WHERE NOT control), count(*) FILTER (WHERE NOT control
AND good), count(*) FILTER (WHERE control),
    count(*) FILTER (WHERE control AND good) FROM (
SELECT d.outcome = 'control' AS control, EXISTS (SELECT 1 FROM events e
WHERE e.contact_id = d.contact_id AND e.kind_id = :kind AND
    e.at >= :taken AND e.at >= d.at AND e.at < d.at + :days) AS good
FROM deliveries d WHERE {_OF_SEND} AND d.outcome IN ('delivered', 'bounced', 'in_doubt',
'control')) x
"""


def _values(send: Send, kind: EventKind | None) -> dict[str, Any]:
    return {
        "dispatch": send.dispatch_id,
        "taken": send.taken_at,
        "kind": kind.id if kind else -1,
        "days": dt.timedelta(days=send.success_days),
    }


def success_kind(session: orm.Session, send: Send) -> EventKind | None:
    if not send.success_event:
        return None
    return session.scalar(sa.select(EventKind).where(EventKind.key == send.success_event))


def people_sql(what: str) -> str | None:
    """The query of contact ids behind a number of the page: a name of PEOPLE_SQL, an outcome, or
    link<N>."""
    if what in PEOPLE_SQL:
        return PEOPLE_SQL[what]
    if what == "audience":
        return f"SELECT d.contact_id FROM deliveries d WHERE {_OF_SEND}"
    if what in OUTCOMES:
        return f"SELECT d.contact_id FROM deliveries d WHERE {_OF_SEND} AND d.outcome = '{what}'"
    if what.startswith("link") and is_whole(what[4:]):
        return f"{PEOPLE_SQL['clicked']} AND r.link = {int(what[4:])}"
    return None


def people_behind(
    session: orm.Session, send: Send, what: str, most: int, after: int = 0
) -> list[Any]:
    """The people behind a number, by contact number: rows of id, names, address, outcome and
    note."""
    query = people_sql(what)
    if query is None or send.taken_at is None:
        return []
    return list(
        session.execute(
            sa.text(BEHIND.format(query=query)),
            {**_values(send, success_kind(session, send)), "after": after, "most": most},
        ).all()
    )


def count_behind(session: orm.Session, send: Send, what: str) -> int:
    query = people_sql(what)
    if query is None or send.taken_at is None:
        return 0
    total: int = session.execute(
        sa.text(f"SELECT count(DISTINCT q.contact_id) FROM ({query}) q"),
        _values(send, success_kind(session, send)),
    ).scalar_one()
    return total


def all_behind(session: orm.Session, send: Send, what: str) -> list[int]:
    """All the people behind a number, by contact number."""
    query = people_sql(what)
    if query is None or send.taken_at is None:
        return []
    asked = f"SELECT DISTINCT q.contact_id FROM ({query}) q ORDER BY 1"
    return list(session.scalars(sa.text(asked), _values(send, success_kind(session, send))))


#: One pass over a send's reactions: x is each of them, p each person, with their first times.
_REACTIONS_PASS = f"""
WITH x AS MATERIALIZED (SELECT r.contact_id, r.kind, r.link, r.machine, r.at {_REACTED}),
p AS MATERIALIZED (SELECT contact_id, min(at) FILTER (WHERE kind IN ('opened', 'clicked')
AND NOT machine) AS opened,
    min(at) FILTER (WHERE kind = 'clicked' AND NOT machine) AS clicked, bool_or(kind = 'opened'
    AND machine) AS program,
    bool_or(kind = 'unsubscribed') AS unsubscribed, bool_or(kind = 'complained') AS complained,
    bool_or(kind = 'replied' AND NOT machine) AS replied
    FROM x GROUP BY contact_id)
SELECT (SELECT jsonb_build_object('opened', count(opened), 'machine_only',
count(*) FILTER (WHERE program AND opened IS NULL),
        'clicked', count(clicked), 'unsubscribed', count(*) FILTER (WHERE unsubscribed),
        'complained', count(*) FILTER (WHERE complained),
        'replied', count(*) FILTER (WHERE replied)) FROM p),
    (SELECT jsonb_object_agg(link, counts) FROM (SELECT link, jsonb_build_array(count(DISTINCT
    contact_id), count(*)) AS counts
        FROM x WHERE kind = 'clicked' AND NOT machine GROUP BY link) l),
    (SELECT jsonb_object_agg(step, n) FROM (SELECT {_step("opened")}, count(*) AS n FROM p
    WHERE opened < :until GROUP BY 1) o),
    (SELECT jsonb_object_agg(step, n) FROM (SELECT {_step("clicked")}, count(*) AS n FROM p
    WHERE clicked < :until GROUP BY 1) c)
"""
#: The same over what they did afterwards that counts as success. An event is counted once however
#: it is reached.
_SUCCESS_PASS = f"""
WITH p AS MATERIALIZED (SELECT y.contact_id, min(y.at) AS first, sum(y.amount) AS amount
FROM ({{events}}) y GROUP BY 1)
SELECT (SELECT count(*) FROM p), (SELECT coalesce(sum(amount), 0) FROM p),
    (SELECT jsonb_object_agg(step, n) FROM (SELECT {_step("first")}, count(*) AS n FROM p
    WHERE first < :until GROUP BY 1) f)
"""


@dataclasses.dataclass(frozen=True)
class _Counted:
    """What the passes over a send found. Steps are numbered from the snapshot on: {"3": people}."""

    numbers: dict[str, int]
    #: {link number as text: [people, clicks]}
    links: dict[str, list[int]]
    steps: dict[str, dict[str, int]]
    amount: float | None
    worth: Worth | None


_counts: Kept[_Counted] = Kept()


def _count(
    session: orm.Session, send: Send, kind: EventKind | None, step: dt.timedelta, until: dt.datetime
) -> _Counted:
    values = _values(send, kind) | {"step": step.total_seconds(), "until": until}
    found, links, opened, clicked = session.execute(sa.text(_REACTIONS_PASS), values).one()
    converted, amount, bought, gained = 0, None, {}, None
    people = tally(session, send.dispatch_id)
    if kind is not None:
        has_amount = kind.details.get("amount", {}).get("type") == "number"
        column = "as_number(e.details->'amount')" if has_amount else "NULL::numeric"
        events = PEOPLE_SQL["converted"].replace(
            "SELECT e.contact_id", f"SELECT e.contact_id, e.at, {column} AS amount", 1
        )
        converted, summed, bought = session.execute(
            sa.text(_SUCCESS_PASS.format(events=events)), values
        ).one()
        amount = float(summed) if has_amount else None
        if people.get("control"):
            written, good, control, of_these = session.execute(sa.text(_WORTH_SQL), values).one()
            gained = worth(Group(written, good), Group(control, of_these))
    return _Counted(
        people | found | {"converted": converted},
        links or {},
        {"opened": opened or {}, "clicked": clicked or {}, "converted": bought or {}},
        amount,
        gained,
    )


def numbers(session: orm.Session, send: Send) -> dict[str, int]:
    """Every count of a send, of people, each once: its tally, and what those delivered did."""
    if send.taken_at is None:
        return {}
    return _count(
        session, send, success_kind(session, send), dt.timedelta(days=1), send.taken_at
    ).numbers


def kept_numbers(session: orm.Session, send: Send) -> dict[str, int]:
    """`numbers` as last worked out in the background; worked out now when that has not happened
    yet."""
    kept = session.get(SendNumbers, send.id)
    return kept.numbers if kept is not None else numbers(session, send)


def numbers_of_send(session: orm.Session, send_id: int) -> Mapping[str, int]:
    """`kept_numbers` of the send of a number."""
    return kept_numbers(session, session.get_one(Send, send_id))


def refresh_numbers(
    session: orm.Session, send: Send, now: dt.datetime, reads: orm.Session | None = None
) -> None:
    """Works the kept numbers of a send out anew, as another session `reads` it."""
    found = numbers(reads or session, send)
    session.execute(
        insert(SendNumbers)
        .values(send_id=send.id, counted_at=now, numbers=found)
        .on_conflict_do_update(
            index_elements=["send_id"], set_={"counted_at": now, "numbers": found}
        )
    )


def result(
    session: orm.Session, send: Send, now: dt.datetime, reads: orm.Session | None = None
) -> Result:
    """The result of a send that has been taken; another session `reads` what takes long."""
    assert send.taken_at is not None
    kind = success_kind(session, send)
    early = now - send.taken_at < dt.timedelta(days=2)
    # The first two days by the hour, five days by the quarter of a day.
    step, most = (dt.timedelta(hours=1), 48) if early else (dt.timedelta(hours=6), 20)
    until = min(now, send.taken_at + step * most)
    counted, as_of = _counts.get(
        session,
        (send.id, send.state, step),
        now,
        lambda: _count(reads or session, send, kind, step, until),
    )
    found = counted.numbers
    steps = max(1, int((until - send.taken_at) / step) + 1)
    return Result(
        tally={name: found[name] for name in OUTCOMES if name in found},
        audience=send.audience_size or 0,
        delivered=found.get("delivered", 0),
        opened=found["opened"],
        machine_only=found["machine_only"],
        clicked=found["clicked"],
        converted=found["converted"],
        success=kind,
        amount=counted.amount,
        unsubscribed=found["unsubscribed"],
        complained=found["complained"],
        # Numbers that were kept before replies were counted have none.
        replied=found.get("replied", 0),
        bounced=found.get("bounced", 0),
        links=_links(session, send, counted.links),
        timeline=[
            (
                send.taken_at + step * i,
                counted.steps["opened"].get(str(i), 0),
                counted.steps["clicked"].get(str(i), 0),
                counted.steps["converted"].get(str(i), 0),
            )
            for i in range(steps)
        ],
        step=step,
        worth=counted.worth,
        as_of=as_of,
    )


def _links(session: orm.Session, send: Send, counts: dict[str, list[int]]) -> list[LinkResult]:
    if send.edition_id is None:
        return []
    edition = session.get_one(Edition, send.edition_id)
    found = [
        LinkResult(link.number, link.label, link.href, *counts.get(str(link.number), (0, 0)))
        for link in Compiled.from_json(edition.compiled).links
    ]
    # Of a list from a feed only the first item, and those that somebody followed.
    items = {
        link.number
        for link in Compiled.from_json(edition.compiled).links
        if link.each and link.item
    }
    return sorted(
        (x for x in found if x.clicks or x.number not in items), key=lambda x: (-x.people, x.number)
    )


#: Somebody who got each version of a send, of the first who clicked and then of the first who got
#: it: version, contact. Only so many are looked at: of a million nobody waits for a rare version.
_READERS = """
WITH clicked AS (
    SELECT contact_id, delivery AS number, 0 AS place FROM reactions
    WHERE dispatch_id = :dispatch AND kind = 'clicked' AND NOT machine LIMIT :most),
others AS (
    SELECT contact_id, number, 1 AS place FROM deliveries
    WHERE dispatch_id = :dispatch AND taken_at = :taken AND outcome = 'delivered' LIMIT :most)
SELECT DISTINCT ON (1) coalesce(d.filled ->> :field, '') AS version, d.contact_id
FROM (SELECT * FROM clicked UNION ALL SELECT * FROM others) x
JOIN deliveries d ON d.contact_id = x.contact_id AND d.dispatch_id = :dispatch
    AND d.taken_at = :taken AND d.number = x.number
WHERE d.outcome = 'delivered' AND d.filled IS NOT NULL
ORDER BY 1, x.place, d.number
"""
#: So many are looked at for that.
_LOOKED_AT = 2000


@dataclasses.dataclass(frozen=True, slots=True)
class Reader:
    """Somebody who got one version of a send; the version is empty where there is only one."""

    version: str
    contact_id: int


def readers(session: orm.Session, send: Send) -> list[Reader]:
    """One reader of each version of a send."""
    field = Compiled.from_json(session.get_one(Edition, send.edition_id).compiled).field
    values = {
        "field": field or "",
        "dispatch": send.dispatch_id,
        "taken": send.taken_at,
        "most": _LOOKED_AT,
    }
    return [Reader(*row) for row in session.execute(sa.text(_READERS), values)]


#: So long after it left a send is still being opened, and teaches nothing about its subject yet.
SETTLED_AFTER = dt.timedelta(days=3)


#: So many past subjects teach something about the next.
SUBJECTS = 60


def subjects(session: orm.Session, now: dt.datetime) -> list[Past]:
    """The subjects of the newest emails whose opening has settled, with how many got and opened
    them."""
    rows = session.execute(
        sa.select(Send, Edition.compiled["subject"].astext)
        .join(Edition, Edition.id == Send.edition_id)
        .join(Message, Message.id == Send.message_id)
        .where(
            Send.state == "done",
            Message.channel.in_([kind.key for kind in KINDS.values() if kind.mail]),
            Send.taken_at < now - SETTLED_AFTER,
        )
        .order_by(Send.taken_at.desc())
        .limit(SUBJECTS)
    ).all()
    found = [(subject, kept_numbers(session, send)) for send, subject in rows if subject]
    return [
        Past(subject, counts.get("delivered", 0), counts.get("opened", 0))
        for subject, counts in found
    ]
