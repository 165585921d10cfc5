"""What comes back: openings, clicks, events, unsubscribing, what gateways tell."""

import functools
from collections.abc import Iterator

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.manifest import Feature, Probe, Tried
from meadowrun.base.settings import Settings
from meadowrun.core import wording
from meadowrun.core.language import Wording
from meadowrun.shell.models import ApiKey


def _probes(session: orm.Session, settings: Settings) -> Iterator[Probe]:
    """Whether each website still tells what its visitors do."""
    keys = sa.select(ApiKey).where(ApiKey.kind == "site", ApiKey.retired.is_(False))
    for key in session.scalars(keys.order_by(ApiKey.id)):
        said = (
            Tried(True, Wording("last seen on %(day)s", day=wording.day(key.last_used_at.date())))
            if key.last_used_at
            else Tried(False, Wording("never seen yet"))
        )
        yield Probe(
            key=f"site:{key.id}",
            area=Wording("Websites"),
            name=Wording("The script of %(site)s tells what visitors do", site=key.name),
            fix=Wording("Add the script to the pages of the website, with its key."),
            run=functools.partial(_known, said),
        )


def _known(said: Tried) -> Tried:
    """What is known without trying anything."""
    return said


FEATURE = Feature(
    pages={"views": "", "site_views": "", "preference_views": ""},
    tasks=("jobs",),
    probes=_probes,
)
