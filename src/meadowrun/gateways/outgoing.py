"""All that asks another server over HTTP: never a machine inside this network, but for those that
the settings name, and never led on elsewhere.

Addresses come from visitors' browsers, from authors and from settings. What they lead to is looked
up once, and the very machine that was judged is asked, so that a name that changes its mind in
between reaches nothing.
"""

import dataclasses
import ipaddress
import socket
import ssl
import time
import urllib.parse
from collections.abc import Collection, Mapping

import urllib3

from meadowrun.base.cache import Cache
from meadowrun.core.language import Wording

_PORTS = {"https": 443, "http": 80}
#: Names of this machine, or of machines beside it.
_INNER = ("localhost", ".localhost", ".local", ".internal", ".home.arpa", ".localdomain")
#: IPv6 networks that carry an IPv4 address inside (RFC 6052, 3056, 4380): the inner one is what is
#: reached.
_CARRIERS = [
    ipaddress.ip_network(text)
    for text in ("64:ff9b::/96", "64:ff9b:1::/48", "2002::/16", "2001::/32")
]
#: by scheme, machine, port and host
_pools: Cache[urllib3.HTTPConnectionPool] = Cache(50, lambda pool: pool.close())


class Refused(ValueError):
    """An address that may not be asked, with the reason."""


class TooLong(ValueError):
    """An answer that is longer than was wanted."""


@dataclasses.dataclass(frozen=True, slots=True)
class Answer:
    """What came back: the status, the words beside it, where it leads on to if it does, and as much
    of its body as was wanted."""

    status: int
    reason: str
    leads_to: str
    body: bytes = b""
    #: when it wishes to be asked again, as it says so
    retry_after: str = ""


def problem(address: str, inner: Collection[str] = ()) -> str | None:
    """What is wrong with an address as it is written, or None; `inner` are the host:port inside
    this network that may be asked.

    Where its name leads to is judged when it is asked.
    """
    try:
        _read(address, inner)
    except Refused as found:
        return str(found)
    return None


def machine_of(address: str) -> frozenset[str]:
    """The host:port of an address that the settings name, which may lie inside this network."""
    try:
        parts = urllib.parse.urlsplit(address)
        return frozenset({f"{parts.hostname}:{parts.port or _PORTS.get(parts.scheme, 0)}"})
    except ValueError:
        return frozenset()


def ask(
    method: str,
    address: str,
    body: bytes | None = None,
    headers: Mapping[str, str] | None = None,
    timeout: float = 10.0,
    inner: Collection[str] = (),
    most: int = 0,
) -> Answer:
    """Asks once and follows nothing; `timeout` is for the whole answer. Of its body `most` bytes
    are read, and none of a longer one.

    Raises Refused for an address that may not be asked, TooLong, OSError when nobody answers in
    time.
    """
    until = time.monotonic() + timeout
    parts, port = _read(address, inner)
    host = parts.hostname or ""
    machine = host if f"{host}:{port}" in inner else _judged(host, port)
    path = urllib.parse.urlunsplit(("", "", parts.path or "/", parts.query, ""))
    named = host if port == _PORTS[parts.scheme] else f"{host}:{port}"
    try:
        found = _pool(parts.scheme, machine, port, host).urlopen(
            method,
            path,
            body,
            {
                "Host": f"[{host}]" if ":" in host else named,
                "User-Agent": "Meadowrun",
                **(headers or {}),
            },
            retries=False,
            redirect=False,
            timeout=urllib3.Timeout(total=timeout),
            preload_content=False,
            decode_content=False,
        )
        try:
            body = _body(found, most, until)
        finally:
            # What was not read to its end cannot be used again.
            found.close()
            found.release_conn()
        return Answer(
            found.status,
            found.reason or "",
            found.headers.get("Location", ""),
            body,
            found.headers.get("Retry-After", ""),
        )
    except urllib3.exceptions.NewConnectionError as trouble:
        raise OSError("nothing answers there") from trouble
    except urllib3.exceptions.TimeoutError as trouble:
        raise TimeoutError(f"nothing came in {timeout:g} s") from trouble
    except urllib3.exceptions.SSLError as trouble:
        raise OSError("its certificate cannot be verified") from trouble
    except urllib3.exceptions.HTTPError as trouble:
        raise OSError(str(trouble)) from trouble


def _body(found: urllib3.BaseHTTPResponse, most: int, until: float) -> bytes:
    """A body of `most` bytes at most. Raises TooLong, and TimeoutError for one that drips: it would
    hold whoever waits for it for ever."""
    read = b""
    while most and (piece := found.read1(16_384)):
        read += piece
        if len(read) > most:
            raise TooLong(f"the answer is larger than {most // 1000} kB")
        if time.monotonic() > until:
            raise TimeoutError("the answer took too long")
    return read


def _read(address: str, inner: Collection[str]) -> tuple[urllib.parse.SplitResult, int]:
    try:
        parts = urllib.parse.urlsplit(address)
        port = parts.port or _PORTS.get(parts.scheme, 0)
    except ValueError:
        raise Refused("this is not an address") from None
    host = parts.hostname or ""
    if (
        parts.scheme not in _PORTS
        or not host
        or not address.isascii()
        or any(c.isspace() or c == "\\" for c in address)
    ):
        raise Refused("the address must begin with http:// or https:// and a host")
    if "@" in parts.netloc:
        raise Refused("the address may not contain a name or a password")
    if f"{host}:{port}" not in inner and (
        _number(host) is not None and not _is_outside(_number(host)) or _is_inner(host)
    ):
        raise Refused(Wording("%(host)s is inside this network", host=host))
    return parts, port


def _is_inner(host: str) -> bool:
    """Whether a name is one of machines nearby: without a dot, or of a domain that leads nowhere
    else. Numbers are judged by themselves."""
    plain = host.rstrip(".").lower()
    return _number(plain) is None and (
        "." not in plain
        or plain.endswith(_INNER)
        or plain == "localhost"
        or plain.replace(".", "").isdigit()
        or plain.split(".")[-1].startswith("0x")
    )


def _number(host: str) -> ipaddress.IPv4Address | ipaddress.IPv6Address | None:
    try:
        return ipaddress.ip_address(host.split("%")[0])
    except ValueError:
        return None


def _is_outside(number: ipaddress.IPv4Address | ipaddress.IPv6Address | None) -> bool:
    """Whether an address is one of the wide world: not of this machine, this network, or one that
    stands for those."""
    if isinstance(number, ipaddress.IPv6Address):
        inside = number.ipv4_mapped or next((number for net in _CARRIERS if number in net), None)
        if isinstance(inside, ipaddress.IPv4Address):
            return _is_outside(inside)
        if inside is not None:
            return False
    return (
        number is not None
        and number.is_global
        and not number.is_multicast
        and not number.is_reserved
    )


def _judged(host: str, port: int) -> str:
    """The machine a name leads to. Raises Refused where any of those it leads to is inside, OSError
    where it leads nowhere."""
    found = [
        _number(str(entry[4][0]))
        for entry in socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
    ]
    if not found or not all(_is_outside(number) for number in found):
        raise Refused(Wording("%(host)s leads to a machine inside this network", host=host))
    return str(found[0])


def _pool(scheme: str, machine: str, port: int, host: str) -> urllib3.HTTPConnectionPool:
    """The connections to a machine under a name; on https it must prove that name."""

    def connect() -> urllib3.HTTPConnectionPool:
        # A proxy that the environment names is not asked: it might reach what we may not.
        if scheme == "http":
            return urllib3.HTTPConnectionPool(machine, port, maxsize=8)
        return urllib3.HTTPSConnectionPool(
            machine,
            port,
            maxsize=8,
            server_hostname=host,
            assert_hostname=host,
            ssl_context=ssl.create_default_context(),
        )

    return _pools.made((scheme, machine, port, host), connect)
