"""Feeds: JSON looked up by HTTP at the moment of sending, with a time limit, a limit on size, and
only from allowed hosts."""

import datetime as dt
import json
import math
import re
import time
import urllib.parse
from collections.abc import Collection, Mapping
from typing import Any

from meadowrun.base.cache import Cache
from meadowrun.core.content import fillins
from meadowrun.core.content.rendering import render_address
from meadowrun.core.language import Wording
from meadowrun.core.values import is_whole
from meadowrun.gateways import outgoing
from meadowrun.messages.models import Feed

#: Bytes of an answer that are read; a longer one counts as none.
MOST_BYTES = 200_000
#: How deep lists and objects of an answer may stand in each other.
_DEEPEST = 50
_TOO_DEEP = Wording(
    "lists and objects are nested more than %(deepest)s deep in each other", deepest=_DEEPEST
)
_PORT = re.compile(r":\d+$")
_kept: Cache[tuple[dt.datetime, Any]] = Cache(2000)
#: addresses that just gave nothing: until when (on the process's own clock) they are not asked
#: again, and why
_silent: Cache[tuple[float, str]] = Cache(2000)
SILENCE = 5.0


class NoAnswer(Exception):
    """A feed gave nothing usable. `wait` says whether to try again later; else the person is left
    out."""

    def __init__(self, key: str, why: str, wait: bool):
        super().__init__(Wording("the feed “%(key)s” gave nothing: %(why)s", key=key, why=why))
        self.wait = wait


def machines(hosts: Collection[str]) -> frozenset[str]:
    """The host:port that the settings allow; a host without a port means those of http and
    https."""
    return frozenset(
        one
        for host in hosts
        for one in ((host,) if _PORT.search(host) else (f"{host}:80", f"{host}:443"))
    )


def host_problem(url: str, hosts: Collection[str]) -> str | None:
    """Why an address may not be asked, or None. `hosts` are the allowed host:port or host."""
    parts = urllib.parse.urlsplit(fillins.PART.sub("x", url))
    if parts.scheme not in ("http", "https") or not parts.hostname:
        return Wording("the address must begin with http:// or https://")
    if not outgoing.machine_of(fillins.PART.sub("x", url)) & machines(hosts):
        return Wording(
            "%(netloc)s is not among the hosts that MEADOWRUN_FEED_HOSTS allows",
            netloc=parts.netloc,
        )
    if "{" in url.split("://", 1)[-1].split("/", 1)[0]:
        return Wording("the host may not contain a fill-in")
    return None


def personal(feed: Feed) -> bool:
    """Whether it is asked anew for each person."""
    return bool(fillins.PART.search(feed.url))


def ask(feed: Feed, values: Mapping[str, Any], now: dt.datetime, hosts: Collection[str]) -> Any:
    """A feed's answer for somebody, from memory while it is fresh. Raises NoAnswer where it says
    not to go on without."""
    address = render_address(feed.url, values) if personal(feed) else feed.url
    kept = _kept.get(address)
    if kept and now - kept[0] < dt.timedelta(seconds=feed.keep_seconds):
        return pick(kept[1], feed.part)
    silent = _silent.get(address)
    try:
        if silent and time.monotonic() < silent[0]:
            # Everyone of a send would wait for the same silence.
            raise ValueError(silent[1])
        answer = fetch(address, feed.timeout_ms, hosts)
        found = pick(answer, feed.part)
    except (OSError, ValueError) as problem:
        if not silent or time.monotonic() >= silent[0]:
            _silent.put(address, (time.monotonic() + SILENCE, str(problem)))
        if feed.when_down == "fallback":
            return feed.fallback
        raise NoAnswer(feed.key, str(problem), feed.when_down == "wait") from None
    _kept.put(address, (now, answer))
    return found


def forget() -> None:
    """Drops every kept answer."""
    _kept.drop()
    _silent.drop()


def fetch(address: str, timeout_ms: int, hosts: Collection[str]) -> Any:
    """Asks once. Raises ValueError or OSError with words for the author."""
    problem = host_problem(address, hosts)
    if problem:
        raise ValueError(problem)
    try:
        answer = outgoing.ask(
            "GET",
            address,
            headers={"Accept": "application/json"},
            timeout=timeout_ms / 1000,
            inner=machines(hosts),
            most=MOST_BYTES,
        )
    except TimeoutError:
        raise ValueError(f"the answer took longer than {timeout_ms / 1000:g} s") from None
    if answer.leads_to:
        raise ValueError(f"it redirects ({answer.status}), which is not followed")
    if answer.status >= 300:
        raise ValueError(f"it answers {answer.status} {answer.reason}")
    return read(answer.body)


def read(body: bytes) -> Any:
    """An answer's JSON, as it can be kept and filled in. Raises ValueError with words for the
    author.

    JSON has no NaN (RFC 8259, 6); NUL and halves of characters, which no database keeps, are taken
    out of texts.
    """
    try:
        return _usable(json.loads(body, parse_constant=_no_number), 0)
    except RecursionError:
        raise ValueError(_TOO_DEEP) from None
    except UnicodeDecodeError:
        raise ValueError("the answer is not in UTF-8") from None
    except json.JSONDecodeError:
        raise ValueError("the answer is not JSON") from None


def _no_number(name: str) -> Any:
    raise ValueError(f"the answer holds {name}, which is not a number in JSON")


def _usable(value: Any, depth: int) -> Any:
    if depth > _DEEPEST:
        raise ValueError(_TOO_DEEP)
    if isinstance(value, str):
        return value.replace("\0", "").encode(errors="replace").decode()
    if isinstance(value, float) and not math.isfinite(value):
        raise ValueError("the answer holds a number that is too large")
    if isinstance(value, int) and abs(value) >= 1 << 63:
        # Larger than other programs read it: as it is written.
        return str(value)
    if isinstance(value, list):
        return [_usable(item, depth + 1) for item in value]
    if isinstance(value, dict):
        return {
            str(_usable(key, depth + 1)): _usable(item, depth + 1) for key, item in value.items()
        }
    return value


def pick(answer: Any, part: str) -> Any:
    """The part of an answer that counts: “forecast.nights[0]”. Raises ValueError when it is not
    there."""
    for name in re.findall(r"[^.\[\]]+", part):
        if isinstance(answer, list) and is_whole(name) and int(name) < len(answer):
            answer = answer[int(name)]
        elif isinstance(answer, Mapping) and name in answer:
            answer = answer[name]
        else:
            raise ValueError(f"the answer has no “{name}”")
    return answer
