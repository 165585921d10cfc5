"""How fast emails leave: so many an hour to one mail domain, none for a while to one whose server
asks for that, and a few more each day from a domain that is new."""

import datetime as dt
import zoneinfo
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import audit, jobs
from meadowrun.base.audit import Actor
from meadowrun.base.db import Base
from meadowrun.base.errors import Invalid, NotFound
from meadowrun.core import wording
from meadowrun.core.guardrails import speeds
from meadowrun.core.guardrails.speeds import WarmUp
from meadowrun.core.guardrails.verdict import Wait
from meadowrun.core.language import Wording
from meadowrun.core.values import email_problem
from meadowrun.outgoing.claims import as_json

#: The row that holds for every domain that has no speed of its own.
EVERY_OTHER = ""
#: More an hour than this is no limit.
MOST_PER_HOUR = 10_000_000
#: Percent by which a domain may grow from day to day.
GROWTHS = (5, 10, 20, 30, 50, 75, 100)


class MailSpeed(Base):
    """How fast a mail domain is written to, and how it took what was sent to it lately."""

    __tablename__ = "mail_speeds"
    domain: orm.Mapped[str] = orm.mapped_column(primary_key=True)
    #: how many emails an hour; empty: as for every other domain
    per_hour: orm.Mapped[int | None] = orm.mapped_column(
        sa.CheckConstraint("per_hour > 0", name="per_hour")
    )
    #: when the next email has its turn, and when the next after all that wait for theirs
    free_at: orm.Mapped[dt.datetime | None]
    planned_to: orm.Mapped[dt.datetime | None]
    #: how often in a row its server delayed too many
    delays: orm.Mapped[int] = orm.mapped_column(sa.SmallInteger, server_default="0")
    #: until when nothing is sent to it because of that, and since when
    not_before: orm.Mapped[dt.datetime | None]
    delayed_at: orm.Mapped[dt.datetime | None]


class WarmUpPlan(Base):
    """The plan by which a new domain sends a little more each day."""

    __tablename__ = "warm_ups"
    domain: orm.Mapped[str] = orm.mapped_column(primary_key=True)
    begins: orm.Mapped[dt.date]
    first_day: orm.Mapped[int]
    growth: orm.Mapped[int]
    until: orm.Mapped[int]
    changed_by: orm.Mapped[str]
    changed_at: orm.Mapped[dt.datetime]
    __table_args__ = (
        sa.CheckConstraint("first_day > 0 AND growth > 0 AND until > 0", name="numbers"),
    )

    @property
    def plan(self) -> WarmUp:
        """As the rules know it."""
        return WarmUp(self.begins, self.first_day, self.growth, self.until)


class WarmUpDay(Base):
    """How many emails of a new domain left on a day, and for how many that day is planned."""

    __tablename__ = "warm_up_days"
    domain: orm.Mapped[str] = orm.mapped_column(
        sa.ForeignKey("warm_ups.domain", ondelete="CASCADE"), primary_key=True
    )
    day: orm.Mapped[dt.date] = orm.mapped_column(primary_key=True)
    left_so_far: orm.Mapped[int] = orm.mapped_column(server_default="0")
    planned: orm.Mapped[int] = orm.mapped_column(server_default="0")


#: Whether anything limits how fast emails leave.
_ANY = """
SELECT EXISTS (SELECT 1 FROM mail_speeds WHERE per_hour IS NOT NULL OR not_before > :now),
    EXISTS (SELECT 1 FROM warm_ups WHERE domain = :sender)
"""
#: A row for each domain, where every other domain has a speed: what it took is counted there.
_ROWS = """
INSERT INTO mail_speeds (domain) SELECT unnest(CAST(:domains AS text[])) ORDER BY 1
ON CONFLICT DO NOTHING
"""
#: The rows of some domains, locked in one order.
_LOCKED = """
SELECT domain, per_hour, free_at, planned_to, not_before FROM mail_speeds
WHERE domain = ANY(:domains) ORDER BY domain FOR UPDATE
"""
_TAKEN = """
UPDATE mail_speeds m SET free_at = v.free_at, planned_to = v.planned_to
FROM jsonb_to_recordset(CAST(:rows AS jsonb))
    AS v(domain text, free_at timestamptz, planned_to timestamptz)
WHERE m.domain = v.domain
"""
#: Whoever waits for a reason is judged again at once.
_AGAIN = """
UPDATE deliveries SET due = :now WHERE outcome = 'waiting' AND due > :now
AND stood_on->>'because' = :reason
"""


def domain_of(address: str | None) -> str:
    """The part of an address after its last @, in small letters; nothing for what is no email
    address."""
    return (address or "").rpartition("@")[2].lower() if "@" in (address or "") else ""


def waits(
    session: orm.Session,
    people: Mapping[int, str],
    sender: str,
    now: dt.datetime,
    begins: dt.datetime,
    may_wait: bool,
) -> dict[int, Wait]:
    """Who of some people, contact → address, cannot be written to now; the others take their turn.

    `sender` is the address it is from; `begins` is when the send began, by the organisation's
    clock: whoever waits for another day gets it at that hour. Where `may_wait` is false, all go,
    and are counted.
    """
    domain = domain_of(sender)
    limited, warming = session.execute(sa.text(_ANY), {"now": now, "sender": domain}).one()
    found: dict[int, Wait] = {}
    if limited:
        found = _by_domain(session, people, now, may_wait)
    if warming:
        going = [contact for contact in people if contact not in found]
        found |= _warming(session, going, domain, now, begins, may_wait)
    return found


def _by_domain(
    session: orm.Session, people: Mapping[int, str], now: dt.datetime, may_wait: bool
) -> dict[int, Wait]:
    """Who waits because of the domain they are written to at."""
    groups: dict[str, list[int]] = {}
    for contact, address in people.items():
        groups.setdefault(domain_of(address), []).append(contact)
    every_other = session.scalar(
        sa.select(MailSpeed.per_hour).where(MailSpeed.domain == EVERY_OTHER)
    )
    domains = sorted(set(groups) - {EVERY_OTHER})
    if every_other is not None:
        session.execute(sa.text(_ROWS), {"domains": domains})
    found: dict[int, Wait] = {}
    taken = []
    for row in session.execute(sa.text(_LOCKED), {"domains": domains}):
        contacts = groups[row.domain]
        if may_wait and row.not_before is not None and row.not_before > now:
            found |= dict.fromkeys(contacts, (row.not_before, "mail_delays"))
            continue
        per_hour = row.per_hour or every_other
        if per_hour is None:
            continue
        said = speeds.turns(len(contacts), per_hour, row.free_at, row.planned_to, now, may_wait)
        late = contacts[said.now :]
        found |= {
            contact: (until, "mail_speed") for contact, until in zip(late, said.later, strict=True)
        }
        taken.append(
            {
                "domain": row.domain,
                "free_at": said.free_at.isoformat(),
                "planned_to": said.planned_to.isoformat(),
            }
        )
    if taken:
        session.execute(sa.text(_TAKEN), {"rows": as_json(taken)})
    return found


def _warming(
    session: orm.Session,
    contacts: Sequence[int],
    domain: str,
    now: dt.datetime,
    begins: dt.datetime,
    may_wait: bool,
) -> dict[int, Wait]:
    """Who waits for a later day because the domain it is from is new."""
    row = session.get_one(WarmUpPlan, domain, with_for_update=True, populate_existing=True)
    plan, clock = row.plan, begins.timetz()
    zone = begins.tzinfo
    today = now.astimezone(zone).date()
    found: dict[int, Wait] = {}
    day, rest = today, list(contacts)
    while rest:
        most = plan.most_on(day)
        if most is None and day == today:
            return {}
        kept = session.get(WarmUpDay, (domain, day), populate_existing=True)
        if kept is None:
            kept = WarmUpDay(domain=domain, day=day, left_so_far=0, planned=0)
            session.add(kept)
        if day == today:
            going = len(rest) if not may_wait else max(0, (most or 0) - kept.left_so_far)
            kept.left_so_far += min(going, len(rest))
        else:
            going = len(rest) if most is None else max(0, most - kept.left_so_far - kept.planned)
            until = dt.datetime.combine(day, clock)
            found |= dict.fromkeys(rest[:going], (until, "warm_up"))
            kept.planned += min(going, len(rest))
        rest = rest[going:]
        day += dt.timedelta(days=1)
    session.flush()
    return found


def note(
    session: orm.Session, now: dt.datetime, handed: Iterable[str], delayed: Iterable[str]
) -> None:
    """Notes to which addresses one batch was handed over, and whose servers asked to come later: a
    domain that delays too many gets nothing for a while, each time in a row for longer."""
    went, later = Counter(map(domain_of, handed)), Counter(map(domain_of, delayed))
    slow = {d for d, times in later.items() if d and speeds.is_delaying(went[d], times)}
    if slow:
        session.execute(sa.text(_ROWS), {"domains": sorted(slow)})
    asked = sa.select(MailSpeed).where(
        sa.or_(
            MailSpeed.domain.in_(slow),
            sa.and_(MailSpeed.domain.in_(went), MailSpeed.delays > 0),
        )
    )
    for row in session.scalars(asked.order_by(MailSpeed.domain).with_for_update()):
        if row.domain not in slow:
            row.delays, row.not_before = 0, None
        elif row.not_before is None or row.not_before <= now:
            # Of several batches on their way at the same time, one is counted.
            row.delays += 1
            row.not_before, row.delayed_at = now + speeds.pause(row.delays), now


def are_planned(session: orm.Session) -> bool:
    """Whether anybody may have a turn that is planned."""
    found = session.scalar(
        sa.select(MailSpeed.domain).where(MailSpeed.planned_to.is_not(None)).limit(1)
    )
    return (found or session.scalar(sa.select(WarmUpPlan.domain).limit(1))) is not None


def forget_turns(session: orm.Session) -> None:
    """Forgets which turns are planned: those who had them may have been stopped. What really left
    stays counted, so that nothing goes faster than it may."""
    planned = sa.select(MailSpeed).where(MailSpeed.planned_to.is_not(None))
    for row in session.scalars(planned.order_by(MailSpeed.domain).with_for_update()):
        row.planned_to = None
    session.flush()
    session.execute(sa.update(WarmUpDay).values(planned=0))


def judge_again(session: orm.Session, now: dt.datetime, reason: str) -> None:
    """Has those judged again at once who wait for a reason."""
    session.execute(sa.text(_AGAIN), {"now": now, "reason": reason})


def all_speeds(session: orm.Session) -> list[MailSpeed]:
    """Domains with a speed of their own, and those whose servers delay now, by name."""
    asked = sa.select(MailSpeed).where(
        sa.or_(MailSpeed.per_hour.is_not(None), MailSpeed.not_before.is_not(None))
    )
    return list(session.scalars(asked.order_by(MailSpeed.domain)))


def save_speed(
    session: orm.Session, actor: Actor, now: dt.datetime, domain: str, per_hour: int | None
) -> None:
    """Sets how many emails an hour go to a domain; EVERY_OTHER: to each that has no number of its
    own; None: as many as its server takes. Raises Invalid naming the field."""
    domain = checked(domain) if domain != EVERY_OTHER else domain
    if per_hour is not None and not 1 <= per_hour <= MOST_PER_HOUR:
        raise Invalid("Give a number of emails an hour, from 1 on.", "per_hour")
    session.execute(sa.text(_ROWS), {"domains": [domain]})
    row = session.get_one(MailSpeed, domain, with_for_update=True, populate_existing=True)
    before, row.per_hour, row.free_at = row.per_hour, per_hour, None
    changed = audit.from_to({"emails an hour": before}, {"emails an hour": per_hour})
    name = domain or "every other domain"
    audit.record(session, actor, now, "set the speed of", "mail domain", 0, name, **changed)
    _changed(session, "mail_speed")


def try_now(session: orm.Session, actor: Actor, now: dt.datetime, domain: str) -> None:
    """Writes to a domain again at once, although its server asked to come later. Raises
    NotFound."""
    row = session.get(MailSpeed, domain, with_for_update=True)
    if row is None or row.not_before is None:
        raise NotFound("Nothing waits for that domain any more.")
    row.delays, row.not_before = 0, None
    audit.record(session, actor, now, "no longer waits for", "mail domain", 0, domain)
    _changed(session, "mail_delays")


def warm_up(session: orm.Session, domain: str) -> WarmUpPlan | None:
    """The plan of a domain that is new, or was."""
    return session.get(WarmUpPlan, domain)


def days(session: orm.Session, domain: str) -> dict[dt.date, WarmUpDay]:
    """The days of a domain's plan on which something left or is planned."""
    asked = sa.select(WarmUpDay).where(WarmUpDay.domain == domain)
    return {row.day: row for row in session.scalars(asked)}


def save_warm_up(
    session: orm.Session, actor: Actor, now: dt.datetime, domain: str, plan: WarmUp
) -> None:
    """Has a domain send a little more each day. Raises Invalid naming the field."""
    domain = checked(domain)
    if not 1 <= plan.first_day <= MOST_PER_HOUR:
        raise Invalid("Give the number of emails on the first day, from 1 on.", "first_day")
    if plan.growth not in GROWTHS:
        raise Invalid("Choose one of the shares offered.", "growth")
    if not plan.first_day < plan.until <= MOST_PER_HOUR:
        raise Invalid("Give more emails a day than on the first day.", "until")
    row = warm_up(session, domain) or WarmUpPlan(domain=domain)
    row.begins, row.first_day, row.growth, row.until = (
        plan.begins,
        plan.first_day,
        plan.growth,
        plan.until,
    )
    row.changed_by, row.changed_at = actor.name, now
    session.add(row)
    session.flush()
    audit.record(session, actor, now, "warms up", "mail domain", 0, domain)
    _changed(session, "warm_up")


def end_warm_up(session: orm.Session, actor: Actor, now: dt.datetime, domain: str) -> None:
    """Lets a domain send as much as it likes. Raises NotFound."""
    row = warm_up(session, domain)
    if row is None:
        raise NotFound("This domain has no plan.")
    session.delete(row)
    session.flush()
    audit.record(session, actor, now, "ended the warm-up of", "mail domain", 0, domain)
    _changed(session, "warm_up")


def _changed(session: orm.Session, reason: str) -> None:
    """Has those judged again who wait for what has changed. A task of its own does that: workers
    take their deliveries first and then these rows, never the other way round."""
    session.flush()
    jobs.enqueue(session, "outgoing.turns", reason=reason)


def checked(domain: str) -> str:
    """A domain as it was typed, in small letters. Raises Invalid."""
    domain = domain.strip().lower().removeprefix("@")
    if not domain or email_problem(f"postmaster@{domain}"):
        raise Invalid("That is not a mail domain, such as post.example.", "domain")
    return domain


def last_day(
    session: orm.Session, sender: str, people: int, now: dt.datetime, zone: zoneinfo.ZoneInfo
) -> dt.date | None:
    """The day on which the last of some people gets an email that goes now, as the domain it is
    from is new; None where that is today."""
    row = warm_up(session, domain_of(sender))
    if row is None:
        return None
    today = now.astimezone(zone).date()
    most = row.plan.most_on(today)
    if most is None:
        return None
    kept = session.get(WarmUpDay, (row.domain, today))
    left = max(0, most - (kept.left_so_far if kept else 0))
    found = row.plan.last_day_of(people, today, left)
    return found if found > today else None


def plan_words(plan: WarmUp) -> Wording:
    """A plan in words."""
    return Wording(
        "%(first)s emails on the first day, each day %(growth)s%% more, up to %(until)s",
        first=wording.number(plan.first_day),
        growth=plan.growth,
        until=wording.number(plan.until),
    )
