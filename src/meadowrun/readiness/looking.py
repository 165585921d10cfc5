"""Tries what has to be set up, all at once, and keeps what was found."""

import dataclasses
import datetime as dt
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.logs import log
from meadowrun.base.manifest import Probe, Tried, probes
from meadowrun.base.settings import Settings
from meadowrun.core.language import Problem, in_language
from meadowrun.readiness.models import Probed

#: So many are tried side by side: most of the time they wait for somebody's answer.
AT_ONCE = 8


@dataclasses.dataclass(frozen=True, slots=True)
class Stands:
    """One thing that has to be set up, and how it was found; None: it was never tried."""

    probe: Probe
    found: Probed | None

    @property
    def missing(self) -> bool:
        """Whether it was tried, is not set up, and is needed."""
        return self.found is not None and not self.found.ok and not self.probe.optional


def standing(session: orm.Session, settings: Settings) -> list[Stands]:
    """Everything that has to be set up, as it was found the last time."""
    known = {one.key: one for one in session.scalars(sa.select(Probed))}
    return [Stands(probe, known.get(probe.key)) for probe in probes(session, settings)]


def look(session: orm.Session, settings: Settings, now: dt.datetime) -> list[Stands]:
    """Tries everything. What is no longer asked about is forgotten."""
    asked = probes(session, settings)
    with ThreadPoolExecutor(AT_ONCE) as pool:
        tried = list(pool.map(_try, asked))
    _keep(session, now, asked, tried)
    return standing(session, settings)


def _try(probe: Probe) -> Tried:
    try:
        return probe.run()
    except Problem as problem:
        return Tried(False, problem.args[0])
    except Exception as problem:
        # One that fails in a way of its own says so, and keeps none of the others from being tried.
        log.exception("probe failed", probe=probe.key)
        return Tried(False, f"{type(problem).__name__}: {problem}"[:300])


def _keep(
    session: orm.Session, now: dt.datetime, asked: Sequence[Probe], tried: Sequence[Tried]
) -> None:
    for probe, found in zip(asked, tried, strict=True):
        said = in_language(found.said)[:500].replace("\0", "")
        session.merge(Probed(key=probe.key, ok=found.ok, said=said, at=now))
    keys = [probe.key for probe in asked]
    session.execute(sa.delete(Probed).where(Probed.key.not_in(keys)))
    session.flush()
