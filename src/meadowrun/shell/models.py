"""People who sign in."""

import datetime as dt
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm
from sqlalchemy.dialects.postgresql import JSONB

from meadowrun.base.db import Base
from meadowrun.core.language import Wording

ROLES = ("viewer", "author", "approver", "admin")


class User(Base):
    __tablename__ = "users"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    #: lower case, unique: what they sign in with
    email: orm.Mapped[str] = orm.mapped_column(unique=True)
    name: orm.Mapped[str]
    #: empty: nobody signs in by it until a password is set by an invitation
    password_hash: orm.Mapped[str]
    #: each role may do all that those before it may: viewer, author, approver, admin
    role: orm.Mapped[str] = orm.mapped_column(
        sa.Text,
        sa.CheckConstraint("role IN ('viewer', 'author', 'approver', 'admin')", name="role"),
    )
    active: orm.Mapped[bool] = orm.mapped_column(server_default=sa.true())
    created_at: orm.Mapped[dt.datetime]
    #: the secret of the app that shows their codes, encrypted; None without a second step
    second_step: orm.Mapped[str | None]
    #: the number of the 30 seconds whose code was used last: none is taken twice
    second_step_used: orm.Mapped[int | None] = orm.mapped_column(sa.BigInteger)
    #: wishes to be told by email what waits for them
    told: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())


class Choice(Base):
    """What a colleague has chosen to see."""

    __tablename__ = "choices"
    user_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("users.id", ondelete="CASCADE"), primary_key=True
    )
    #: what it is a choice of, in words of our own
    name: orm.Mapped[str] = orm.mapped_column(primary_key=True)
    value: orm.Mapped[Any] = orm.mapped_column(JSONB)


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
    #: the network address it was begun from
    place: orm.Mapped[str] = orm.mapped_column(server_default="")
    #: the password was right, the code is still asked for
    halfway: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())


class RecoveryCode(Base):
    """A code that stands in for the app once. Deleted when used."""

    __tablename__ = "recovery_codes"
    #: SHA-256 of whose it is and of the code
    code_hash: orm.Mapped[str] = orm.mapped_column(primary_key=True)
    user_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("users.id", ondelete="CASCADE"), index=True
    )


class SignInAttempt(Base):
    """A failed attempt to sign in; many in a short time for one address or from one place are
    refused."""

    __tablename__ = "sign_in_attempts"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    key: orm.Mapped[str]
    at: orm.Mapped[dt.datetime]
    __table_args__ = (sa.Index("ix_sign_in_attempts_key_at", "key", "at"),)


#: What a key of the API may be allowed → in words
SCOPES = {
    "read": Wording("look at people, segments and lists"),
    "people": Wording("add and change people, lists, tags, suppressions; import"),
    "events": Wording("record events"),
    "segments": Wording("write segments, groupings and scores"),
    "fields": Wording("change fields and kinds of event"),
    "erase": Wording("erase and merge people"),
    "sends": Wording("start, change and stop sends; set limits and quiet hours"),
}


class ApiKey(Base):
    __tablename__ = "api_keys"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    name: orm.Mapped[str]
    #: SHA-256 of a secret key; a public site key is kept as it is
    key_hash: orm.Mapped[str] = orm.mapped_column(unique=True)
    #: secret: may read and write by the API; site: may only record events of the visitor it belongs
    #: to
    kind: orm.Mapped[str]
    #: for site keys: the addresses of the websites that may use it
    origins: orm.Mapped[list[str]] = orm.mapped_column(server_default="{}")
    #: for secret keys: what they may do, of SCOPES
    may: orm.Mapped[list[str]] = orm.mapped_column(
        server_default="{read,people,events,segments,fields,erase}"
    )
    #: may be sent itself with each request; else it is only shown for tokens of an hour
    direct: orm.Mapped[bool] = orm.mapped_column(server_default=sa.true())
    #: when it stops working; None: never
    ends_at: orm.Mapped[dt.datetime | None]
    created_at: orm.Mapped[dt.datetime]
    last_used_at: orm.Mapped[dt.datetime | None]
    retired: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())
