"""The second step of signing in: codes of an app (TOTP, RFC 6238), and recovery codes for when the
app is lost."""

import base64
import datetime as dt
import hashlib
import hmac
import re
import secrets

import pyotp
import segno
import sqlalchemy as sa
from cryptography.fernet import Fernet, InvalidToken
from sqlalchemy import orm

from meadowrun.base.audit import Actor, record
from meadowrun.base.db import rows_changed
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.base.settings import Settings
from meadowrun.shell.models import ROLES, RecoveryCode, SignIn, User

#: How many recovery codes somebody gets, of so many signs each: 50 bits, and a limit on guessing.
CODES, _LENGTH = 10, 10
_SIGNS = "23456789abcdefghjkmnpqrstuvwxyz"
_SECRET = re.compile(r"[A-Z2-7]{32}")
#: The clock of a phone may be off by so many steps of 30 seconds.
_OFF_BY = 1


def required(settings: Settings, user: User) -> bool:
    """Whether somebody of this role has to have a second step."""
    if settings.second_step == "everybody":
        return True
    return settings.second_step == "admin" and user.role == ROLES[-1]


def new_secret() -> str:
    return pyotp.random_base32(32)


def address(user: User, organisation: str, secret: str) -> str:
    """What an app reads out of the picture (otpauth:)."""
    return pyotp.TOTP(secret).provisioning_uri(
        name=user.email, issuer_name=f"Meadowrun {organisation}"
    )


def picture(user: User, organisation: str, secret: str) -> str:
    """The same as a picture for the camera: a QR code as SVG."""
    made: str = segno.make(address(user, organisation, secret), error="m").svg_inline(
        scale=4, border=2, dark="#23312a", light="#ffffff"
    )
    return made


def set_up(
    session: orm.Session,
    now: dt.datetime,
    actor: Actor,
    user: User,
    settings: Settings,
    secret: str,
    code: str,
    keep: str,
) -> list[str]:
    """Begins the second step of somebody whose app shows `code`; gives the recovery codes, which
    nobody can show again. Every other browser than that of the token hash `keep` is signed out.
    Raises Invalid, Conflict."""
    if user.second_step:
        raise Conflict("You have a second step already. Turn it off first.")
    if not _SECRET.fullmatch(secret):
        raise Invalid("Start again: this page was open for too long.", "secret")
    step = _step_of(secret, code, now, None)
    if step is None:
        raise Invalid(
            "The app shows another code by now, or its clock is wrong. Type the newest one.", "code"
        )
    user.second_step, user.second_step_used = (
        _cipher(settings).encrypt(secret.encode()).decode(),
        step,
    )
    session.execute(sa.delete(SignIn).where(SignIn.user_id == user.id, SignIn.token_hash != keep))
    record(session, actor, now, "set up the second step of", "colleague", user.id, user.name)
    return new_codes(session, user, settings)


def new_codes(session: orm.Session, user: User, settings: Settings) -> list[str]:
    """Fresh recovery codes in place of those before."""
    session.execute(sa.delete(RecoveryCode).where(RecoveryCode.user_id == user.id))
    codes = ["".join(secrets.choice(_SIGNS) for _ in range(_LENGTH)) for _ in range(CODES)]
    session.add_all(
        RecoveryCode(user_id=user.id, code_hash=_hash(settings, user.id, code)) for code in codes
    )
    session.flush()
    return [f"{code[:5]}-{code[5:]}" for code in codes]


def left(session: orm.Session, user: User) -> int:
    """How many recovery codes somebody has left."""
    return session.scalar(sa.select(sa.func.count()).where(RecoveryCode.user_id == user.id)) or 0


def turn_off(session: orm.Session, now: dt.datetime, actor: Actor, user: User) -> None:
    """Ends somebody's second step, with its recovery codes."""
    user.second_step, user.second_step_used = None, None
    session.execute(sa.delete(RecoveryCode).where(RecoveryCode.user_id == user.id))
    record(session, actor, now, "turned off the second step of", "colleague", user.id, user.name)


def is_right(
    session: orm.Session, now: dt.datetime, user: User, settings: Settings, code: str
) -> bool:
    """Whether a code is of somebody's app and was not used before, or is a recovery code, which is
    used up by this."""
    code = "".join(code.lower().split()).replace("-", "")
    if code.isdecimal() and len(code) == 6:
        step = _step_of(_secret_of(user, settings), code, now, user.second_step_used)
        if step is None:
            return False
        # Somebody who looked on, or another window at the same moment, must not come in by the same
        # code.
        used = session.execute(
            sa.update(User)
            .where(User.id == user.id, sa.func.coalesce(User.second_step_used, 0) < step)
            .values(second_step_used=step)
        )
        return bool(rows_changed(used))
    used = session.execute(
        sa.delete(RecoveryCode).where(
            RecoveryCode.user_id == user.id,
            RecoveryCode.code_hash == _hash(settings, user.id, code),
        )
    )
    return bool(rows_changed(used))


def was_used(now: dt.datetime, user: User, settings: Settings, code: str) -> bool:
    """Whether a code is one that somebody's app shows about now, and that was used before."""
    code = "".join(code.split())
    return (
        code.isdecimal()
        and len(code) == 6
        and _step_of(_secret_of(user, settings), code, now, None) is not None
    )


def _secret_of(user: User, settings: Settings) -> str:
    """The secret of somebody's app; empty, of which no code is, where the installation's secret has
    been changed since."""
    try:
        return _cipher(settings).decrypt((user.second_step or "").encode()).decode()
    except InvalidToken:
        return ""


def _step_of(secret: str, code: str, now: dt.datetime, after: int | None) -> int | None:
    """The number of the 30 seconds that a code is of (RFC 6238), later than `after`; None where it
    is of none."""
    if not secret:
        return None
    totp = pyotp.TOTP(secret)
    here = int(now.timestamp()) // totp.interval
    code = "".join(code.split())
    return next(
        (
            step
            for step in range(here - _OFF_BY, here + _OFF_BY + 1)
            if (after is None or step > after)
            and hmac.compare_digest(totp.generate_otp(step).encode(), code.encode())
        ),
        None,
    )


def _cipher(settings: Settings) -> Fernet:
    # A leaked table alone makes no codes.
    return Fernet(
        base64.urlsafe_b64encode(
            hmac.digest(settings.secret.encode(), b"second step", hashlib.sha256)
        )
    )


def _hash(settings: Settings, user_id: int, code: str) -> str:
    return hmac.digest(
        f"recovery:{settings.secret}".encode(),
        f"{user_id}:{code}".encode("utf-8", "surrogatepass"),
        hashlib.sha256,
    ).hex()
