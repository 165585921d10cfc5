"""Messages of all channels: written, read as anybody, checked, reviewed."""

from meadowrun.base.manifest import Feature, named
from meadowrun.core.language import Wording
from meadowrun.messages.mail_probes import probes
from meadowrun.messages.models import Message
from meadowrun.messages.waiting import reviews

_PAGES = (
    "views",
    "shared_views",
    "texting_views",
    "notification_views",
    "exchange_views",
    "copying_views",
    "checking_views",
    "review_views",
    "house_views",
    "choosing_views",
    "asking_views",
    "mail_key_views",
)

FEATURE = Feature(
    pages=dict.fromkeys(_PAGES, "Messages"),
    does=(
        (Wording("New message"), "messages.new"),
        (Wording("Mail domains and keys"), "mail_keys.table"),
    ),
    finds=(named("messages.edit", Message, "message"),),
    waits=reviews,
    probes=probes,
)
