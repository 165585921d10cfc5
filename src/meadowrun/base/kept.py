"""Answers for looking at that were dear to work out, kept for a little while. Nothing is ever sent from here."""

import datetime as dt
import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import Generic, TypeVar

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import own_writes
from meadowrun.base.clock import machine_now

Answer = TypeVar("Answer")


class Kept(Generic[Answer]):
    """Keeps an answer for `seconds` when it took longer than `worth` seconds; what is quick is worked out every time.

    So a small house always sees the newest number, and a large one does not wait for the same second again and again. What
    somebody changed themselves since then is worked out anew for them.
    """

    def __init__(self, seconds: float = 20.0, worth: float = 0.15, most: int = 200):
        self._keep, self._worth, self._most = dt.timedelta(seconds=seconds), worth, most
        self._answers: OrderedDict[Hashable, tuple[dt.datetime, dt.datetime, Answer]] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, session: orm.Session, key: Hashable, now: dt.datetime, work: Callable[[], Answer],
            fresh: bool = False) -> tuple[Answer, dt.datetime]:
        """The answer, and the moment it is of: `now`, or earlier when it was kept. `fresh` asks anew in any case."""
        whole = (_place(session), key)
        started = machine_now()
        with self._lock:
            found = self._answers.get(whole)
        if found is not None and not fresh and started - found[0] < self._keep and found[0] > own_writes.last(session):
            return found[2], found[1]
        answer = work()
        took = (machine_now() - started).total_seconds()
        with self._lock:
            self._answers.pop(whole, None)
            if took >= self._worth:
                self._answers[whole] = (started, now, answer)
                while len(self._answers) > self._most:
                    self._answers.popitem(last=False)
        return answer, now


def _place(session: orm.Session) -> str:
    """Which database an answer is about: tests and benches open several in one process."""
    bind = session.get_bind()
    return str((bind if isinstance(bind, sa.Engine) else bind.engine).url)
