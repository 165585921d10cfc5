"""What people wish for themselves: fewer messages a week, and none for a while."""

import datetime as dt

import sqlalchemy as sa
from dateutil.relativedelta import relativedelta
from sqlalchemy import orm

from meadowrun.base.db import rows_changed
from meadowrun.base.errors import Invalid
from meadowrun.people.models import Contact

#: How many messages a week can be wished for at most.
AT_MOST = (1, 2, 3)
#: For how many months somebody can pause.
PAUSES = (1, 2, 3, 6)


def at_most(session: orm.Session, contact: Contact, most: int | None) -> None:
    """Keeps how many messages a week somebody wishes for; None: as many as there are. Raises
    Invalid."""
    if most is not None and most not in AT_MOST:
        raise Invalid("Choose one of the answers offered.", "often")
    contact.most_a_week = most
    session.flush()


def pause(session: orm.Session, now: dt.datetime, contact: Contact, months: int | None) -> None:
    """Nothing goes to somebody for some months but what needs no consent; None: they go on now.
    Raises Invalid."""
    if months is not None and months not in PAUSES:
        raise Invalid("Choose one of the answers offered.", "pause")
    contact.paused_until = None if months is None else now + relativedelta(months=months)
    session.flush()


def end_pauses(session: orm.Session, now: dt.datetime) -> int:
    """Ends the pauses whose time is over; says how many."""
    ended = sa.update(Contact).where(Contact.paused_until <= now).values(paused_until=None)
    return rows_changed(session.execute(ended))
