"""Where heavy reads go: to a copy of the database that follows it (streaming replication), where
the settings name one, else to the database itself."""

import contextlib
import functools
import threading
import time
from collections.abc import Iterator

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import Database
from meadowrun.base.logs import log

#: A copy that is further behind is not asked, in seconds; nor is one for a while that was.
MOST_BEHIND = 5.0
_NOT_FOR = 30.0
#: Seconds that a copy is behind: none where it has written down all that it was told.
BEHIND = """
SELECT CASE WHEN NOT pg_is_in_recovery()
    OR pg_last_wal_receive_lsn() = pg_last_wal_replay_lsn() THEN 0
    ELSE extract(epoch FROM clock_timestamp() - pg_last_xact_replay_timestamp()) END
"""


class Reports:
    """The database for heavy reads. Nothing is written there, and what was written a moment ago may
    be missing: at most MOST_BEHIND seconds of it."""

    def __init__(self, database: Database, url: str):
        self._database, self._url = database, url
        self._lock = threading.Lock()
        self._asked_again = 0.0

    @functools.cached_property
    def _copy(self) -> Database:
        return Database(self._url)

    def database(self) -> Database:
        """The copy, while it answers and follows; else the database itself."""
        if not self._url or time.monotonic() < self._asked_again:
            return self._database
        problem = self.problem()
        if not problem:
            return self._copy
        with self._lock:
            self._asked_again = time.monotonic() + _NOT_FOR
        log.warning("the copy for reports is not asked", problem=problem)
        return self._database

    def problem(self) -> str:
        """Why the copy cannot be asked now; nothing where it can, or there is none."""
        if not self._url:
            return ""
        with self._lock:
            copy = self._copy
        try:
            with copy.engine.connect() as connection:
                behind = float(connection.execute(sa.text(BEHIND)).scalar_one() or 0)
        except sa.exc.SQLAlchemyError as trouble:
            return str(trouble.__cause__ or trouble).strip().splitlines()[0]
        return f"It is {behind:.0f} s behind." if behind > MOST_BEHIND else ""

    @contextlib.contextmanager
    def session(self) -> Iterator[orm.Session]:
        """A session for heavy reads."""
        with self.database().session() as session:
            yield session
