"""The channels: one module each, loaded by name."""

import importlib

from meadowrun.gateways.channels import CHANNELS, add

#: The modules here that hold CHANNEL, in the order in which channels are spoken of.
NAMES = ("email", "sms", "push", "in_app")


def load() -> None:
    """Makes the channels known, once."""
    for name in NAMES:
        if name not in CHANNELS:
            add(importlib.import_module(f"meadowrun.channels.{name}").CHANNEL)
