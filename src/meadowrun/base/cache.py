"""The one cache of this process: the values used last, safe between threads."""

import threading
import weakref
from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import Any, Generic, TypeVar

Value = TypeVar("Value")
_every: "weakref.WeakSet[Cache[Any]]" = weakref.WeakSet()


class Cache(Generic[Value]):
    """At most `most` values by key; the one that was not used for longest goes first. `dropped` is
    told of each that goes, to close what it holds."""

    def __init__(self, most: int, dropped: Callable[[Value], object] = lambda value: None):
        self._most, self._dropped = most, dropped
        self._values: OrderedDict[Hashable, Value] = OrderedDict()
        self._lock = threading.Lock()
        _every.add(self)

    def get(self, key: Hashable) -> Value | None:
        """The value of a key, which counts as used; None where there is none."""
        with self._lock:
            if key not in self._values:
                return None
            self._values.move_to_end(key)
            return self._values[key]

    def put(self, key: Hashable, value: Value) -> Value:
        """Keeps a value, in place of an older one of that key. Gives the value."""
        with self._lock:
            return self._put(key, value)

    def made(self, key: Hashable, make: Callable[[], Value]) -> Value:
        """The value of a key; where there is none, one that is made now, once for all threads."""
        with self._lock:
            if key in self._values:
                self._values.move_to_end(key)
                return self._values[key]
            return self._put(key, make())

    def drop(self, unless: Callable[[Value], bool] = lambda value: False) -> None:
        """Drops every value but those that a test holds for."""
        with self._lock:
            for key in [key for key, value in self._values.items() if not unless(value)]:
                self._dropped(self._values.pop(key))

    def lose(self, key: Hashable) -> None:
        """Drops the value of a key, where there is one."""
        with self._lock:
            if key in self._values:
                self._dropped(self._values.pop(key))

    def _put(self, key: Hashable, value: Value) -> Value:
        self._values[key] = value
        self._values.move_to_end(key)
        while len(self._values) > self._most:
            self._dropped(self._values.popitem(last=False)[1])
        return value


def forget() -> None:
    """Drops everything that this process keeps in its caches, for tests and benches."""
    for cache in _every:
        cache.drop()
