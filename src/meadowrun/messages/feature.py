"""Messages of all channels: written, read as anybody, checked, reviewed."""

from meadowrun.base.manifest import Feature, Way, named
from meadowrun.core.language import Wording
from meadowrun.messages.mail_probes import probes
from meadowrun.messages.models import Message, SharedPart
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
        Way(
            Wording("Messages"),
            "messages.table",
            Wording("emails texts templates content drafts approve review proof test preview"),
        ),
        Way(
            Wording("New message"),
            "messages.new",
            Wording(
                "write create compose email text sms push notification in-app website starting "
                "point template"
            ),
            often=True,
        ),
        Way(
            Wording("Shared parts"),
            "shared.table",
            Wording("blocks reuse footer header"),
        ),
        Way(
            Wording("House style"),
            "house.style",
            Wording(
                "brand branding colours fonts logo design defaults words spelling greeting social "
                "pages"
            ),
        ),
        Way(
            Wording("Feeds and tables"),
            "house.lookups",
            Wording("lookups dynamic content data fetched rss weather coupons codes"),
        ),
        Way(
            Wording("Mail domains and keys"),
            "mail_keys.table",
            Wording("dkim spf dmarc dns authentication signing spam deliverability"),
        ),
    ),
    finds=(
        named("messages.edit", Message, "message"),
        named("shared.edit", SharedPart, "shared part"),
    ),
    waits=reviews,
    probes=probes,
)
