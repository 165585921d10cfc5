"""Colleagues and their roles. Passwords by argon2; a leaked table of sign-ins lets nobody in."""

import dataclasses
import datetime as dt
import hashlib
import hmac
import secrets

import argon2
import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import signing
from meadowrun.base.audit import Actor, from_to, record
from meadowrun.base.errors import Conflict, Invalid, NotAllowed
from meadowrun.base.settings import Settings
from meadowrun.core import values
from meadowrun.core.language import Wording
from meadowrun.shell import attempts, passwords, second_step, telling
from meadowrun.shell.models import ROLES, SignIn, User

#: A day's work; without use it ends sooner (OWASP ASVS 4.0.3, 3.3.2). Use is noted this often, so
#: that looking does not write each time.
LASTS, _SEEN = dt.timedelta(hours=12), dt.timedelta(minutes=2)
#: For setting a password by an invitation.
INVITED_FOR = dt.timedelta(days=3)
#: For typing a code after the password.
HALFWAY = dt.timedelta(minutes=10)
#: How long a browser is known as one that its owner has used.
KNOWN_FOR = dt.timedelta(days=180)
#: The password of everybody in the demo, which all can read, and the domain of their addresses.
DEMO_PASSWORD, DEMO_DOMAIN = "clear-night-sky", "farrowhill.example"
#: with the parameters of RFC 9106 for where memory is dear: 64 MiB, three passes
#: Before what is kept of a password with the installation's secret in it.
_PEPPERED = "p:"
COOKIE = "meadowrun_in"
hasher = argon2.PasswordHasher.from_parameters(argon2.profiles.RFC_9106_LOW_MEMORY)
#: Verified when nobody has the address, so that the time taken does not tell who exists.
_NOBODY = hasher.hash("nobody")


def add_user(
    session: orm.Session,
    now: dt.datetime,
    email: str,
    name: str,
    role: str,
    password: str | None,
    actor: Actor | None = None,
) -> User:
    """Lets somebody sign in; `actor` is None for the command. Without a password they set their own
    by an invitation. Raises Invalid or Conflict."""
    problem = values.email_problem(email)
    if problem:
        raise Invalid(f"{problem}.", "email")
    # Given on this machine's command line; it gets its secret part when it is used first.
    hashed = _hashed(password, "", email, name) if password is not None else ""
    if role not in ROLES:
        raise Invalid(Wording("A role is one of %(roles)s.", roles=", ".join(ROLES)), "role")
    if session.scalar(sa.select(User).where(User.email == values.email_key(email))):
        raise Conflict(Wording("%(email)s can sign in already.", email=email))
    user = User(
        email=values.email_key(email),
        name=name.strip() or email,
        role=role,
        created_at=now,
        password_hash=hashed,
        active=True,
    )
    session.add(user)
    session.flush()
    if actor is not None:
        record(session, actor, now, "added", "colleague", user.id, user.name, role=role)
    return user


def _hashed(password: str, secret: str, *about: str) -> str:
    """What is kept of a password. With the installation's secret a leaked table alone does not even
    allow guessing (OWASP ASVS 4.0.3, 2.4.5). Raises Invalid."""
    passwords.judge(password, about)
    return _PEPPERED + hasher.hash(_peppered(password, secret)) if secret else hasher.hash(password)


def _peppered(password: str, secret: str) -> str:
    return hmac.digest(
        f"password:{secret}".encode(), password.encode("utf-8", "surrogatepass"), hashlib.sha256
    ).hex()


def invitation(secret: str, user: User, now: dt.datetime) -> str:
    """The path by which somebody sets their own password, once, within INVITED_FOR."""
    token = signing.seal(
        secret, "invitation", user.id, int((now + INVITED_FOR).timestamp()), _print_of(user)
    )
    return f"/invited/{token}"


def invited(session: orm.Session, secret: str, token: str, now: dt.datetime) -> User | None:
    """Whose invitation a token is; None when it has ended, or a password was set since."""
    found = signing.unseal(secret, "invitation", token)
    if found is None or len(found) != 3 or found[1] < now.timestamp():
        return None
    user = session.get(User, found[0])
    return user if user is not None and user.active and _print_of(user) == found[2] else None


def _print_of(user: User) -> int:
    """A number that is another one once the password is."""
    return int.from_bytes(hashlib.sha256(user.password_hash.encode()).digest()[:6], "big")


def accept(
    session: orm.Session,
    now: dt.datetime,
    settings: Settings,
    user: User,
    password: str,
    request_id: str,
) -> None:
    """Sets the password of somebody who was invited. Raises Invalid."""
    user.password_hash = _hashed(
        password, settings.secret, user.email, user.name, settings.organisation
    )
    session.execute(sa.delete(SignIn).where(SignIn.user_id == user.id))
    record(
        session,
        Actor(user.id, user.name, user.role, request_id),
        now,
        "set the password of",
        "colleague",
        user.id,
        user.name,
    )
    telling.tell_always(
        session,
        now,
        user.id,
        "Your password was set",
        "You can sign in with it now. If it was not you who set it, tell an administrator at once.",
        "/sign-in",
    )


def invite_again(session: orm.Session, now: dt.datetime, actor: Actor, user: User) -> None:
    """Ends somebody's password and what they are signed in with; they set a new one by an
    invitation."""
    user.password_hash = f"!{secrets.token_hex(8)}"
    session.execute(sa.delete(SignIn).where(SignIn.user_id == user.id))
    record(session, actor, now, "asked for a new password of", "colleague", user.id, user.name)


def change_user(
    session: orm.Session,
    now: dt.datetime,
    actor: Actor,
    user: User,
    role: str | None = None,
    active: bool | None = None,
) -> None:
    """Gives somebody another role, deactivates them or adds them again; None leaves a thing as it
    is. Being deactivated ends what they are signed in with. Raises Invalid, or Conflict for the
    last administrator.
    """
    if role is not None and role not in ROLES:
        raise Invalid(Wording("A role is one of %(roles)s.", roles=", ".join(ROLES)), "role")
    others = session.scalar(
        sa.select(sa.func.count()).where(User.active, User.role == "admin", User.id != user.id)
    )
    if (
        user.role == "admin"
        and user.active
        and not others
        and (role not in (None, "admin") or active is False)
    ):
        raise Conflict(
            Wording(
                "%(name)s is the only administrator. Make somebody else one first.", name=user.name
            )
        )
    before = {"role": user.role, "active": user.active}
    user.role, user.active = role or user.role, user.active if active is None else active
    if not user.active:
        session.execute(sa.delete(SignIn).where(SignIn.user_id == user.id))
    session.flush()
    record(
        session,
        actor,
        now,
        "changed",
        "colleague",
        user.id,
        user.name,
        **from_to(before, {"role": user.role, "active": user.active}),
    )


def change_password(
    session: orm.Session,
    now: dt.datetime,
    actor: Actor,
    user: User,
    settings: Settings,
    old: str,
    new: str,
    token: str,
    code: str = "",
) -> None:
    """Somebody's own password; every other browser than that of `token` is signed out. Raises
    Invalid, TooMany."""
    prove(session, now, settings, user, old, code, "old")
    if new == old:
        raise Invalid("The new password is the old one.", "new")
    user.password_hash = _hashed(new, settings.secret, user.email, user.name, settings.organisation)
    session.execute(
        sa.delete(SignIn).where(SignIn.user_id == user.id, SignIn.token_hash != token_hash(token))
    )
    session.flush()
    record(session, actor, now, "changed the password of", "colleague", user.id, user.name)
    telling.tell_always(
        session,
        now,
        user.id,
        "Your password was changed",
        "Your password was changed, and every other browser was signed "
        "out. If that was not you, ask an administrator for a new one at once.",
        "/password",
    )


@dataclasses.dataclass(frozen=True)
class Entry:
    """Somebody gave the right password: whose it is, the token for the cookie, and whether a code
    is still asked for."""

    user: User
    token: str
    halfway: bool


def sign_in(
    session: orm.Session,
    now: dt.datetime,
    email: str,
    password: str,
    place: str,
    known: str = "",
    secret: str = "",
) -> Entry | None:
    """Lets somebody in, or halfway where they have a second step; None when address or password are
    wrong. `known` is what `known_browser` gave this browser before. Raises TooMany."""
    key = values.email_key(email)[:200]
    user = session.scalar(sa.select(User).where(User.email == key, User.active))
    browser = _browser(secret, user, known) if user else None
    attempt = attempts.begin(session, now, attempts.sign_in_limits(key, place, browser))
    if not _matches(user, password, secret) or user is None:
        return None
    attempts.forgive(session, attempt)
    if not user.password_hash.startswith(_PEPPERED) and secret:
        user.password_hash = _PEPPERED + hasher.hash(_peppered(password, secret))
    halfway = user.second_step is not None
    return Entry(user, _enter(session, now, user, halfway, place), halfway)


def _matches(user: User | None, password: str, secret: str) -> bool:
    """Whether a password is somebody's. It takes as long where there is nobody, or no password
    yet."""
    kept = user.password_hash if user else ""
    given = _peppered(password, secret) if kept.startswith(_PEPPERED) else password
    bare = kept.removeprefix(_PEPPERED)
    try:
        return hasher.verify(
            bare if bare.startswith("$argon2") else _NOBODY, given
        ) and bare.startswith("$argon2")
    except argon2.exceptions.VerificationError:
        return False


def _enter(session: orm.Session, now: dt.datetime, user: User, halfway: bool, place: str) -> str:
    token = secrets.token_urlsafe(32)
    session.add(
        SignIn(
            token_hash=token_hash(token),
            user_id=user.id,
            started_at=now,
            seen_at=now,
            halfway=halfway,
            place=place,
            expires_at=now + (HALFWAY if halfway else LASTS),
        )
    )
    session.flush()
    return token


def halfway(session: orm.Session, now: dt.datetime, token: str) -> User | None:
    """Who gave the right password and is asked for a code now."""
    return session.scalar(
        sa.select(User)
        .join(SignIn, SignIn.user_id == User.id)
        .where(
            SignIn.token_hash == token_hash(token),
            SignIn.expires_at > now,
            SignIn.halfway,
            User.active,
        )
    )


def finish(
    session: orm.Session,
    now: dt.datetime,
    settings: Settings,
    user: User,
    token: str,
    code: str,
    place: str,
) -> str | None:
    """The token of somebody who was halfway in and gives the right code; None for a wrong one.
    Raises TooMany."""
    attempt = attempts.begin(session, now, [attempts.Limit(f"code:{user.id}", attempts.OF_OWN)])
    if not second_step.is_right(session, now, user, settings, code):
        if second_step.was_used(now, user, settings, code):
            telling.tell_always(
                session,
                now,
                user.id,
                "A code of your app was used twice",
                "Somebody who knows your password tried a code again that you had used. If that "
                "was not you, change your password.",
                "/password",
            )
        return None
    attempts.forgive(session, attempt)
    sign_out(session, token)
    return _enter(session, now, user, False, place)


def prove(
    session: orm.Session,
    now: dt.datetime,
    settings: Settings,
    user: User,
    password: str,
    code: str = "",
    where: str = "password",
) -> None:
    """Asks somebody who is signed in for their password once more, and for a code where they have a
    second step: before what a browser left alone must not do. Raises Invalid, TooMany."""
    attempt = attempts.begin(session, now, [attempts.Limit(f"own:{user.id}", attempts.OF_OWN)])
    if not _matches(user, password, settings.secret):
        raise Invalid("That is not your password.", where)
    if user.second_step and not second_step.is_right(session, now, user, settings, code):
        raise Invalid("That code is not right, or was used already. Type the newest one.", "code")
    attempts.forgive(session, attempt)


def reset_second_step(session: orm.Session, now: dt.datetime, actor: Actor, user: User) -> None:
    """Turns the second step of a colleague off who has lost their app and their codes. They are
    signed out. Raises Conflict."""
    if user.id == actor.user_id:
        raise Conflict("Your own second step is turned off under your name, with its code.")
    second_step.turn_off(session, now, actor, user)
    session.execute(sa.delete(SignIn).where(SignIn.user_id == user.id))
    telling.tell_always(
        session,
        now,
        user.id,
        "Your sign-in asks for no code any more",
        f"{actor.name} turned your second step off. If you did not ask for that, tell them.",
        "/password",
    )


def known_browser(secret: str, user: User) -> str:
    """What a browser keeps to be known as one that its owner has used: worth nothing without the
    password, and nothing after that is changed."""
    nonce = secrets.token_urlsafe(12)
    return f"{user.id}.{nonce}.{_browser_sign(secret, user, nonce)}"


def _browser_sign(secret: str, user: User, nonce: str) -> str:
    return signing.sign_text(secret, "browser", f"{user.id}.{nonce}.{user.password_hash}")


def _browser(secret: str, user: User, known: str) -> str | None:
    """The mark of a browser that a user has used before, else None."""
    ident, _, rest = known.partition(".")
    nonce, _, sign = rest.partition(".")
    if ident != str(user.id) or not signing.check_text(
        secret, "browser", f"{user.id}.{nonce}.{user.password_hash}", sign
    ):
        return None
    return f"{ident}.{nonce}"


def token_hash(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def sign_ins(session: orm.Session, now: dt.datetime, user: User) -> list[SignIn]:
    """The browsers that somebody is signed in with, the newest first."""
    return list(
        session.scalars(
            sa.select(SignIn)
            .where(SignIn.user_id == user.id, SignIn.expires_at > now, ~SignIn.halfway)
            .order_by(SignIn.started_at.desc())
        )
    )


def sign_out_one(
    session: orm.Session, now: dt.datetime, actor: Actor, user: User, hashed: str
) -> None:
    """Signs one browser of somebody out, by the hash of its token."""
    session.execute(sa.delete(SignIn).where(SignIn.user_id == user.id, SignIn.token_hash == hashed))
    record(session, actor, now, "signed out a browser of", "colleague", user.id, user.name)


def sign_out_others(
    session: orm.Session, now: dt.datetime, actor: Actor, user: User, hashed: str
) -> None:
    """Signs every browser of somebody out but the one of a token's hash."""
    session.execute(sa.delete(SignIn).where(SignIn.user_id == user.id, SignIn.token_hash != hashed))
    record(session, actor, now, "signed out other browsers of", "colleague", user.id, user.name)


def signed_in(
    session: orm.Session, now: dt.datetime, token: str, idle: dt.timedelta, used: bool = True
) -> User | None:
    """Whose sign-in a cookie's token is; None where it has ended, by its time or because nobody
    used it. What a page asks by itself is not `used`."""
    row = session.execute(
        sa.select(User, SignIn.seen_at)
        .join(SignIn, SignIn.user_id == User.id)
        .where(
            SignIn.token_hash == token_hash(token),
            SignIn.expires_at > now,
            SignIn.seen_at > now - idle,
            ~SignIn.halfway,
            User.active,
        )
    ).one_or_none()
    if row is None:
        return None
    if used and row.seen_at < now - _SEEN:
        session.execute(
            sa.update(SignIn).where(SignIn.token_hash == token_hash(token)).values(seen_at=now)
        )
    return row.User  # type: ignore[no-any-return]


def cookie(settings: Settings) -> str:
    """The name of the cookie that holds a sign-in; by https one that no other host or path can
    set."""
    return f"__Host-{COOKIE}" if settings.cookie_secure else COOKIE


def sign_out(session: orm.Session, token: str) -> None:
    session.execute(sa.delete(SignIn).where(SignIn.token_hash == token_hash(token)))


def may(actor: Actor, role: str) -> bool:
    """Whether the actor's role reaches `role`."""
    return ROLES.index(actor.role) >= ROLES.index(role)


def require(actor: Actor, role: str) -> None:
    """Raises NotAllowed when the actor's role does not reach `role`."""
    if not may(actor, role):
        raise NotAllowed(
            Wording(
                "This needs the role “%(role)s”; yours is “%(role_2)s”. Ask an administrator.",
                role=role,
                role_2=actor.role,
            )
        )


def people_who(session: orm.Session, role: str) -> list[User]:
    """Everyone who may sign in and whose role reaches `role`, by name."""
    enough = ROLES[ROLES.index(role) :]
    return list(
        session.scalars(
            sa.select(User).where(User.active, User.role.in_(enough)).order_by(User.name)
        )
    )


def known_to_all(session: orm.Session, secret: str) -> list[str]:
    """The addresses of those who may sign in with the demo's password."""
    users = session.scalars(
        sa.select(User)
        .where(User.active, User.email.endswith(f"@{DEMO_DOMAIN}"))
        .order_by(User.email)
    )
    return [user.email for user in users if _matches(user, DEMO_PASSWORD, secret)]


def everyone(session: orm.Session) -> list[tuple[User, dt.datetime | None]]:
    """Everyone who may or might sign in, those who may first, by name, each with when they did
    last."""
    last = (
        sa.select(SignIn.user_id, sa.func.max(SignIn.started_at).label("at"))
        .group_by(SignIn.user_id)
        .subquery()
    )
    return [
        (user, at)
        for user, at in session.execute(
            sa.select(User, last.c.at)
            .outerjoin(last, last.c.user_id == User.id)
            .order_by(User.active.desc(), User.name)
        )
    ]
