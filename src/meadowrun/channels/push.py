"""Push notifications: to every browser and phone that gave permission, each by its own service."""

import datetime as dt
from collections.abc import Mapping, Sequence
from typing import Any

import sqlalchemy as sa

from meadowrun.base import signing
from meadowrun.base.db import Database
from meadowrun.base.errors import Invalid
from meadowrun.base.settings import Settings
from meadowrun.channels.hand import Hand, Parcel, Reader, Signs
from meadowrun.channels.proof import Copy, Prover
from meadowrun.core.channels.push import KIND
from meadowrun.core.content.push import SYSTEMS, payload
from meadowrun.core.content.rendering import Rendered
from meadowrun.core.language import Wording
from meadowrun.gateways import push
from meadowrun.gateways.channels import Channel
from meadowrun.gateways.handing import Gateway
from meadowrun.people.devices import devices_of

FACTS = """
SELECT c.id, EXISTS (SELECT 1 FROM push_devices p WHERE p.contact_id = c.id
AND p.gone_at IS NULL) AS has_address, TRUE AS address_usable,
       FALSE AS suppressed, FALSE AS bounced, {topic} AS consent,
       ch.agreed AS channel_consent{columns}
FROM contacts c
LEFT JOIN consents ch ON ch.contact_id = c.id AND ch.channel = 'push' AND ch.topic_id = 0
{join}"""
CAN = "c.id IN (SELECT p.contact_id FROM push_devices p WHERE p.gone_at IS NULL) AND {agreed}"
#: The devices of some people that gave permission.
DEVICES = """
SELECT contact_id, id, endpoint, p256dh, auth, kind FROM push_devices
WHERE gone_at IS NULL AND contact_id = ANY(:ids) ORDER BY id
"""
#: However soon one expires, all of a send have so much time to leave.
_LEAST_LIFE = dt.timedelta(hours=1)
GONE = "UPDATE push_devices SET gone_at = :now WHERE id = :id"


def _gateway(database: Database, settings: Settings, dispatch: int, now: dt.datetime) -> Gateway:
    def gone(device: int) -> None:
        with database.session() as session:
            session.execute(sa.text(GONE), {"id": device, "now": now})

    return push.PushGateway(settings, now.timestamp(), gone)


class Notifications(Hand):
    """One push notification for all devices of a person."""

    def __init__(self, parcel: Parcel):
        super().__init__(parcel)
        self._devices: dict[int, tuple[push.Device, ...]] = {}

    def ready(self, people: Sequence[Reader]) -> None:
        with self.parcel.database.session() as session:
            for row in session.execute(
                sa.text(DEVICES), {"ids": [one.contact_id for one in people]}
            ):
                self._devices[row[0]] = (*self._devices.get(row[0], ()), push.Device(*row[1:]))

    def make(self, reader: Reader, tokens: signing.Tokens, mail: Rendered, signs: Signs) -> Any:
        given = mail.push or {}
        there = tuple(
            d
            for d in self._devices.get(reader.contact_id, ())
            if d.kind in given.get("systems", SYSTEMS)
        )
        return push.Notification(
            tokens["message"],
            reader.contact_id,
            there,
            payload(mail.subject, mail.text.strip(), given),
            given["ttl"],
        )


class Proofs(Prover):
    """Proofs to the devices of one contact."""

    def targets(self) -> list[str]:
        address = self.asked.form.get("to", "").strip().lower()
        there = devices_of(self.asked.session, address)
        if not self._devices(address):
            systems = " and ".join(SYSTEMS[row.kind] for row in there)
            but = f", save on {systems}, where this one does not go." if there else "."
            raise Invalid(
                Wording(
                    "“%(address)s” has no browser or phone that allows push notifications%(but)s",
                    address=address,
                    but=but,
                ),
                "to",
            )
        return [address]

    def _devices(self, address: str) -> tuple[push.Device, ...]:
        systems = self.asked.message.document["push"]["systems"]
        there = devices_of(self.asked.session, address)
        return tuple(
            push.Device(row.id, row.endpoint, row.p256dh, row.auth, row.kind)
            for row in there
            if row.kind in systems
        )

    def make(self, place: int, key: str, to: str, copy: Copy) -> Any:
        given, settings = dict(copy.mail.push or {}), self.asked.settings
        own = self.asked.message.document["push"]
        if own["tap"] == "page":
            sealed = signing.seal(settings.secret, "proof", own["page"], copy.person)
            given["href"] = f"{settings.public_url}/n/proof/{sealed}"
        body = payload(f"{copy.mark} {copy.mail.subject}", copy.mail.text.strip(), given)
        return push.Notification(key, place, self._devices(to), body, 3600)

    def gateway(self) -> Gateway:
        return push.PushGateway(
            self.asked.settings, self.asked.now.timestamp(), lambda device: None
        )


def _life(document: Mapping[str, Any]) -> dt.timedelta:
    """How long a notification is of use: until the service that shows it would drop it."""
    return max(_LEAST_LIFE, dt.timedelta(seconds=document["push"]["ttl"]))


CHANNEL = Channel(
    kind=KIND,
    facts=FACTS,
    can=CAN,
    concerned="WHERE c.id IN (SELECT p.contact_id FROM push_devices p) OR {refused}",
    otherwise="no_address",
    address="c.id::text",
    same_address="c.id::text",
    gateway=_gateway,
    can_be_asked=lambda settings: False,
    setting="MEADOWRUN_PUSH_URL",
    there=Wording("each device’s own service is asked as it goes"),
    hand=Notifications,
    prover=Proofs,
    steps={"delivered": Wording("Delivered"), "clicked": Wording("Tapped it")},
    by=Wording("as a push notification"),
    one=Wording("the notification"),
    a=Wording("a push notification"),
    life=_life,
    may=Wording("all of them who allow push notifications"),
    editor="notifications.edit",
)
