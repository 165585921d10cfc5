"""Sends: one message to an audience, read like a letter of instruction before it goes."""

from meadowrun.base.manifest import Feature, named
from meadowrun.sends.models import Send
from meadowrun.sends.waiting import doubts

FEATURE = Feature(
    pages={"views": "Campaigns", "word_views": "Campaigns"},
    tasks=("jobs", "sweep"),
    does=(("Senders and topics", "sends.senders_page"),),
    finds=(named("sends.show", Send, "send"),),
    waits=doubts)
