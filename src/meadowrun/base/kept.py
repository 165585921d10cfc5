"""Answers for looking at that were dear to work out, kept for a little while. Nothing is ever sent
from here."""

import datetime as dt
import hashlib
import json
from collections.abc import Callable, Hashable
from typing import Any, Generic, TypeVar

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import own_writes
from meadowrun.base.cache import Cache
from meadowrun.base.clock import machine_now
from meadowrun.base.db import place_of
from meadowrun.base.large import is_large

Answer = TypeVar("Answer")
_KNOWN = (
    "SELECT k.began_at, k.as_of, k.answer FROM kept_answers k WHERE k.key = :key AND "
    "k.began_at > :oldest"
)
_PUT = """WITH old AS (DELETE FROM kept_answers WHERE began_at < :began - interval '2 days'
AND key <> :key)
INSERT INTO kept_answers (key, began_at, as_of, answer)
VALUES (:key, :began, :as_of, CAST(:answer AS jsonb))
ON CONFLICT (key) DO UPDATE SET began_at = excluded.began_at, as_of = excluded.as_of,
answer = excluded.answer"""


class Kept(Generic[Answer]):
    """Keeps an answer for `seconds` when it took longer than `worth` seconds; what is quick is
    worked out every time.

    So a small house always sees the newest number, and a large one does not wait for the same
    second again and again. What somebody changed themselves since then is worked out anew for them.
    With a `name`, the answer is kept in the database of a large world for `large` seconds and
    shared by all processes; it is something that JSON can hold, and `load` makes of that what it
    was. `whatever` says that it may lag there behind one's own changes as well, since nobody would
    wait for it.
    """

    def __init__(
        self,
        seconds: float = 20.0,
        worth: float = 0.15,
        most: int = 200,
        name: str = "",
        large: float = 0.0,
        whatever: bool = False,
        load: Callable[[Any], Answer] = lambda data: data,
    ):
        self._keep, self._worth = dt.timedelta(seconds=seconds), worth
        self._name, self._large, self._whatever = name, dt.timedelta(seconds=large), whatever
        self._load = load
        self._answers: Cache[tuple[dt.datetime, dt.datetime, Answer]] = Cache(most)

    def get(
        self,
        session: orm.Session,
        key: Hashable,
        now: dt.datetime,
        work: Callable[[], Answer],
        fresh: bool = False,
    ) -> tuple[Answer, dt.datetime]:
        """The answer, and the moment it is of: `now`, or earlier when it was kept. `fresh` asks
        anew in any case."""
        whole = (place_of(session), key)
        started = machine_now()
        shared = bool(self._name) and is_large(session)
        oldest = started - (self._large if shared else self._keep)
        if not (self._whatever and shared):
            oldest = max(oldest, own_writes.last(session))
        found = self._answers.get(whole)
        if (found is None or found[0] <= oldest) and shared and not fresh:
            found = self._shared(session, key, oldest)
        if found is not None and not fresh and found[0] > oldest:
            return found[2], found[1]
        answer = work()
        took = (machine_now() - started).total_seconds()
        if took >= self._worth:
            self._answers.put(whole, (started, now, answer))
            if shared:
                values = {
                    "key": self._key(key),
                    "began": started,
                    "as_of": now,
                    "answer": json.dumps(answer),
                }
                with session.get_bind().engine.begin() as connection:
                    connection.execute(sa.text(_PUT), values)
        else:
            self._answers.lose(whole)
        return answer, now

    def _shared(
        self, session: orm.Session, key: Hashable, oldest: dt.datetime
    ) -> tuple[dt.datetime, dt.datetime, Answer] | None:
        row = session.execute(
            sa.text(_KNOWN), {"key": self._key(key), "oldest": oldest}
        ).one_or_none()
        if row is None:
            return None
        found = (row.began_at, row.as_of, self._load(row.answer))
        return self._answers.put((place_of(session), key), found)

    def _key(self, key: Hashable) -> str:
        return f"{self._name}:{hashlib.sha256(repr(key).encode()).hexdigest()}"
