"""Keys of programs, for the API, and of websites, for our script."""

import datetime as dt
import hashlib
import secrets
from collections.abc import Collection
from urllib.parse import urlsplit

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import signing
from meadowrun.base.audit import Actor, record
from meadowrun.base.clock import machine_now
from meadowrun.base.errors import Invalid
from meadowrun.core.language import Wording
from meadowrun.shell.models import SCOPES, ApiKey


def living(session: orm.Session) -> list[ApiKey]:
    """The keys that still work, oldest first."""
    return list(
        session.scalars(sa.select(ApiKey).where(ApiKey.retired.is_(False)).order_by(ApiKey.id))
    )


def on_website(session: orm.Session, address: str) -> str:
    """The address, where it is a page of a website that carries our script; else nothing."""
    return address if address.startswith(tuple(f"{site}/" for site in websites(session))) else ""


def websites(session: orm.Session) -> list[str]:
    """The addresses of the websites that carry our script."""
    rows = session.execute(
        sa.text(
            "SELECT DISTINCT unnest(origins) FROM api_keys WHERE kind = 'site' AND NOT retired "
            "ORDER BY 1"
        )
    )
    return [row[0] for row in rows]


def key_of(session: orm.Session, key: str, kind: str, now: dt.datetime) -> ApiKey | None:
    """The API key that these characters are, if it is neither retired nor at its end; `now` is on
    the machine's own clock."""
    stored = hash_key(key) if kind == "secret" else key
    return session.scalar(
        sa.select(ApiKey).where(
            ApiKey.key_hash == stored,
            ApiKey.kind == kind,
            ApiKey.retired.is_(False),
            sa.or_(ApiKey.ends_at.is_(None), ApiKey.ends_at > now),
        )
    )


def key_by_token(session: orm.Session, secret: str, token: str, now: dt.datetime) -> ApiKey | None:
    """The API key that a token was given for, if both still work; `now` is on the machine's own
    clock."""
    ident = signing.program_key(secret, token, now)
    key = session.get(ApiKey, ident) if ident is not None else None
    if (
        key is None
        or key.kind != "secret"
        or key.retired
        or key.ends_at is not None
        and key.ends_at <= now
    ):
        return None
    return key


def hash_key(key: str) -> str:
    return hashlib.sha256(key.encode()).hexdigest()


#: How long a key of the API works, by days; 0: until it is deactivated.
LASTS = {
    90: Wording("90 days"),
    365: Wording("a year"),
    730: Wording("two years"),
    0: Wording("until it is deactivated"),
}


def make_key(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    name: str,
    kind: str,
    origins: str,
    may: Collection[str] = tuple(SCOPES),
    days: int = 365,
    direct: bool = False,
) -> tuple[ApiKey, str]:
    """A key for the API ("secret"), of which only the hash is kept, that may do some of SCOPES for
    so many of LASTS' days; or for our script on some websites ("site"), which is public; with the
    key itself. One that is not `direct` is only exchanged for tokens. Raises Invalid naming the
    field."""
    name = " ".join(name.split())
    if not name:
        raise Invalid("Say what the key is for.", "name")
    if kind not in ("secret", "site"):
        raise Invalid("A key is for the API or for a website.", "kind")
    sites = [_origin(text) for text in origins.replace(",", " ").split()] if kind == "site" else []
    if kind == "site" and not sites:
        raise Invalid("Give the address of the website that may use this key.", "origins")
    allowed = [scope for scope in SCOPES if scope in may] if kind == "secret" else []
    if kind == "secret" and not allowed:
        raise Invalid("Tick what the key may do.", "may")
    if days not in LASTS:
        raise Invalid("Choose how long the key works.", "days")
    key = f"{'site' if kind == 'site' else 'key'}_{secrets.token_urlsafe(24)}"
    made = ApiKey(
        name=name,
        kind=kind,
        key_hash=key if kind == "site" else hash_key(key),
        origins=sites,
        created_at=now,
        may=allowed,
        direct=direct,
        ends_at=machine_now() + dt.timedelta(days=days) if days and kind == "secret" else None,
    )
    session.add(made)
    session.flush()
    record(
        session,
        actor,
        now,
        "made the key",
        "key",
        made.id,
        name,
        kind=kind,
        may=allowed,
        days=days,
        direct=direct,
    )
    return made, key


def _origin(text: str) -> str:
    """The part of a website's address that browsers name it by. Raises Invalid."""
    parts = urlsplit(text)
    if parts.scheme not in ("http", "https") or not parts.netloc:
        raise Invalid(
            Wording(
                "“%(text)s” is not the address of a website, like https://www.example.org.",
                text=text,
            ),
            "origins",
        )
    return f"{parts.scheme}://{parts.netloc}"


def retire_key(session: orm.Session, actor: Actor, now: dt.datetime, key: ApiKey) -> ApiKey:
    """Whatever uses the key stops working."""
    key.retired = True
    record(session, actor, now, "retired the key", "key", key.id, key.name)
    return key
