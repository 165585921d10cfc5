"""Tries every night whether everything is still set up."""

from meadowrun.base import clock, jobs
from meadowrun.base.jobs import context
from meadowrun.readiness.looking import look


@jobs.task("readiness.look", "upkeep", every="47 3 * * * 0")
def look_again() -> None:
    """What was set up may be so no longer: records are changed, servers move."""
    with context().database.session() as session:
        look(session, context().settings, clock.now(session))
