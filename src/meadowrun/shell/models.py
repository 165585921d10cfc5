"""People who sign in."""

import datetime as dt

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import Base

ROLES = ("viewer", "author", "approver", "admin")


class User(Base):
    __tablename__ = "users"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    #: lower case, unique: what they sign in with
    email: orm.Mapped[str] = orm.mapped_column(unique=True)
    name: orm.Mapped[str]
    password_hash: orm.Mapped[str]
    #: each role may do all that those before it may: viewer, author, approver, admin
    role: orm.Mapped[str] = orm.mapped_column(sa.Text, sa.CheckConstraint(
        "role IN ('viewer', 'author', 'approver', 'admin')", name="role"))
    active: orm.Mapped[bool] = orm.mapped_column(server_default=sa.true())
    created_at: orm.Mapped[dt.datetime]
    #: wishes to be told by email what waits for them
    told: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())


class SignIn(Base):
    """A signed-in browser. Deleted on sign-out; the cookie alone is then worth nothing."""

    __tablename__ = "sign_ins"
    #: SHA-256 of the cookie's token: a leaked table lets nobody in
    token_hash: orm.Mapped[str] = orm.mapped_column(primary_key=True)
    user_id: orm.Mapped[int] = orm.mapped_column(sa.ForeignKey("users.id", ondelete="CASCADE"))
    started_at: orm.Mapped[dt.datetime]
    expires_at: orm.Mapped[dt.datetime]
    #: when it was used last, to some minutes
    seen_at: orm.Mapped[dt.datetime]


class SignInAttempt(Base):
    """A failed attempt to sign in; many in a short time for one address or from one place are refused."""

    __tablename__ = "sign_in_attempts"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    key: orm.Mapped[str]
    at: orm.Mapped[dt.datetime]
    __table_args__ = (sa.Index("ix_sign_in_attempts_key_at", "key", "at"),)
