"""Which gateway takes what a dispatch sends."""

import datetime as dt

import sqlalchemy as sa

from meadowrun.base.db import Database
from meadowrun.base.settings import Settings
from meadowrun.gateways import push, sms, smtp
from meadowrun.gateways.handing import Gateway
from meadowrun.outgoing.cards import LaidReady
from meadowrun.outgoing.models import Dispatch

GONE = "UPDATE push_devices SET gone_at = :now WHERE id = :id"


def gateway_of(database: Database, settings: Settings, dispatch: Dispatch, now: dt.datetime) -> Gateway:
    """The gateway of a dispatch's channel."""
    if dispatch.channel == "card":
        return LaidReady(database, settings, dispatch.id, now)
    if dispatch.channel == "push":
        def gone(device: int) -> None:
            with database.session() as session:
                session.execute(sa.text(GONE), {"id": device, "now": now})
        return push.PushGateway(settings, now.timestamp(), gone)
    return sms.gateway(settings) if dispatch.channel == "sms" else smtp.gateway(settings)


def can_be_asked(settings: Settings, channel: str) -> bool:
    """Whether the gateway of a channel can be asked what it took."""
    return {"email": bool(settings.mail_receipts_url), "push": False}.get(channel, True)
