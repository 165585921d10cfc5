"""How often something may be tried that a stranger could guess: passwords and codes.

An attempt is written down before it is judged, so that many at once count as many; one that was
right is taken back.
"""

import dataclasses
import datetime as dt
import hashlib
import ipaddress
from collections.abc import Sequence

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.errors import TooMany
from meadowrun.core.language import Wording
from meadowrun.shell.models import SignInAttempt

WINDOW = dt.timedelta(minutes=10)
#: Wrong attempts within WINDOW: from a browser that its owner has used before; for one address from
#: one place; for one address from all
#: places together (OWASP ASVS 4.0.3, 2.2.1: no more than 100 an hour); from one place, behind which
#: many people may sit.
FROM_KNOWN_BROWSER, FOR_ADDRESS_FROM_PLACE, FOR_ADDRESS, FROM_PLACE = 10, 8, 15, 100
#: Of somebody who is signed in, or has given the right password: their own password once more, or a
#: code.
OF_OWN = 8


@dataclasses.dataclass(frozen=True, order=True)
class Limit:
    """So many attempts within WINDOW under a key."""

    key: str
    most: int


def sign_in_limits(email: str, place: str, browser: str | None) -> list[Limit]:
    """What limits a sign-in for an address: a browser that its owner has used before counts for
    itself, so that strangers who guess keep nobody out."""
    if browser:
        return [Limit(f"browser:{browser}", FROM_KNOWN_BROWSER)]
    where = network(place)
    return [
        Limit(f"pair:{email}|{where}", FOR_ADDRESS_FROM_PLACE),
        Limit(f"address:{email}", FOR_ADDRESS),
        Limit(f"place:{where}", FROM_PLACE),
    ]


def network(place: str) -> str:
    """Where somebody comes from; of IPv6 the network, since its machine has as many addresses as it
    likes."""
    try:
        address = ipaddress.ip_address(place)
    except ValueError:
        return place
    return (
        str(ipaddress.ip_network((address, 64), strict=False))
        if address.version == 6
        else str(address)
    )


def begin(session: orm.Session, now: dt.datetime, limits: Sequence[Limit]) -> list[int]:
    """Writes an attempt down under each key, and commits; its numbers, for `forgive`. Raises
    TooMany where there were enough."""
    session.execute(sa.delete(SignInAttempt).where(SignInAttempt.at < now - WINDOW))
    for limit in sorted(limits):
        # One after the other for one key: two at once would both see the one place that is left.
        number = int.from_bytes(hashlib.sha256(limit.key.encode()).digest()[:8], "big", signed=True)
        session.execute(sa.select(sa.func.pg_advisory_xact_lock(number)))
    for limit in limits:
        moments = list(
            session.scalars(
                sa.select(SignInAttempt.at)
                .where(SignInAttempt.key == limit.key)
                .order_by(SignInAttempt.at.desc())
                .limit(limit.most)
            )
        )
        if len(moments) >= limit.most:
            minutes = max(1, -int((now - moments[-1] - WINDOW).total_seconds() // 60))
            session.commit()
            raise TooMany(
                Wording(
                    "Too many attempts. Wait %(minutes)s minute%(value)s, then try again.",
                    minutes=minutes,
                    value="s" if minutes > 1 else "",
                )
            )
    made = [SignInAttempt(key=limit.key, at=now) for limit in limits]
    session.add_all(made)
    session.flush()
    numbers = [attempt.id for attempt in made]
    session.commit()
    return numbers


def forgive(session: orm.Session, numbers: Sequence[int]) -> None:
    """Takes an attempt back that was right."""
    session.execute(sa.delete(SignInAttempt).where(SignInAttempt.id.in_(numbers)))
