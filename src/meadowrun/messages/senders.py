"""Whom messages are from: names and addresses of the organisation, or of each person's own desk
contact."""

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import Base


class Sender(Base):
    """Whom messages are from."""

    __tablename__ = "senders"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    name: orm.Mapped[str]
    address: orm.Mapped[str]
    reply_to: orm.Mapped[str] = orm.mapped_column(server_default="")
    #: closing words under the lines of a message, as {{ sender.signature }}
    signature: orm.Mapped[str] = orm.mapped_column(server_default="")
    #: the mail server it goes by first: one of ROUTES
    route: orm.Mapped[str] = orm.mapped_column(server_default="first")
    #: fields (contact.desk_name, contact.desk_email) that hold the person's own desk contact, who
    #: signs where both are filled
    name_ref: orm.Mapped[str] = orm.mapped_column(server_default="")
    address_ref: orm.Mapped[str] = orm.mapped_column(server_default="")


def senders(session: orm.Session) -> list[Sender]:
    """All of them, the oldest first."""
    return list(session.scalars(sa.select(Sender).order_by(Sender.id)))
