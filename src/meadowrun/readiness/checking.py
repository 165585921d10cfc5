"""Says all at once what an installation still lacks: settings, database, people who may sign in,
workers, its address, and what each feature needs set up."""

import dataclasses
import os
from collections.abc import Iterator, Mapping

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.clock import machine_now
from meadowrun.base.db import Database
from meadowrun.base.errors import SettingsError
from meadowrun.base.reports import Reports
from meadowrun.base.schema import is_behind
from meadowrun.base.settings import Settings
from meadowrun.gateways.outgoing import Refused, ask, machine_of
from meadowrun.readiness.looking import look
from meadowrun.shell.models import User

#: Seconds for the application to answer under its public address.
_WAIT = 5.0
#: Workers that were heard of lately.
_WORKERS = """
SELECT count(*) FROM procrastinate_workers WHERE last_heartbeat > now() - interval '2 minutes'
"""


@dataclasses.dataclass(frozen=True, slots=True)
class Found:
    """One thing that was looked at: what it is, whether it is right, what to do where it is not,
    and whether an installation can do without it."""

    what: str
    right: bool
    todo: str = ""
    optional: bool = False

    @property
    def missing(self) -> bool:
        """Whether something has to be done about it."""
        return not self.right and not self.optional

    @property
    def line(self) -> str:
        """As it is printed."""
        mark = "ok  " if self.right else "NOT " if self.missing else "--  "
        return f"{mark} {self.what}" + (f"\n     {self.todo}" if self.todo else "")


def check(environment: Mapping[str, str] | None = None) -> Iterator[Found]:
    """Everything that was looked at, in the order in which it is set up. What needs something else
    first is left out where that is missing."""
    try:
        settings = Settings.read(os.environ if environment is None else environment)
    except SettingsError as wrong:
        for line in str(wrong).splitlines():
            yield Found("a setting", False, line)
        return
    yield Found("settings", True)
    if problem := settings.unsafe():
        yield Found("safe settings", False, problem)
    database = Database(settings.database_url)
    try:
        yield from _of_database(database, settings)
    finally:
        database.close()


def _of_database(database: Database, settings: Settings) -> Iterator[Found]:
    if problem := database.problem():
        yield Found(
            "the database answers",
            False,
            f"{problem} MEADOWRUN_DATABASE_URL says where it is.",
        )
        return
    yield Found("the database answers", True)
    if is_behind(database):
        todo = "Run: ./meadowrun migrate"
        yield Found("the database is as this version needs it", False, todo)
        return
    yield Found("the database is as this version needs it", True)
    if settings.reports_database_url:
        problem = Reports(database, settings.reports_database_url).problem()
        todo = f"{problem} MEADOWRUN_REPORTS_DATABASE_URL says where it is." if problem else ""
        yield Found("the copy for reports answers and follows", not problem, todo)
    with database.session() as session:
        yield from _of_people(session)
        running = session.execute(sa.text(_WORKERS)).scalar_one()
        todo = "" if running else "Nothing is sent without one. Start: ./meadowrun work"
        yield Found("a worker runs", bool(running), todo)
    yield _of_address(settings.public_url)
    with database.session() as session:
        for one in look(session, settings, machine_now()):
            if one.found is not None:
                what = f"{one.probe.area}: {one.probe.name}"
                todo = "" if one.found.ok else _sentences(one.found.said, str(one.probe.fix))
                yield Found(what, one.found.ok, todo, one.probe.optional)


def _sentences(*texts: str) -> str:
    """Texts behind each other, with a full stop between. The last ends as it does: it may be a
    record to be copied."""
    return ". ".join(text.removesuffix(".") for text in texts[:-1] if text) + f". {texts[-1]}"


def _of_people(session: orm.Session) -> Iterator[Found]:
    asked = sa.select(sa.func.count()).where(User.active, User.role == "admin")
    found = session.scalar(asked)
    todo = "" if found else "Run: ./meadowrun user add you@your-domain --role admin"
    yield Found("an administrator can sign in", bool(found), todo)


def _of_address(url: str) -> Found:
    """Whether the application answers where its links lead."""
    what = f"the application answers at {url}"
    try:
        right = ask("GET", f"{url}/healthz", timeout=_WAIT, inner=machine_of(url)).status == 200
    except (OSError, Refused) as problem:
        todo = f"{problem}. Start: ./meadowrun serve, with a proxy before it where that is https."
        return Found(what, False, todo)
    return Found(what, right, "" if right else "It answers, but says that something is wrong.")
