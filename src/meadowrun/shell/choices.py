"""What each colleague has chosen to see, kept from one day to the next: columns of a table, as whom
a message is shown."""

from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm
from sqlalchemy.dialects.postgresql import insert

from meadowrun.shell.models import Choice


def choice(session: orm.Session, user_id: int | None, name: str) -> Any:
    """What a colleague chose under a name; None for whoever chose nothing yet."""
    if user_id is None:
        return None
    asked = sa.select(Choice.value).where(Choice.user_id == user_id, Choice.name == name)
    return session.scalar(asked)


def choose(session: orm.Session, user_id: int | None, name: str, value: Any) -> None:
    """Keeps what a colleague chose; None forgets it."""
    if user_id is None:
        return
    if value is None:
        gone = sa.delete(Choice).where(Choice.user_id == user_id, Choice.name == name)
        session.execute(gone)
        return
    made = insert(Choice).values(user_id=user_id, name=name, value=value)
    session.execute(
        made.on_conflict_do_update(index_elements=["user_id", "name"], set_={"value": value})
    )
