"""How a push notification leaves: encrypted for each browser and handed to the push service it
named (RFC 8030, RFC 8291, RFC 8292); for phones as JSON to the gateway that the settings name."""

import dataclasses
import itertools
import json
from collections.abc import Callable, Iterable, Iterator, Sequence

from meadowrun.base.settings import Settings
from meadowrun.core import webpush
from meadowrun.gateways import answers, outgoing
from meadowrun.gateways.handing import Begin, Handed, all_may_go

#: Stands for the answer of an address that may not be asked.
_REFUSED = -1


@dataclasses.dataclass(frozen=True, slots=True)
class Device:
    id: int
    endpoint: str
    p256dh: str
    auth: str
    #: web, android or ios
    kind: str = "web"


@dataclasses.dataclass(frozen=True, slots=True)
class Notification:
    """One push notification for all devices of a person. `key` is the delivery's token; a service
    replaces what waits under the same topic."""

    key: str
    contact_id: int
    devices: tuple[Device, ...]
    payload: bytes
    ttl: int


class PushGateway:
    """Hands push notifications to push services. `gone` is told of a device that took its
    permission back.

    Phones: POST <url>/notifications {id, to, system, ttl, notification}: 202 taken, 404 or 410 the
    app is gone, 5xx come again later; the gateway shows what comes twice under one id once.
    """

    #: one request for each device, one after another; few, so that few are in doubt when a worker
    #: dies
    at_once = 5
    can_be_asked = False

    def __init__(
        self, settings: Settings, now: float, gone: Callable[[int], None], timeout: float = 10.0
    ):
        self.key, self.now, self.gone, self.timeout = (
            webpush.vapid_key(settings.secret),
            now,
            gone,
            timeout,
        )
        self.contact = f"mailto:postmaster@{settings.mail_domain}"
        self.phones, self.inner = settings.push_url, settings.inner

    def hand_over(
        self, messages: Iterable[Notification], begin: Begin = all_may_go
    ) -> Iterator[Handed]:
        """Delivered when the service of at least one device took it; bounced when all are gone.
        Never raises for one service being away: that person is asked again later."""
        notifications = iter(messages)
        while group := list(itertools.islice(notifications, self.at_once)):
            yield from self._group(begin(group))

    def _group(self, notifications: Sequence[Notification]) -> Iterator[Handed]:
        for notification in notifications:
            if not notification.devices:
                yield Handed(
                    notification.contact_id, "no_address", "no device of the systems this is for"
                )
                continue
            said = [self._one(notification, device) for device in notification.devices]
            outcome = next(
                (o for o in ("delivered", "deferred") if any(a[0] == o for a in said)), "bounced"
            )
            yield Handed(
                notification.contact_id, outcome, "; ".join(words for _, words in said)[:300]
            )

    def _one(self, notification: Notification, device: Device) -> tuple[str, str]:
        if device.kind != "web":
            return self._phone(notification, device)
        try:
            body = webpush.encrypt(notification.payload, device.p256dh, device.auth)
        except webpush.PushProblem as problem:
            return "bounced", str(problem)
        # RFC 8030, 5.4: under one topic of at most 32 signs, what waits is replaced: handed over
        # twice, it is shown once.
        return self._said(
            device,
            *self._service(
                device.endpoint,
                body,
                {
                    "Content-Encoding": "aes128gcm",
                    "Content-Type": "application/octet-stream",
                    "TTL": str(notification.ttl),
                    "Urgency": "normal",
                    "Topic": notification.key[:32],
                    "Authorization": webpush.authorization(
                        self.key, device.endpoint, self.contact, self.now
                    ),
                },
            ),
        )

    def _service(self, endpoint: str, body: bytes, headers: dict[str, str]) -> tuple[int, str]:
        """A push service's answer; 0 where there is none. A browser named its address, so it is
        asked with care."""
        try:
            answer = outgoing.ask("POST", endpoint, body, headers, self.timeout, self.inner)
        except outgoing.Refused as problem:
            return _REFUSED, str(problem)
        except OSError as problem:
            return 0, f"no answer: {problem}"
        return answer.status, answer.reason

    def _phone(self, notification: Notification, device: Device) -> tuple[str, str]:
        if self.phones.startswith("null:"):
            return "bounced", "no gateway for phones is set; MEADOWRUN_PUSH_URL names one"
        body = {
            "id": f"{notification.key}-{device.id}",
            "to": device.endpoint,
            "system": device.kind,
            "ttl": notification.ttl,
            "notification": json.loads(notification.payload),
        }
        try:
            # The settings name this gateway.
            answer = outgoing.ask(
                "POST",
                f"{self.phones}/notifications",
                json.dumps(body).encode(),
                {"Content-Type": "application/json"},
                self.timeout,
                self.inner | outgoing.machine_of(self.phones),
            )
        except (OSError, outgoing.Refused) as problem:
            return self._said(device, 0, f"no answer: {problem}")
        return self._said(device, answer.status, answer.reason)

    def _said(self, device: Device, code: int, words: str) -> tuple[str, str]:
        """What an answer means for a device."""
        if 200 <= code < 300:
            return "delivered", f"{code} taken"
        # A push service says 404 or 410 of a browser that is gone (RFC 8030, 7.3); our gateway says
        # 410 of an app, since a
        # gateway that is not where the settings say answers 404 to everything, and no device is
        # forgotten for that. A device at an
        # address that may not be asked is never asked again either.
        if code in (410, _REFUSED) or code == 404 and device.kind == "web":
            self.gone(device.id)
            return (
                "bounced",
                words
                if code == _REFUSED
                else f"{code} the {'browser' if device.kind == 'web' else 'app'} is gone",
            )
        later = (
            not code
            or answers.is_for_later(code)
            or device.kind != "web"
            and answers.is_about_us(code)
        )
        return ("deferred" if later else "bounced"), f"{code} {words}" if code else words

    def took(self, ids: Sequence[str]) -> dict[str, bool]:
        """Push services cannot be asked."""
        return {}
