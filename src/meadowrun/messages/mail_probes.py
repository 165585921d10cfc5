"""Whether email is set up: what each domain publishes about who may send for it. The mail server is
tried as the gateway of its channel."""

from collections.abc import Iterator

from sqlalchemy import orm

from meadowrun.base.manifest import Probe, Tried
from meadowrun.base.settings import Settings
from meadowrun.core import dkim
from meadowrun.core.channels import KINDS
from meadowrun.core.language import Wording
from meadowrun.gateways import smtp
from meadowrun.gateways.dns import Resolver
from meadowrun.messages.mail_keys import MailKey, domains, is_readable, keys_of

_EMAIL = KINDS["email"].several
_KEYS = "/mail-domains"


def probes(session: orm.Session, settings: Settings) -> Iterator[Probe]:
    """What can be tried about email."""
    if settings.smtp_url_2:
        yield _second(settings)
    yield _postal_address(settings)
    yield _mx(settings)
    yield _spf(settings)
    for domain in domains(session):
        signing = [one for one in keys_of(session, domain) if one.state == "signing"]
        yield _dkim(settings, domain, signing)
        yield _dmarc(settings, domain)


def _second(settings: Settings) -> Probe:
    return Probe(
        key="gateway:email:2",
        area=_EMAIL,
        name=Wording("The second mail server answers"),
        fix=Wording("Set MEADOWRUN_SMTP_URL_2, and see that it can be reached from here."),
        run=lambda: smtp.look_at_second(settings),
    )


def _postal_address(settings: Settings) -> Probe:
    address = settings.postal_address
    return Probe(
        key="postal",
        area=_EMAIL,
        name=Wording("Your postal address, which many countries ask for in each email"),
        fix=Wording(
            "Whoever runs the server sets MEADOWRUN_POSTAL_ADDRESS and starts Meadowrun again."
        ),
        run=lambda: Tried(bool(address), address or Wording("it is not known")),
    )


def _mx(settings: Settings) -> Probe:
    def run() -> Tried:
        found = Resolver(settings).mail_servers(settings.mail_domain)
        if not found:
            return Tried(False, Wording("no server accepts email for it"))
        return Tried(True, Wording("taken by %(host)s", host=found[0]))

    return Probe(
        key=f"mx:{settings.mail_domain}",
        area=_EMAIL,
        name=Wording("Bounces come back to %(domain)s", domain=settings.mail_domain),
        fix=Wording(
            "Publish an MX record of %(domain)s that names the machine on which "
            "“meadowrun inbound” listens.",
            domain=settings.mail_domain,
        ),
        run=run,
    )


def _spf(settings: Settings) -> Probe:
    domain, host = settings.mail_domain, smtp.host_of(settings)
    wanted = f"v=spf1 {'ip4' if host.replace('.', '').isdigit() else 'a'}:{host} -all"

    def run() -> Tried:
        found = Resolver(settings).texts(domain)
        records = [text for text in found if text.lower().split()[:1] == ["v=spf1"]]
        if not records:
            return Tried(False, Wording("no SPF record is published"))
        if len(records) > 1:
            # RFC 7208, 4.5: two are an error for whoever reads them.
            return Tried(False, Wording("two SPF records are published; only one may be"))
        return Tried(True, records[0])

    return Probe(
        key=f"spf:{domain}",
        area=_EMAIL,
        name=Wording("SPF of %(domain)s: which machines send for it", domain=domain),
        fix=Wording(
            "Publish as TXT of %(domain)s, naming the servers that send your emails, such as: "
            "%(record)s",
            domain=domain,
            record=wanted,
        ),
        run=run,
    )


def _dkim(settings: Settings, domain: str, signing: list[MailKey]) -> Probe:
    def run() -> Tried:
        if not signing:
            return Tried(False, Wording("emails are not signed"))
        for key in signing:
            if not is_readable(key, settings):
                said = Wording("%(key)s cannot be read: the secret changed", key=key.selector)
                return Tried(False, said)
            found = Resolver(settings).texts(key.host)
            if not any(dkim.same_key(text, key.record) for text in found):
                return Tried(
                    False,
                    Wording("%(host)s does not publish the key", host=key.host)
                    if not found
                    else Wording("%(host)s publishes another key", host=key.host),
                )
        names = ", ".join(key.selector for key in signing)
        return Tried(True, Wording("signed with %(keys)s, as published", keys=names))

    return Probe(
        key=f"dkim:{domain}",
        area=_EMAIL,
        name=Wording("DKIM of %(domain)s: emails are signed", domain=domain),
        fix=Wording("Make keys, publish their records, and use them."),
        to=_KEYS,
        run=run,
    )


def _dmarc(settings: Settings, domain: str) -> Probe:
    def run() -> Tried:
        for name in _above(domain):
            found = Resolver(settings).texts(f"_dmarc.{name}")
            records = [text for text in found if dkim.tags(text).get("v") == "DMARC1"]
            if records:
                return Tried(True, records[0])
        return Tried(False, Wording("no DMARC record is published"))

    return Probe(
        key=f"dmarc:{domain}",
        area=_EMAIL,
        name=Wording("DMARC of %(domain)s: what becomes of forged emails", domain=domain),
        fix=Wording(
            "Publish as TXT of _dmarc.%(domain)s: v=DMARC1; p=none; "
            "rua=mailto:postmaster@%(domain)s – and “quarantine” or “reject” once the reports are "
            "clean.",
            domain=domain,
        ),
        run=run,
    )


def _above(domain: str) -> list[str]:
    """A domain and those above it that can hold its policy (RFC 7489, 6.6.3), the nearest first."""
    parts = domain.split(".")
    return [".".join(parts[place:]) for place in range(max(1, len(parts) - 1))]
