"""In-app messages: made ready with us, and shown when somebody comes to the website."""

import dataclasses
import datetime as dt
from collections.abc import Iterable, Iterator, Sequence
from typing import Any
from urllib.parse import urlsplit

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import signing
from meadowrun.base.db import Database
from meadowrun.base.errors import Invalid
from meadowrun.base.settings import Settings
from meadowrun.channels.hand import Hand, Reader, Signs
from meadowrun.channels.proof import Copy, Prover
from meadowrun.core.channels.in_app import KIND
from meadowrun.core.content.rendering import Rendered
from meadowrun.core.language import Wording
from meadowrun.gateways.channels import Channel
from meadowrun.gateways.handing import WHOLE_BATCH, Begin, Handed, all_may_go
from meadowrun.people.models import Contact
from meadowrun.shell.keys import on_website

#: They wait on the website for anyone who did not say no to them.
FACTS = """
SELECT c.id, TRUE AS has_address, TRUE AS address_usable, FALSE AS suppressed, FALSE AS bounced,
{topic} AS consent,
       coalesce(ch.agreed, TRUE) AS channel_consent{columns}
FROM contacts c
LEFT JOIN consents ch ON ch.contact_id = c.id AND ch.channel = 'in_app' AND ch.topic_id = 0
{join}"""
#: Whether some lie ready for somebody.
ANY_LAID = "SELECT EXISTS (SELECT 1 FROM in_app_places WHERE contact_id = :id)"
LAID = """
INSERT INTO in_app_places (contact_id, dispatch_id, delivery, laid_at) SELECT contact, :dispatch,
delivery, :now
FROM unnest(CAST(:ids AS bigint[]), CAST(:deliveries AS bigint[])) AS x(contact,
delivery) ON CONFLICT DO NOTHING
"""
#: Which of some people's in-app messages of a dispatch lie ready.
THERE = (
    "SELECT delivery, contact_id FROM in_app_places WHERE dispatch_id = :dispatch AND "
    "contact_id = ANY(:ids)"
)


@dataclasses.dataclass(frozen=True, slots=True)
class InApp:
    """One in-app message for one person. `key` is the delivery's token."""

    key: str
    contact_id: int
    #: the number of the delivery
    delivery: int


class LaidReady:
    """The gateway of in-app messages: a table of our own that the website's script asks through us.
    An in-app message laid twice is there once."""

    at_once = WHOLE_BATCH
    can_be_asked = True

    def __init__(self, database: Database, settings: Settings, dispatch_id: int, now: dt.datetime):
        self.database, self.settings, self.dispatch_id, self.now = (
            database,
            settings,
            dispatch_id,
            now,
        )

    def hand_over(self, messages: Iterable[InApp], begin: Begin = all_may_go) -> Iterator[Handed]:
        in_app_messages = list(messages)
        with self.database.session() as session:
            session.execute(
                sa.text(LAID),
                {
                    "ids": [in_app.contact_id for in_app in in_app_messages],
                    "deliveries": [in_app.delivery for in_app in in_app_messages],
                    "dispatch": self.dispatch_id,
                    "now": self.now,
                },
            )
        return iter(
            [Handed(in_app.contact_id, "delivered", "made ready") for in_app in in_app_messages]
        )

    def took(self, ids: Sequence[str]) -> dict[str, bool]:
        """For each token whether its in-app message lies ready: this gateway always knows."""
        named = {
            key: read for key in ids if (read := signing.read(self.settings.secret, "message", key))
        }
        with self.database.session() as session:
            there = {
                tuple(row)
                for row in session.execute(
                    sa.text(THERE),
                    {
                        "dispatch": self.dispatch_id,
                        "ids": [contact for _, contact in named.values()],
                    },
                )
            }
        return {key: read in there for key, read in named.items()}


class InApps(Hand):
    """In-app messages, filled in only when they are shown."""

    def make(self, reader: Reader, tokens: signing.Tokens, mail: Rendered, signs: Signs) -> Any:
        return InApp(tokens["message"], reader.contact_id, reader.number)


class Shown:
    """Takes proofs: they stand at an address of the website, and nobody is told."""

    at_once = 1

    def hand_over(self, messages: Iterable[str], begin: Begin = all_may_go) -> Iterator[Handed]:
        for place, address in enumerate(messages):
            yield Handed(place, "delivered", address)


class Proofs(Prover):
    """A proof on a page of the organisation's own website, at an address that colleagues can be
    given; it always shows the newest draft."""

    one, several = "page", "pages"

    def targets(self) -> list[str]:
        page = self.asked.form.get("to", "").strip()
        if not on_website(self.asked.session, page):
            raise Invalid(
                Wording(
                    "“%(page)s” is not on a website that carries our script. Websites are named "
                    "under “Website script and API keys”.",
                    page=page,
                ),
                "to",
            )
        return [page]

    def make(self, place: int, key: str, to: str, copy: Copy) -> str:
        secret, message = self.asked.settings.secret, self.asked.message
        self._address = (
            f"{to}{'&' if urlsplit(to).query else '?'}mr-in-app="
            f"{signing.seal(secret, 'proof', message.id, copy.person)}"
        )
        return self._address

    def gateway(self) -> Any:
        return Shown()

    def shown_at(self) -> str:
        return self._address


def _concerns(session: orm.Session, contact: Contact) -> bool:
    return bool(session.scalar(sa.text(ANY_LAID), {"id": contact.id}))


CHANNEL = Channel(
    kind=KIND,
    facts=FACTS,
    can="{unless}",
    concerned="WHERE {refused}",
    address="c.id::text",
    same_address="c.id::text",
    gateway=LaidReady,
    can_be_asked=lambda settings: True,
    there=Wording("in-app messages wait here until people come to the website"),
    hand=InApps,
    prover=Proofs,
    steps={
        "delivered": Wording("Ready to show"),
        "opened": Wording("Saw it"),
        "clicked": Wording("Pressed a button"),
    },
    by=Wording("as an in-app message"),
    one=Wording("the in-app message"),
    a=Wording("an in-app message"),
    may=Wording("all of them who did not say no"),
    shown=Wording("when they come to the website, as the in-app message says"),
    waits_there=True,
    concerns=_concerns,
    editor="messages.edit",
)
