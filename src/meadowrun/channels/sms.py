"""Text messages: by a gateway over HTTP, to the contact's number."""

import re
from collections.abc import Sequence
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import signing
from meadowrun.base.errors import Invalid
from meadowrun.channels.hand import Hand, Reader, Signs
from meadowrun.channels.proof import Copy, Prover, typed
from meadowrun.core.channels.sms import KIND
from meadowrun.core.content.rendering import Rendered
from meadowrun.core.language import Wording
from meadowrun.gateways import sms
from meadowrun.gateways.channels import Channel
from meadowrun.gateways.handing import Gateway
from meadowrun.people.queries import NUMBER

FACTS = f"""
SELECT c.id, c.phone IS NOT NULL AS has_address, {NUMBER} ~ '^[+][0-9]{{{{8,15}}}}$' AS
address_usable,
       s.address_key IS NOT NULL AS suppressed, FALSE AS bounced, {{topic}} AS consent,
       ch.agreed AS channel_consent{{columns}}
FROM contacts c
LEFT JOIN suppressions s ON s.address_key = {NUMBER}
LEFT JOIN consents ch ON ch.contact_id = c.id AND ch.channel = 'sms' AND ch.topic_id = 0
{{join}}"""
CAN = (
    f"{NUMBER} ~ '^[+][0-9]{{{{8,15}}}}$' AND {NUMBER} NOT IN (SELECT s.address_key FROM "
    f"suppressions s) AND {{agreed}}"
)
#: Short codes of people who are about to get a text.
SHORT_CODES = """
INSERT INTO short_codes (code, delivery, contact_id, at) SELECT code, delivery, contact, :now
FROM unnest(CAST(:codes AS text[]), CAST(:numbers AS bigint[]), CAST(:ids AS bigint[])) AS x(code,
delivery, contact)
ON CONFLICT DO NOTHING
"""


class Texts(Hand):
    """Texts, with links as short as they can be."""

    def claimed(self, session: orm.Session, people: Sequence[Reader]) -> None:
        if self.parcel.compiled.short and self.parcel.compiled.links:
            session.execute(
                sa.text(SHORT_CODES),
                {
                    "now": self.parcel.now,
                    "ids": [one.contact_id for one in people],
                    "numbers": [one.number for one in people],
                    "codes": [self._code(one) for one in people],
                },
            )

    def _code(self, reader: Reader) -> str:
        return signing.short(self.parcel.settings.secret, reader.number, reader.contact_id)

    def values(self, reader: Reader) -> dict[str, Any]:
        return {"short": self._code(reader)}

    def make(self, reader: Reader, tokens: signing.Tokens, mail: Rendered, signs: Signs) -> Any:
        return sms.Text(
            tokens["message"],
            reader.contact_id,
            self.parcel.settings.sms_sender,
            reader.address,
            mail.text,
        )


class Proofs(Prover):
    """Proofs to typed numbers."""

    one, several = "number", "numbers"

    def targets(self) -> list[str]:
        numbers = [re.sub(r"[^\d+]", "", one) for one in typed(self.asked.form.get("to", ""))]
        good = all(re.fullmatch(r"\+\d{8,15}", number) for number in numbers)
        if not 1 <= len(numbers) <= 10 or not good:
            raise Invalid("Type one to ten numbers with their country, like +44 1632 960140.", "to")
        return numbers

    def make(self, place: int, key: str, to: str, copy: Copy) -> Any:
        sender = self.asked.settings.sms_sender
        return sms.Text(key, place, sender, to, f"{copy.mark} {copy.mail.text}")

    def gateway(self) -> Gateway:
        return sms.gateway(self.asked.settings)


CHANNEL = Channel(
    kind=KIND,
    facts=FACTS,
    can=CAN,
    concerned="WHERE c.phone IS NOT NULL OR {refused}",
    otherwise="no_address",
    address=NUMBER,
    same_address="c.phone",
    gateway=lambda database, settings, dispatch, now: sms.gateway(settings),
    can_be_asked=lambda settings: True,
    problem=sms.reachable,
    wanted=lambda settings: bool(settings.sms_url),
    setting="MEADOWRUN_SMS_URL",
    there=Wording("the gateway for texts answers"),
    hand=Texts,
    prover=Proofs,
    sent_from=lambda settings: settings.sms_sender,
    steps={"delivered": Wording("Delivered"), "clicked": Wording("Followed a link")},
    by=Wording("by text"),
    one=Wording("the text"),
    a=Wording("a text message"),
    can_be_left=True,
    shown_address="phone",
    concerns=lambda session, contact: bool(contact.phone),
    editor="texting.edit",
)
