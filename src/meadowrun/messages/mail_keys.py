"""Keys that emails are signed with: made here, published by whoever owns the domain, then used.

A key is new until it signs, and retired once another has taken its place: what was signed with it
may still be on its way, so its record stays published for some days.
"""

import datetime as dt
import functools
from collections.abc import Iterable, Sequence

import sqlalchemy as sa
from cryptography.fernet import InvalidToken
from sqlalchemy import orm

from meadowrun.base import audit
from meadowrun.base.audit import Actor
from meadowrun.base.db import Base, Database, existing
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.base.logs import log
from meadowrun.base.sealing import box
from meadowrun.base.settings import Settings
from meadowrun.core import dkim
from meadowrun.core.language import Wording
from meadowrun.core.values import email_problem
from meadowrun.messages.senders import senders

#: For what the private parts are encrypted.
_PURPOSE = "mail keys"


class MailKey(Base):
    """One key of one domain."""

    __tablename__ = "mail_keys"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    domain: orm.Mapped[str]
    #: under which its record is published: selector._domainkey.domain
    selector: orm.Mapped[str]
    algorithm: orm.Mapped[str] = orm.mapped_column(
        sa.Text, sa.CheckConstraint("algorithm IN ('rsa', 'ed25519')", name="algorithm")
    )
    #: the private part (PEM), encrypted by the installation's secret
    private_key: orm.Mapped[str]
    #: what is to be published
    record: orm.Mapped[str]
    state: orm.Mapped[str] = orm.mapped_column(
        sa.Text, sa.CheckConstraint("state IN ('new', 'signing', 'retired')", name="state")
    )
    made_by: orm.Mapped[str]
    made_at: orm.Mapped[dt.datetime]
    changed_at: orm.Mapped[dt.datetime]
    __table_args__ = (sa.UniqueConstraint("domain", "selector"),)

    @property
    def host(self) -> str:
        """The name under which its record is published."""
        return f"{self.selector}._domainkey.{self.domain}"


def domains(session: orm.Session) -> list[str]:
    """The domains that emails are from, in order."""
    found = {sender.address.rpartition("@")[2].lower() for sender in senders(session)}
    return sorted(found | set(session.scalars(sa.select(MailKey.domain))))


def keys_of(session: orm.Session, domain: str | None = None) -> Sequence[MailKey]:
    """The keys of a domain, or of all, the newest first."""
    asked = sa.select(MailKey).order_by(MailKey.domain, MailKey.id.desc())
    return session.scalars(asked.where(MailKey.domain == domain) if domain else asked).all()


def make(
    session: orm.Session, actor: Actor, now: dt.datetime, settings: Settings, domain: str
) -> list[MailKey]:
    """New keys of a domain, one of each algorithm: the older is read by every server, the newer is
    shorter and safer. Raises Invalid."""
    domain = domain.strip().lower()
    if email_problem(f"postmaster@{domain}"):
        raise Invalid("That is not a domain.", "domain")
    if any(key.state == "new" for key in keys_of(session, domain)):
        raise Conflict("There are new keys already. Use them, or delete them first.")
    taken = {key.selector for key in keys_of(session, domain)}
    found = []
    for algorithm in dkim.ALGORITHMS:
        pem = dkim.made(algorithm)
        key = MailKey(
            domain=domain,
            selector=_free(f"mr{now:%Y%m%d}{algorithm[0]}", taken),
            algorithm=algorithm,
            private_key=box(settings.secret, _PURPOSE).encrypt(pem).decode(),
            record=dkim.record(pem),
            state="new",
            made_by=actor.name,
            made_at=now,
            changed_at=now,
        )
        session.add(key)
        found.append(key)
    session.flush()
    audit.record(session, actor, now, "made the keys of", "mail domain", found[0].id, domain)
    return found


def _free(selector: str, taken: Iterable[str]) -> str:
    """A selector that is not taken."""
    number, name = 1, selector
    while name in set(taken):
        number += 1
        name = f"{selector}{number}"
    return name


def key(session: orm.Session, ident: int) -> MailKey:
    """One key. Raises NotFound."""
    return existing(session, MailKey, ident, "key")


def use(session: orm.Session, actor: Actor, now: dt.datetime, ident: int) -> MailKey:
    """Signs with a key from now on; one of the same algorithm that signed so far retires."""
    found = key(session, ident)
    session.refresh(found, with_for_update=True)
    for other in keys_of(session, found.domain):
        if other.state == "signing" and other.algorithm == found.algorithm:
            other.state, other.changed_at = "retired", now
    found.state, found.changed_at = "signing", now
    session.flush()
    audit.record(session, actor, now, "signs with", "mail key", found.id, found.host)
    return found


def delete(session: orm.Session, actor: Actor, now: dt.datetime, ident: int) -> MailKey:
    """Deletes a key. Raises Conflict for one that signs."""
    found = key(session, ident)
    if found.state == "signing":
        raise Conflict(
            Wording("Emails are signed with %(key)s. Use another key first.", key=found.selector)
        )
    audit.record(session, actor, now, "deleted", "mail key", found.id, found.host)
    session.delete(found)
    return found


@functools.lru_cache(maxsize=64)
def _private(sealed: str, secret: str) -> dkim.Private:
    return dkim.read(box(secret, _PURPOSE).decrypt(sealed.encode()))


def is_readable(key: MailKey, settings: Settings) -> bool:
    """Whether the private part can be read: not once the secret of the installation has changed."""
    try:
        _private(key.private_key, settings.secret)
    except InvalidToken:
        return False
    return True


def signer(database: Database, settings: Settings) -> dkim.Signer:
    """Signs emails with the keys that sign now."""
    with database.session() as session:
        return signer_of(session, settings)


def signer_of(session: orm.Session, settings: Settings) -> dkim.Signer:
    """The same, by a session that is open."""
    rows = session.scalars(sa.select(MailKey).where(MailKey.state == "signing"))
    found: dict[str, list[dkim.Key]] = {}
    for row in rows:
        if not is_readable(row, settings):
            # Emails leave without it: readiness says so.
            log.warning("a key for emails cannot be read", key=row.host)
            continue
        private = _private(row.private_key, settings.secret)
        found.setdefault(row.domain, []).append(dkim.Key(row.domain, row.selector, private))
    return dkim.Signer(found)
