"""Typed reads of companies."""

from collections.abc import Collection

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import as_like
from meadowrun.core.wording import fold
from meadowrun.people.models import Company, Contact


def page(session: orm.Session, search: str, after: str, most: int) -> list[tuple[Company, int]]:
    """Companies by name, after one, whose names hold some words; each with how many contacts it
    has."""
    size = sa.select(sa.func.count()).where(Contact.company_id == Company.id).scalar_subquery()
    query = sa.select(Company, size).order_by(Company.name).limit(most)
    if search:
        query = query.where(Company.name_key.like(f"%{fold(search)}%"))
    if after:
        query = query.where(Company.name > after)
    return [(row[0], row[1]) for row in session.execute(query)]


def after(session: orm.Session, ident: int, most: int) -> list[Company]:
    """Companies by number, after one."""
    return list(
        session.scalars(
            sa.select(Company).where(Company.id > ident).order_by(Company.id).limit(most)
        )
    )


def people_of(session: orm.Session, ident: int, most: int = 200) -> list[Contact]:
    return list(
        session.scalars(
            sa.select(Contact)
            .where(Contact.company_id == ident)
            .order_by(Contact.name_key)
            .limit(most)
        )
    )


def named(session: orm.Session, name: str) -> Company | None:
    return session.scalar(sa.select(Company).where(Company.name_key == fold(name)))


def names(session: orm.Session, idents: Collection[int]) -> dict[int, str]:
    return {c.id: c.name for c in session.scalars(sa.select(Company).where(Company.id.in_(idents)))}


def alike(session: orm.Session, company: Company) -> list[Company]:
    """Companies whose names begin like this one's, to merge it with: the likeliest duplicates."""
    begins = as_like(company.name_key.split(" ")[0][:12])
    return list(
        session.scalars(
            sa.select(Company)
            .where(Company.name_key.like(f"{begins}%"), Company.id != company.id)
            .order_by(Company.name)
            .limit(30)
        )
    )
