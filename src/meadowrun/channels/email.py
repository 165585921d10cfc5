"""Email: by SMTP, to the address of the contact."""

from typing import Any

import sqlalchemy as sa

from meadowrun.base import signing
from meadowrun.base.db import Database
from meadowrun.base.errors import Invalid
from meadowrun.base.settings import Settings
from meadowrun.channels.hand import Hand, Reader, Signs
from meadowrun.channels.proof import Copy, Prover, typed
from meadowrun.core import values
from meadowrun.core.channels.email import KIND
from meadowrun.core.content.rendering import Rendered
from meadowrun.core.language import Wording
from meadowrun.gateways import smtp
from meadowrun.gateways.channels import Channel
from meadowrun.gateways.email import Letter
from meadowrun.gateways.handing import Gateway
from meadowrun.messages import mail_keys, queries
from meadowrun.messages.senders import Sender, senders

#: To so many addresses a proof goes at most.
MOST_PROOFS = 20

#: The address or its domain may be suppressed.
FACTS = """
SELECT c.id, c.email IS NOT NULL AS has_address, c.email_usable AS address_usable,
       s.address_key IS NOT NULL OR sd.address_key IS NOT NULL AS suppressed,
       c.bounced_at IS NOT NULL AS bounced, {topic} AS consent,
       ch.agreed AS channel_consent{columns}
FROM contacts c
LEFT JOIN suppressions s ON s.address_key = c.email_key
LEFT JOIN suppressions sd ON sd.address_key = '@' || split_part(c.email_key, '@', 2)
LEFT JOIN consents ch ON ch.contact_id = c.id AND ch.channel = 'email' AND ch.topic_id = 0
{join}"""
#: The mail server that the sender of a dispatch goes by first.
ROUTE = """
SELECT s.route FROM dispatches d JOIN senders s ON s.id = d.sender_id WHERE d.id = :dispatch
"""
CAN = """c.email IS NOT NULL AND c.email_usable AND c.bounced_at IS NULL
AND (c.email_key IN (SELECT s.address_key FROM suppressions s)
OR '@' || split_part(c.email_key, '@', 2) IN
    (SELECT s.address_key FROM suppressions s WHERE s.address_key LIKE '@%')) IS NOT TRUE
    AND {agreed}"""


def _route(database: Database, dispatch: int) -> str:
    """The mail server by which a dispatch goes first."""
    with database.session() as session:
        return session.execute(sa.text(ROUTE), {"dispatch": dispatch}).scalar() or "first"


def _message_id(settings: Settings, key: str) -> str:
    """The Message-ID follows from the delivery's key, so that the gateway can be asked by it."""
    return f"<{key}@{settings.mail_domain}>"


class Letters(Hand):
    """Letters to one person each, with a way out in the header."""

    def make(self, reader: Reader, tokens: signing.Tokens, mail: Rendered, signs: Signs) -> Any:
        settings, key = self.parcel.settings, tokens["message"]
        return Letter(
            key=key,
            contact_id=reader.contact_id,
            from_name=signs.name,
            from_address=signs.address,
            reply_to=(
                f"reply+{key}@{settings.mail_domain}" if self.parcel.takes_mail else signs.reply_to
            ),
            to=reader.address,
            return_path=f"bounce+{tokens['bounce']}@{settings.mail_domain}",
            subject=mail.subject,
            html=mail.html,
            text=mail.text,
            date=self.parcel.now.timestamp(),
            message_id=_message_id(settings, key),
            unsubscribe=f"{settings.public_url}/u/{tokens['leave']}",
            unsubscribe_to=(
                f"leave+{tokens['leave']}@{settings.mail_domain}" if self.parcel.takes_mail else ""
            ),
            list_name=self.parcel.about[0],
            list_id=self.parcel.about[1],
            feedback_id=self.parcel.feedback_id,
        )


class Proofs(Prover):
    """Proofs to typed addresses, and to those who always get them."""

    def targets(self) -> list[str]:
        asked, form = self.asked, self.asked.form
        group = queries.house(asked.session).proof_group if form.get("group") else ""
        addresses = typed(f"{form.get('to', '')},{group}")
        if not addresses:
            raise Invalid("Type at least one address to send the proof to.", "to")
        if len(addresses) > MOST_PROOFS:
            raise Invalid(
                Wording(
                    "A proof goes to at most %(most_proofs)s addresses; for more people, make a "
                    "send.",
                    most_proofs=MOST_PROOFS,
                ),
                "to",
            )
        for address in addresses:
            if problem := values.email_problem(address):
                raise Invalid(f"{problem}.", "to")
        if self._sender() is None:
            raise Invalid("There is no sender yet.", "from")
        return addresses

    def _sender(self) -> Sender | None:
        every = senders(self.asked.session)
        chosen = self.asked.form.get("from")
        return next((one for one in every if str(one.id) == chosen), next(iter(every), None))

    def make(self, place: int, key: str, to: str, copy: Copy) -> Any:
        sender, settings = self._sender(), self.asked.settings
        assert sender is not None
        return Letter(
            key=key,
            contact_id=place,
            from_name=sender.name,
            from_address=sender.address,
            reply_to=sender.reply_to,
            to=to,
            return_path=f"proofs@{settings.mail_domain}",
            subject=f"{copy.mark} {copy.mail.subject}",
            html=copy.mail.html,
            text=copy.mail.text,
            date=self.asked.now.timestamp(),
            message_id=_message_id(settings, key),
        )

    def gateway(self) -> Gateway:
        signer = mail_keys.signer_of(self.asked.session, self.asked.settings)
        sender = self._sender()
        route = sender.route if sender else "first"
        return smtp.gateway(self.asked.settings, signer, route)


CHANNEL = Channel(
    kind=KIND,
    facts=FACTS,
    can=CAN,
    address="c.email",
    same_address="c.email_key",
    gateway=lambda database, settings, dispatch, now: smtp.gateway(
        settings, mail_keys.signer(database, settings), _route(database, dispatch)
    ),
    can_be_asked=smtp.can_be_asked,
    asked_by=_message_id,
    problem=smtp.reachable,
    look=smtp.look,
    setting="MEADOWRUN_SMTP_URL",
    there=Wording("the mail server answers"),
    hand=Letters,
    prover=Proofs,
    signed=True,
    paced=True,
    strikes_off=True,
    steps={
        "delivered": Wording("Delivered"),
        "opened": Wording("Opened"),
        "clicked": Wording("Clicked"),
    },
    one=Wording("the email"),
    a=Wording("an email"),
    can_be_left=True,
    server=Wording("mail server"),
    checked=Wording("Subject, sender, links, fill-ins and the unsubscribe link are in order."),
    editor="messages.edit",
)
