"""Changes of lists and suppressions."""

import dataclasses
import datetime as dt
import re
from collections.abc import Sequence

import sqlalchemy as sa
from sqlalchemy import orm
from sqlalchemy.dialects.postgresql import insert

from meadowrun.base import audit
from meadowrun.base.audit import Actor
from meadowrun.base.db import number_array, rows_changed
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.core import values, wording
from meadowrun.core.language import Wording
from meadowrun.core.values import is_whole
from meadowrun.core.wording import free_name
from meadowrun.people.models import Contact, ListMember, PeopleList, Suppression

_DOMAIN = re.compile(r"@?((?:[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?\.)+[a-z0-9-]{2,63})\Z")
MOST_PASTED = 100_000


#: Counts bounces; an address that bounced hard, or soft too often, is not written to again.
#: Soft ones count from the first of a row on, for so many days.
COUNT_BOUNCES = """
UPDATE contacts c SET soft_bounces = CASE WHEN NOT x.soft THEN c.soft_bounces ELSE x.times END,
    soft_since = CASE WHEN x.soft AND x.times = 1 THEN CAST(:now AS timestamptz)
        ELSE c.soft_since END,
    bounced_at = CASE WHEN x.hard OR x.times >= :most THEN coalesce(c.bounced_at, :now)
        ELSE c.bounced_at END
FROM (SELECT id, id = ANY(:hard) AS hard, id = ANY(:soft) AS soft,
    CASE WHEN id <> ALL(:soft) THEN 0 WHEN soft_since >= :since THEN soft_bounces + 1
        ELSE 1 END AS times
    FROM contacts WHERE id = ANY(:hard) OR id = ANY(:soft)) x
WHERE c.id = x.id
"""


@dataclasses.dataclass(frozen=True)
class Pasted:
    """What became of pasted lines: how many were taken, were there already, and those refused with
    their reason."""

    taken: int
    known: int
    refused: list[tuple[str, str]]


_BEHIND = """SELECT split_part(email_key, '@', 2), count(*) FROM contacts
WHERE split_part(email_key, '@', 2) = ANY(:domains) GROUP BY 1"""


def address_or_domain(text: str) -> str:
    """The key of something to suppress: an address, or "@domain" for all of a domain. Raises
    Invalid."""
    text = text.strip().lower()
    domain = _DOMAIN.match(text)
    if domain:
        return f"@{domain.group(1)}"
    problem = values.email_problem(text)
    if problem:
        raise Invalid(f"{problem}.", "address")
    return values.email_key(text)


def suppress(
    session: orm.Session,
    now: dt.datetime,
    key: str,
    reason: str,
    source: str,
    until: dt.datetime | None = None,
) -> bool:
    """Never write there again, or not before `until`; a first reason is kept, a longer time wins.
    False when known already."""
    new = session.execute(
        insert(Suppression)
        .values(address_key=key, reason=reason, source=source, at=now, until=until)
        .on_conflict_do_nothing()
        .returning(Suppression.address_key)
    ).scalar()
    if new is not None:
        return True
    row = session.get_one(Suppression, key)
    if row.until is not None and (until is None or until > row.until):
        row.until = until
    return False


def side_by_side(line: str) -> list[str]:
    """The addresses or domains of a line that holds nothing else, however they are parted; none
    where it does."""
    words = [word.strip('"') for word in re.split(r"[,;\s]+", line) if word.strip('"')]
    return words if all("@" in word for word in words) else []


def suppress_many(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    text: str,
    reason: str,
    until: dt.datetime | None = None,
) -> Pasted:
    """Suppresses pasted or uploaded lines: an address or a domain first, a reason of its own after
    a comma, semicolon or tab; or several addresses side by side."""
    lines = [line for line in text.replace("\ufeff", "").splitlines() if line.strip()]
    if len(lines) > MOST_PASTED:
        raise Invalid(
            Wording(
                "Add at most %(most_pasted)s lines at once; these are %(lines)s.",
                most_pasted=wording.number(MOST_PASTED),
                lines=wording.number(len(lines)),
            ),
            "many",
        )
    taken, known, refused = 0, 0, []
    for number, line in enumerate(lines):
        first, *rest = [
            part.strip().strip('"') for part in re.split(r"[,;\t]", line) if part.strip()
        ] or [""]
        words = side_by_side(line)
        several = len(words) > 1 or not rest
        for one in words or (first,):
            try:
                key = address_or_domain(one)
            except Invalid as problem:
                if number or "@" in one:
                    refused.append((one, str(problem)))
                continue
            new = suppress(
                session,
                now,
                key,
                (reason if several else ", ".join(rest))[:300],
                f"added by {actor.name}",
                until,
            )
            taken, known = taken + new, known + (not new)
    audit.record(session, actor, now, "suppressed many", "suppression", None, reason, taken=taken)
    return Pasted(taken, known, refused)


def behind(session: orm.Session, domains: Sequence[str]) -> dict[str, int]:
    """How many contacts have an address of each domain, given as "@mail.example"."""
    found = dict.fromkeys(domains, 0)
    for domain, count in session.execute(sa.text(_BEHIND), {"domains": [d[1:] for d in domains]}):
        found[f"@{domain}"] = count
    return found


def domains_in(text: str) -> list[str]:
    """The whole domains among pasted lines, each once."""
    found = []
    for line in text.splitlines():
        for word in side_by_side(line) or [re.split(r"[,;\t]", line)[0]]:
            domain = _DOMAIN.match(word.strip().strip('"').lower())
            if domain:
                found.append(f"@{domain.group(1)}")
    return list(dict.fromkeys(found))


def expire(session: orm.Session, now: dt.datetime) -> int:
    """Forgets suppressions whose time is over; returns how many."""
    done = session.execute(sa.delete(Suppression).where(Suppression.until <= now))
    return rows_changed(done)


def lift_suppression(session: orm.Session, actor: Actor, now: dt.datetime, key: str) -> None:
    row = session.get(Suppression, key)
    if row is not None:
        session.delete(row)
        audit.record(
            session,
            actor,
            now,
            "lifted the suppression of",
            "suppression",
            None,
            key,
            reason=row.reason,
        )


def make_list(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    name: str,
    source: str,
    contact_ids: list[int] | None = None,
    segment_id: int | None = None,
) -> PeopleList:
    """A fixed list of people; a name that is taken gets a number behind it."""
    name = free_name(name.strip() or "List", set(session.scalars(sa.select(PeopleList.name))))
    made = PeopleList(name=name, source=source, taken_at=now, segment_id=segment_id)
    session.add(made)
    session.flush()
    put_in(session, made.id, contact_ids or [])
    audit.record(
        session, actor, now, "made the list", "list", made.id, name, people=len(contact_ids or [])
    )
    return made


def rename_list(
    session: orm.Session, actor: Actor, now: dt.datetime, found: PeopleList, name: str
) -> None:
    """Another name for a list. Raises Invalid when there is none, Conflict when another list has
    it."""
    name = " ".join(name.split())
    if not name:
        raise Invalid("Give the list a name you will recognise later.", "name")
    if session.scalar(
        sa.select(PeopleList.id).where(PeopleList.name == name, PeopleList.id != found.id)
    ):
        raise Conflict(Wording("Another list is called “%(name)s”.", name=name))
    audit.record(session, actor, now, "renamed", "list", found.id, name, before=found.name)
    found.name = name


def put_in(session: orm.Session, list_id: int, contact_ids: list[int]) -> int:
    """Adds contacts that exist to a list; returns how many were not in it before."""
    done = session.execute(
        sa.text(
            "INSERT INTO list_members (list_id, contact_id) SELECT :list, c.id FROM contacts c "
            "WHERE c.id = ANY(CAST(:ids AS bigint[])) "
            "ON CONFLICT DO NOTHING"
        ),
        {"list": list_id, "ids": number_array(contact_ids)},
    )
    return rows_changed(done)


def work_out_again(
    session: orm.Session, actor: Actor, now: dt.datetime, found: PeopleList, contact_ids: list[int]
) -> None:
    """The people of a list that was frozen from a segment, as the segment is now."""
    session.execute(sa.delete(ListMember).where(ListMember.list_id == found.id))
    put_in(session, found.id, contact_ids)
    found.taken_at = now
    audit.record(
        session,
        actor,
        now,
        "worked out again",
        "list",
        found.id,
        found.name,
        people=len(contact_ids),
    )


def add_by_address(
    session: orm.Session, actor: Actor, now: dt.datetime, found: PeopleList, text: str
) -> Pasted:
    """Adds the contacts with these addresses or numbers, one per line; an address nobody has is
    refused."""
    wanted = list(dict.fromkeys(part.strip() for part in re.split(r"[\n,;]", text) if part.strip()))
    if len(wanted) > MOST_PASTED:
        raise Invalid(
            Wording(
                "Add at most %(most_pasted)s lines at once; these are %(wanted)s.",
                most_pasted=wording.number(MOST_PASTED),
                wanted=wording.number(len(wanted)),
            ),
            "who",
        )
    by_key = {
        row[0]: row[1]
        for row in session.execute(
            sa.select(Contact.email_key, sa.func.min(Contact.id))
            .where(Contact.email_key.in_([values.email_key(w) for w in wanted]))
            .group_by(Contact.email_key)
        )
    }
    numbers = set(
        session.scalars(
            sa.select(Contact.id).where(Contact.id.in_([int(w) for w in wanted if is_whole(w)]))
        )
    )
    ids, refused = [], []
    for one in wanted:
        known = (
            int(one) if is_whole(one) and int(one) in numbers else by_key.get(values.email_key(one))
        )
        if known is None:
            refused.append((one, "no contact has this address or number"))
        else:
            ids.append(known)
    added = put_in(session, found.id, ids)
    audit.record(
        session, actor, now, "added to the list", "list", found.id, found.name, people=added
    )
    return Pasted(added, len(ids) - added, refused)


def take_out(
    session: orm.Session, actor: Actor, now: dt.datetime, found: PeopleList, contact_ids: list[int]
) -> int:
    """Removes contacts from a list; the contacts themselves stay."""
    done = session.execute(
        sa.delete(ListMember).where(
            ListMember.list_id == found.id, ListMember.contact_id.in_(contact_ids)
        )
    )
    count = rows_changed(done)
    audit.record(
        session, actor, now, "removed from the list", "list", found.id, found.name, people=count
    )
    return count


def delete_list(
    session: orm.Session, actor: Actor, now: dt.datetime, found: PeopleList, uses: list[str]
) -> None:
    """Deletes a list that nothing uses; the people stay. Raises Conflict naming what does."""
    if uses:
        raise Conflict(
            Wording(
                "“%(name)s” is used by %(uses)s. Change those first.",
                name=found.name,
                uses=", ".join(uses[:5]),
            )
        )
    audit.record(session, actor, now, "deleted the list", "list", found.id, found.name)
    session.delete(found)


def count_bounces(
    session: orm.Session,
    now: dt.datetime,
    hard: list[int],
    soft: list[int],
    most: int = 5,
    days: int = 30,
) -> None:
    """A hard bounce stops mail to an address until it is corrected, and so does the last of `most`
    soft ones within some days, unless somebody read something there in between. Numbers of
    contacts."""
    session.execute(
        sa.text(COUNT_BOUNCES),
        {
            "hard": hard,
            "soft": soft,
            "now": now,
            "most": most,
            "since": now - dt.timedelta(days=days),
        },
    )
