"""The channels are known to the whole application once this is loaded."""

from collections.abc import Iterator

from sqlalchemy import orm

from meadowrun.base.manifest import Feature, Probe, Tried
from meadowrun.base.settings import Settings
from meadowrun.channels import load
from meadowrun.core.language import Wording, worded
from meadowrun.gateways.channels import CHANNELS, Channel

load()


def _probes(session: orm.Session, settings: Settings) -> Iterator[Probe]:
    """The gateways of all channels by which something is handed over."""
    for channel in CHANNELS.values():
        if not channel.waits_there:
            yield _probe(channel, settings)


def _probe(channel: Channel, settings: Settings) -> Probe:
    def run() -> Tried:
        if channel.look is not None:
            return channel.look(settings)
        problem = channel.problem(settings)
        return Tried(False, worded(problem)) if problem else Tried(True, channel.there)

    return Probe(
        key=f"gateway:{channel.kind.key}",
        area=channel.kind.several,
        optional=not channel.wanted(settings),
        name=Wording("The gateway accepts them"),
        fix=Wording(
            "An administrator sets it in the settings of the installation: %(setting)s.",
            setting=channel.setting or channel.kind.key,
        ),
        run=run,
    )


FEATURE = Feature(says={"as_channel": CHANNELS.__getitem__}, probes=_probes)
