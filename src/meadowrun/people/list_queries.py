"""Typed reads of lists, one or two side by side, and of the suppressed."""

from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.people.models import Contact, ListMember, Suppression


def _members(ident: int, other: int | None, show: str) -> Any:
    """Members of a list; with another list, those in both, only here, or only there."""
    members = sa.select(ListMember.contact_id).where(
        ListMember.list_id == (other if show == "there" else ident)
    )
    if other is not None:
        beside = sa.select(ListMember.contact_id).where(
            ListMember.list_id == (ident if show == "there" else other)
        )
        members = members.where(
            ListMember.contact_id.in_(beside)
            if show == "both"
            else ListMember.contact_id.not_in(beside)
        )
    return members


def page(
    session: orm.Session,
    ident: int,
    after: int,
    most: int,
    other: int | None = None,
    show: str = "",
) -> list[Contact]:
    """Members by number, after one: of a list or, beside another, of a part (both, here or
    there)."""
    return list(
        session.scalars(
            sa.select(Contact)
            .where(Contact.id.in_(_members(ident, other, show)), Contact.id > after)
            .order_by(Contact.id)
            .limit(most)
        )
    )


def size(session: orm.Session, ident: int, other: int | None = None, show: str = "") -> int:
    return session.execute(
        sa.select(sa.func.count()).select_from(_members(ident, other, show).subquery())
    ).scalar_one()


def ids(session: orm.Session, ident: int, other: int | None = None, show: str = "") -> list[int]:
    """The numbers of members, in order."""
    return list(session.scalars(_members(ident, other, show).order_by(ListMember.contact_id)))


def suppressions(session: orm.Session, search: str, start: int, most: int) -> list[Suppression]:
    """Suppressed addresses and domains that hold some text, the latest first."""
    query = sa.select(Suppression).order_by(Suppression.at.desc(), Suppression.address_key)
    if search:
        query = query.where(Suppression.address_key.contains(search, autoescape=True))
    return list(session.scalars(query.offset(start).limit(most)))


def suppressions_after(session: orm.Session, key: str, most: int) -> list[Suppression]:
    """Suppressed addresses and domains in their order, after one."""
    return list(
        session.scalars(
            sa.select(Suppression)
            .where(Suppression.address_key > key)
            .order_by(Suppression.address_key)
            .limit(most)
        )
    )


def suppressed(session: orm.Session) -> int:
    """How many addresses and domains are suppressed."""
    return session.execute(sa.select(sa.func.count()).select_from(Suppression)).scalar_one()
