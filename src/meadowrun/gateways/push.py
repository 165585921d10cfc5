"""How a push notice leaves: encrypted for each browser and handed to the push service it named (RFC 8030, RFC 8291, RFC 8292)."""

import dataclasses
import urllib.error
import urllib.request
from collections.abc import Callable, Iterable, Iterator, Sequence

from meadowrun.base.settings import Settings
from meadowrun.core import webpush
from meadowrun.gateways.email import Handed


@dataclasses.dataclass(frozen=True, slots=True)
class Device:
    id: int
    endpoint: str
    p256dh: str
    auth: str


@dataclasses.dataclass(frozen=True, slots=True)
class Notice:
    """One notice for all browsers of a person. `key` is the delivery's token; a service replaces what waits under the same topic."""

    key: str
    contact_id: int
    devices: tuple[Device, ...]
    payload: bytes
    ttl: int


class WebPushGateway:
    """Hands notices to push services. `gone` is told of a browser that took its permission back."""

    def __init__(self, settings: Settings, now: float, gone: Callable[[int], None], timeout: float = 10.0):
        self.key, self.now, self.gone, self.timeout = webpush.vapid_key(settings.secret), now, gone, timeout
        self.contact = f"mailto:postmaster@{settings.mail_domain}"

    def hand_over(self, notices: Iterable[Notice]) -> Iterator[Handed]:
        """Delivered when at least one browser's service took it; bounced when all are gone. Never raises for
        one service being away: that person is asked again later."""
        for notice in notices:
            said = [self._one(notice, device) for device in notice.devices]
            outcome = next((o for o in ("delivered", "deferred") if any(a[0] == o for a in said)), "bounced")
            yield Handed(notice.contact_id, outcome, "; ".join(words for _, words in said)[:300])

    def _one(self, notice: Notice, device: Device) -> tuple[str, str]:
        try:
            body = webpush.encrypt(notice.payload, device.p256dh, device.auth)
        except webpush.PushProblem as problem:
            return "bounced", str(problem)
        # RFC 8030, 5.4: under one topic of at most 32 signs, what waits is replaced: handed over twice, it is shown once.
        headers = {"Content-Encoding": "aes128gcm", "Content-Type": "application/octet-stream", "TTL": str(notice.ttl), "Urgency": "normal",
                   "Topic": notice.key[:32], "Authorization": webpush.authorization(self.key, device.endpoint, self.contact, self.now)}
        try:
            with urllib.request.urlopen(urllib.request.Request(device.endpoint, body, headers), timeout=self.timeout) as answer:
                return "delivered", f"{answer.status} taken"
        except urllib.error.HTTPError as problem:
            if problem.code in (404, 410):
                self.gone(device.id)
                return "bounced", f"{problem.code} the browser is gone"
            return ("deferred" if problem.code == 429 or problem.code >= 500 else "bounced"), f"{problem.code} {problem.reason}"
        except OSError as problem:
            return "deferred", f"no answer: {problem}"

    def took(self, keys: Sequence[str]) -> dict[str, bool]:
        """Push services cannot be asked."""
        return {}


