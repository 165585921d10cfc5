"""What a domain publishes: records looked up at a resolver."""

import dns.exception
import dns.resolver

from meadowrun.base.settings import Settings
from meadowrun.core.language import Problem, Wording

#: Seconds after which a resolver is not waited for any more.
_PATIENCE = 4.0


class NoAnswer(Problem):
    """The resolver did not answer."""


class Resolver:
    """Asks the resolver that the settings name, or the machine's own."""

    def __init__(self, settings: Settings):
        self._resolver = dns.resolver.Resolver(configure=settings.dns is None)
        self._resolver.lifetime = self._resolver.timeout = _PATIENCE
        if settings.dns is not None:
            host, port = settings.dns
            self._resolver.nameservers, self._resolver.port = [host], port

    def texts(self, name: str) -> list[str]:
        """The TXT records of a name, each as one text; none where there are none. Raises
        NoAnswer."""
        return [
            b"".join(record.strings).decode(errors="replace") for record in self._ask(name, "TXT")
        ]

    def mail_servers(self, name: str) -> list[str]:
        """The names of the machines that take mail for a domain, the preferred first. Raises
        NoAnswer."""
        found = sorted(self._ask(name, "MX"), key=lambda record: record.preference)
        return [str(record.exchange).rstrip(".") for record in found]

    def _ask(self, name: str, kind: str) -> list:  # type: ignore[type-arg]
        try:
            return list(self._resolver.resolve(name, kind, raise_on_no_answer=False))
        except dns.resolver.NXDOMAIN:
            return []
        except (dns.exception.DNSException, OSError, ValueError) as problem:
            raise NoAnswer(
                Wording(
                    "The name server did not answer about %(name)s: %(problem)s.",
                    name=name,
                    problem=str(problem).rstrip(".") or type(problem).__name__,
                )
            ) from problem
