"""Time zones by their names, and moments named on a local clock."""

import datetime as dt
import functools
import zoneinfo


@functools.lru_cache(maxsize=1000)
def zone_of(name: str | None) -> zoneinfo.ZoneInfo | None:
    """The zone of this name in the tz database; None when it is blank or there is none."""
    try:
        return zoneinfo.ZoneInfo(name) if name else None
    except (ValueError, zoneinfo.ZoneInfoNotFoundError, OSError):
        return None


@functools.cache
def zone_names() -> tuple[str, ...]:
    """The zones that are offered: those of a place, as the tz database names them, and UTC."""
    found = zoneinfo.available_timezones()
    return (*sorted(one for one in found if "/" in one and not one.startswith(_NO_PLACE)), "UTC")


_NO_PLACE = (
    "Etc/",
    "SystemV/",
    "posix/",
    "right/",
    "US/",
    "Brazil/",
    "Canada/",
    "Chile/",
    "Mexico/",
)


def moment_of(local: dt.datetime, zone: dt.tzinfo) -> dt.datetime:
    """The moment (UTC) at which clocks of a zone show a time (naive).

    A time that clocks skip moves forward by what they skip; one that they show twice is the first
    (PEP 495, fold 0).
    """
    return local.replace(tzinfo=zone, fold=0).astimezone(dt.UTC)
