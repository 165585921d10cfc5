"""Databases for tests: one for each process, brought back to what it was after each test.

To make a database, connect to it and drop it again takes longer than most tests, and a connection
that has just begun knows no table yet: each of its first statements takes three times as long. So
the rows that a test left are deleted, and its connections are kept. Where a test changed a table
itself, or left something running, the database is dropped and made anew.
"""

import contextlib
import copy
import uuid

import psycopg
import sqlalchemy as sa

from meadowrun.base.db import Database
from meadowrun.base.testing import TEMPLATE

#: The tables that hold pages: their names, and how large they are.
_HELD = """
SELECT c.oid::regclass::text, pg_relation_size(c.oid)
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind = 'r' AND n.nspname = 'public' AND pg_relation_size(c.oid) > 0"""
#: What the tables, their columns, rules and functions are, in one text: another after any change of
#: them, the same after any change of rows.
_SHAPE = """
SELECT concat_ws(' ',
    (SELECT concat(count(*), ' ', max(oid), ' ', sum(hashtext(
        concat(relname, relkind, relpersistence, relnatts, reloptions, relispartition))::bigint))
     FROM pg_class WHERE oid >= 16384 AND relkind <> 't'),
    (SELECT concat(count(*), ' ', sum(xmin::text::bigint)) FROM pg_attribute
     WHERE attrelid >= 16384),
    (SELECT concat(count(*), ' ', sum(xmin::text::bigint)) FROM pg_attrdef),
    (SELECT concat(count(*), ' ', sum(xmin::text::bigint)) FROM pg_constraint
     WHERE oid >= 16384),
    (SELECT concat(count(*), ' ', sum(xmin::text::bigint)) FROM pg_proc WHERE oid >= 16384),
    (SELECT concat(count(*), ' ', sum(xmin::text::bigint)) FROM pg_trigger),
    (SELECT concat(count(*), ' ', sum(xmin::text::bigint)) FROM pg_statistic_ext),
    (SELECT count(*) FROM pg_db_role_setting))"""
#: Ends the connections of a database but those named.
_END_OTHERS = """
SELECT count(pg_terminate_backend(pid)) FROM pg_stat_activity
WHERE datname = current_database() AND pid <> ALL (%s)"""
#: Numbers that were given out are given out again.
_COUNT_AGAIN = """
SELECT setval(s.seqrelid, s.seqstart, false) FROM pg_sequence s
WHERE pg_sequence_last_value(s.seqrelid) IS NOT NULL"""
#: What ANALYZE noted of the rows of a test says nothing of those of the next.
_FORGET_ROWS = "DELETE FROM pg_statistic WHERE starelid >= 16384"
#: Tables that grew larger than this many bytes are made small again after each test, the others
#: now and then: deleted rows keep their room until then.
_LARGE = 200_000
#: After so many tests all tables are made small again.
_NOW_AND_THEN = 10

#: One connection to each server by which databases are made and dropped.
_SERVERS = {}
#: The kept database of this process by server.
_KEPT = {}
#: The first engine of this process.
_FIRST = []


def told(cluster_url, statement):
    """Has a server do something that concerns no database that is there."""
    known = _SERVERS.get(cluster_url)
    if known is None or known.closed:
        known = psycopg.connect(f"{cluster_url}/postgres", autocommit=True)
        _SERVERS[cluster_url] = known
    try:
        known.execute(statement)
    except psycopg.OperationalError:
        # The server was taken away by a test, and is there again.
        known.close()
        with psycopg.connect(f"{cluster_url}/postgres", autocommit=True) as again:
            again.execute(statement)


def compiled_once(engine):
    """Statements are compiled once for all tests of a process, not for each of their databases: a
    sixth of what tests of the store take."""
    if not _FIRST:
        engine.connect().close()
        _FIRST.append(engine)
    # What was compiled is found by its dialect.
    engine.dialect = _FIRST[0].dialect
    engine._compiled_cache = _FIRST[0]._compiled_cache


class Kept:
    """A migrated database that tests use one after another; `clean` after each."""

    def __init__(self, cluster_url):
        self.cluster_url, self.name = cluster_url, f"t_{uuid.uuid4().hex[:12]}"
        told(cluster_url, f"CREATE DATABASE {self.name} TEMPLATE {TEMPLATE} STRATEGY FILE_COPY")
        self.database = Database(f"{cluster_url}/{self.name}")
        compiled_once(self.database.engine)
        self.ours = set()
        sa.event.listen(self.database.engine, "connect", self._connected)
        self.admin = psycopg.connect(f"{cluster_url}/{self.name}", autocommit=True)
        self.admin.execute("SET session_replication_role = replica")
        self.shape = self._one(_SHAPE)
        self.first = {
            table: (self._all_of(table), self._copied(table))
            for table, _ in self.admin.execute(_HELD).fetchall()
        }
        self.tests = 0

    def _connected(self, connection, _record):
        self.ours.add(connection.info.backend_pid)

    def _one(self, query):
        return self.admin.execute(query).fetchone()[0]

    def _all_of(self, table):
        """All rows of a table in one short text."""
        return self._one(f"SELECT md5(string_agg(t::text, '|' ORDER BY t::text)) FROM {table} t")

    def _copied(self, table):
        with self.admin.cursor().copy(f"COPY {table} TO STDOUT (FORMAT binary)") as rows:
            return b"".join(bytes(part) for part in rows)

    def clean(self):
        """Brings everything back to what it was. Says whether that could be done."""
        try:
            return self._clean()
        except psycopg.Error:
            # A test ended this connection, or holds a lock still.
            return False

    def _clean(self):
        if self.database.engine.pool.checkedout():
            return False
        self.admin.execute("SET lock_timeout = '2s'")
        ours = [*self.ours, self.admin.info.backend_pid]
        self.admin.execute(_END_OTHERS, [ours])
        if self._one(_SHAPE) != self.shape:
            return False
        held = dict(self.admin.execute(_HELD).fetchall())
        changed = [
            table
            for table in held
            if table not in self.first or self._all_of(table) != self.first[table][0]
        ]
        changed += [table for table in self.first if table not in held]
        with self.admin.transaction():
            for table in changed:
                self.admin.execute(f"DELETE FROM {table}")
                if table in self.first:
                    into = self.admin.cursor().copy(f"COPY {table} FROM STDIN (FORMAT binary)")
                    with into as rows:
                        rows.write(self.first[table][1])
            self.admin.execute(_COUNT_AGAIN)
            counted = self.admin.execute(_FORGET_ROWS).rowcount
        self.tests += 1
        every = counted or self.tests % _NOW_AND_THEN == 0
        if large := [t for t in changed if every or held.get(t, 0) > _LARGE]:
            self.admin.execute(f"VACUUM {', '.join(large)}")
        return True

    def drop(self):
        """Ends it and whoever still uses it."""
        self.admin.close()
        self.database.close()
        told(self.cluster_url, f"DROP DATABASE IF EXISTS {self.name} WITH (FORCE)")


@contextlib.contextmanager
def own_database(cluster_url):
    """A migrated database without anything in it, which is nobody else's meanwhile."""
    kept = _KEPT.pop(cluster_url, None) or Kept(cluster_url)
    try:
        # Another object each time: whatever is kept for a database is not found by the next.
        yield copy.copy(kept.database)
    finally:
        if kept.clean():
            if other := _KEPT.pop(cluster_url, None):
                other.drop()
            _KEPT[cluster_url] = kept
        else:
            kept.drop()


def drop_all():
    """Drops what is kept, at the end of a run."""
    while _KEPT:
        _, kept = _KEPT.popitem()
        kept.drop()
