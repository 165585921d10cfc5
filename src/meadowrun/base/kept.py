"""Answers for looking at that were dear to work out, kept for a little while. Nothing is ever sent
from here."""

import datetime as dt
import hashlib
import json
import threading
import weakref
from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import Any, Generic, TypeVar

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import own_writes
from meadowrun.base.clock import machine_now
from meadowrun.base.large import is_large

Answer = TypeVar("Answer")
_every: "weakref.WeakSet[Kept[Any]]" = weakref.WeakSet()
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
        self._keep, self._worth, self._most = dt.timedelta(seconds=seconds), worth, most
        self._name, self._large, self._whatever = name, dt.timedelta(seconds=large), whatever
        self._load = load
        self._answers: OrderedDict[Hashable, tuple[dt.datetime, dt.datetime, Answer]] = (
            OrderedDict()
        )
        self._lock = threading.Lock()
        _every.add(self)

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
        whole = (_place(session), key)
        started = machine_now()
        shared = bool(self._name) and is_large(session)
        oldest = started - (self._large if shared else self._keep)
        if not (self._whatever and shared):
            oldest = max(oldest, own_writes.last(session))
        with self._lock:
            found = self._answers.get(whole)
        if (found is None or found[0] <= oldest) and shared and not fresh:
            found = self._shared(session, key, oldest)
        if found is not None and not fresh and found[0] > oldest:
            return found[2], found[1]
        answer = work()
        took = (machine_now() - started).total_seconds()
        if took >= self._worth:
            self._remember(whole, (started, now, answer))
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
            self._remember(whole, None)
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
        self._remember((_place(session), key), found)
        return found

    def _remember(
        self, whole: Hashable, found: tuple[dt.datetime, dt.datetime, Answer] | None
    ) -> None:
        with self._lock:
            self._answers.pop(whole, None)
            if found is not None:
                self._answers[whole] = found
                while len(self._answers) > self._most:
                    self._answers.popitem(last=False)

    def _key(self, key: Hashable) -> str:
        return f"{self._name}:{hashlib.sha256(repr(key).encode()).hexdigest()}"


def forget() -> None:
    """Drops every answer kept in this process, for tests and benches."""
    for kept in _every:
        with kept._lock:
            kept._answers.clear()


def _place(session: orm.Session) -> str:
    """Which database an answer is about: tests and benches open several in one process."""
    bind = session.get_bind()
    return str((bind if isinstance(bind, sa.Engine) else bind.engine).url)
