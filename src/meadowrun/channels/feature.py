"""The channels are known to the whole application once this is loaded."""

from meadowrun.base.manifest import Feature
from meadowrun.channels import load
from meadowrun.gateways.channels import CHANNELS

load()
FEATURE = Feature(says={"as_channel": CHANNELS.__getitem__})
