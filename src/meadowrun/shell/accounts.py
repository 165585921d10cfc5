"""Who may sign in, and as what. Passwords by argon2; a leaked table of sign-ins lets nobody in."""

import contextlib
import datetime as dt
import hashlib
import secrets

import argon2
import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.audit import Actor, from_to, record
from meadowrun.base.errors import Conflict, Invalid, NotAllowed, TooMany
from meadowrun.core import values
from meadowrun.shell.models import ROLES, SignIn, SignInAttempt, User

LASTS = dt.timedelta(days=14)
#: Without use it ends sooner; use is noted this often, so that looking does not write each time.
IDLE, _SEEN = dt.timedelta(hours=12), dt.timedelta(minutes=5)
#: So many failed attempts for one address or from one place within WINDOW, and the next are refused.
MOST_ATTEMPTS = 8
WINDOW = dt.timedelta(minutes=10)
#: with the parameters of RFC 9106 for where memory is dear: 64 MiB, three passes
#: The password of everybody in the demo, which all can read, and the domain of their addresses.
DEMO_PASSWORD, DEMO_DOMAIN = "clear-night-sky", "farrowhill.example"
hasher = argon2.PasswordHasher.from_parameters(argon2.profiles.RFC_9106_LOW_MEMORY)
#: Verified when nobody has the address, so that the time taken does not tell who exists.
_NOBODY = hasher.hash("nobody")


def add_user(session: orm.Session, now: dt.datetime, email: str, name: str, role: str, password: str,
             actor: Actor | None = None) -> User:
    """Lets somebody sign in; `actor` is None for the command. Raises Invalid or Conflict."""
    problem = values.email_problem(email)
    if problem:
        raise Invalid(f"{problem}.", "email")
    hashed = _hashed(password)
    if role not in ROLES:
        raise Invalid(f"A role is one of {', '.join(ROLES)}.", "role")
    if session.scalar(sa.select(User).where(User.email == values.email_key(email))):
        raise Conflict(f"{email} can sign in already.")
    user = User(email=values.email_key(email), name=name.strip() or email, role=role, created_at=now,
                password_hash=hashed, active=True)
    session.add(user)
    session.flush()
    if actor is not None:
        record(session, actor, now, "let in", "colleague", user.id, user.name, role=role)
    return user


def _hashed(password: str) -> str:
    if len(password) < 10:
        raise Invalid("A password needs at least 10 characters.", "password")
    return hasher.hash(password)


def change_user(session: orm.Session, now: dt.datetime, actor: Actor, user: User, role: str | None = None, active: bool | None = None,
                password: str | None = None) -> None:
    """Gives somebody another role or a new password, shuts them out or lets them in again; None leaves a thing as it is.
    A changed password and being shut out end what they are signed in with. Raises Invalid, or Conflict for the last administrator.
    """
    if role is not None and role not in ROLES:
        raise Invalid(f"A role is one of {', '.join(ROLES)}.", "role")
    others = session.scalar(sa.select(sa.func.count()).where(User.active, User.role == "admin", User.id != user.id))
    if user.role == "admin" and user.active and not others and (role not in (None, "admin") or active is False):
        raise Conflict(f"{user.name} is the only administrator. Make somebody else one first.")
    if password is not None:
        user.password_hash = _hashed(password)
    before = {"role": user.role, "active": user.active}
    user.role, user.active = role or user.role, user.active if active is None else active
    if password is not None or not user.active:
        session.execute(sa.delete(SignIn).where(SignIn.user_id == user.id))
    session.flush()
    record(session, actor, now, "changed", "colleague", user.id, user.name,
           **from_to(before, {"role": user.role, "active": user.active}), **({"password": "a new one"} if password is not None else {}))


def change_password(session: orm.Session, now: dt.datetime, actor: Actor, user: User, old: str, new: str, token: str) -> None:
    """Somebody's own password; every other browser than that of `token` is signed out. Raises Invalid."""
    try:
        hasher.verify(user.password_hash, old)
    except argon2.exceptions.VerificationError:
        raise Invalid("That is not the password that holds now.", "old") from None
    if new == old:
        raise Invalid("The new password is the old one.", "new")
    user.password_hash = _hashed(new)
    session.execute(sa.delete(SignIn).where(SignIn.user_id == user.id, SignIn.token_hash != _hash(token)))
    session.flush()
    record(session, actor, now, "changed the password of", "colleague", user.id, user.name)


def too_often(session: orm.Session, now: dt.datetime, keys: list[str]) -> bool:
    session.execute(sa.delete(SignInAttempt).where(SignInAttempt.at < now - WINDOW))
    worst = session.execute(sa.select(sa.func.count()).where(SignInAttempt.key.in_(keys))
                            .group_by(SignInAttempt.key).order_by(sa.func.count().desc()).limit(1)).scalar()
    return (worst or 0) >= MOST_ATTEMPTS


def sign_in(session: orm.Session, now: dt.datetime, email: str, password: str, place: str) -> str | None:
    """The token for the cookie, or None when address or password are wrong. Raises TooMany."""
    keys = [f"address:{values.email_key(email)}", f"place:{place}"]
    if too_often(session, now, keys):
        raise TooMany("Too many attempts to sign in. Wait ten minutes, then try again.")
    user = session.scalar(sa.select(User).where(User.email == values.email_key(email), User.active))
    try:
        hasher.verify(user.password_hash if user else _NOBODY, password)
        good = user is not None
    except argon2.exceptions.VerificationError:
        good = False
    if not good or user is None:
        session.add_all(SignInAttempt(key=key, at=now) for key in keys)
        return None
    token = secrets.token_urlsafe(32)
    session.add(SignIn(token_hash=_hash(token), user_id=user.id, started_at=now, seen_at=now, expires_at=now + LASTS))
    return token


def _hash(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def signed_in(session: orm.Session, now: dt.datetime, token: str) -> User | None:
    """Whose sign-in a cookie's token is; None where it has ended, by its time or because nobody used it."""
    row = session.execute(sa.select(User, SignIn.seen_at).join(SignIn, SignIn.user_id == User.id).where(
        SignIn.token_hash == _hash(token), SignIn.expires_at > now, SignIn.seen_at > now - IDLE, User.active)).one_or_none()
    if row is None:
        return None
    if row.seen_at < now - _SEEN:
        session.execute(sa.update(SignIn).where(SignIn.token_hash == _hash(token)).values(seen_at=now))
    return row.User  # type: ignore[no-any-return]


def sign_out(session: orm.Session, token: str) -> None:
    session.execute(sa.delete(SignIn).where(SignIn.token_hash == _hash(token)))


def may(actor: Actor, role: str) -> bool:
    """Whether the actor's role reaches `role`."""
    return ROLES.index(actor.role) >= ROLES.index(role)


def require(actor: Actor, role: str) -> None:
    """Raises NotAllowed when the actor's role does not reach `role`."""
    if not may(actor, role):
        raise NotAllowed(f"This needs the role “{role}”; yours is “{actor.role}”. Ask an administrator.")


def people_who(session: orm.Session, role: str) -> list[User]:
    """Everyone who may sign in and whose role reaches `role`, by name."""
    enough = ROLES[ROLES.index(role):]
    return list(session.scalars(sa.select(User).where(User.active, User.role.in_(enough)).order_by(User.name)))


def known_to_all(session: orm.Session) -> list[str]:
    """The addresses of those who may sign in with the demo's password."""
    found = []
    for user in session.scalars(sa.select(User).where(User.active, User.email.endswith(f"@{DEMO_DOMAIN}")).order_by(User.email)):
        with contextlib.suppress(argon2.exceptions.VerificationError, argon2.exceptions.InvalidHashError):
            if hasher.verify(user.password_hash, DEMO_PASSWORD):
                found.append(user.email)
    return found


def everyone(session: orm.Session) -> list[tuple[User, dt.datetime | None]]:
    """Everyone who may or might sign in, those who may first, by name, each with when they did last."""
    last = sa.select(SignIn.user_id, sa.func.max(SignIn.started_at).label("at")).group_by(SignIn.user_id).subquery()
    return [(user, at) for user, at in session.execute(sa.select(User, last.c.at).outerjoin(last, last.c.user_id == User.id)
                                                       .order_by(User.active.desc(), User.name))]
