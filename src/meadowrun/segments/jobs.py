"""Keeps saved segments worked out: their size of the day, and who is in them; and in a large world
the sets that pages are made of."""

import datetime as dt
import zoneinfo

import sqlalchemy as sa

from meadowrun.base import clock, jobs, memory
from meadowrun.base.jobs import context
from meadowrun.base.large import is_large
from meadowrun.people.moment import Moment, at_present
from meadowrun.people.queries import dictionary
from meadowrun.segments import looking, profile, sets
from meadowrun.segments.insight import refresh
from meadowrun.segments.models import Segment, SegmentMembers

#: No segment is worked out again sooner than this by itself.
AGAIN = dt.timedelta(minutes=10)


@jobs.task("segments.refresh", "upkeep", every="* * * * * */30")
def refresh_due() -> None:
    """Works out segments that changed, or were last worked out a while ago, one transaction each,
    the oldest first."""
    with context().database.session() as session:
        now = clock.now(session)
        due = session.scalars(
            sa.select(Segment.id)
            .outerjoin(SegmentMembers, SegmentMembers.segment_id == Segment.id)
            .where(
                sa.or_(
                    SegmentMembers.segment_id.is_(None),
                    SegmentMembers.version != Segment.version,
                    SegmentMembers.as_of < now - AGAIN,
                )
            )
            .order_by(SegmentMembers.as_of.asc().nulls_first())
            .limit(20)
        ).all()
    for ident in due:
        with context().database.session() as session:
            segment = session.get(Segment, ident, with_for_update={"skip_locked": True})
            if segment is not None:
                refresh(
                    at_present(session, context().settings.timezone),
                    segment,
                )


@jobs.task("segments.totals", "upkeep", every="*/15 * * * * 0")
def count_everyone() -> None:
    """In a large world, has the counts of everyone ready that profiles are compared with."""
    with context().database.session() as session:
        if is_large(session):
            profile.totals(
                at_present(session, context().settings.timezone),
                fresh=True,
            )


@jobs.task("segments.renew", "upkeep", every="* * * * * */20")
def renew_sets() -> None:
    """In a large world, works out again what somebody looked at lately, so that a page need not
    wait for it."""
    with context().database.session() as session:
        if not is_large(session):
            return
        zone, now = zoneinfo.ZoneInfo(context().settings.timezone), clock.now(session)
        due = sets.due(session, now.astimezone(zone).date(), clock.machine_now())
        looking.renew(Moment(session, dictionary(session), now, zone), due)
    # Whoever opens a page reads them from the database: a worker does not need them.
    sets.forget()
    memory.give_back()
