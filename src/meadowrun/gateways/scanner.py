"""A scanner for malicious software that speaks the protocol of clamd, Debian's package
`clamav-daemon`: asked about every uploaded file."""

import socket
import struct

from meadowrun.base.errors import GatewayUnavailable, Invalid
from meadowrun.core.language import Wording

#: Bytes of a file that are sent at once.
_PIECE = 1 << 16
#: Seconds that connecting, and each answer, may take.
_PATIENCE = 30.0


def check(where: tuple[str, int] | None, content: bytes, name: str) -> None:
    """Has a file looked through; `where` is the scanner's host and port, None where there is none.

    Raises Invalid where something is found, GatewayUnavailable where nobody answers: what nobody
    looked at is not taken.
    """
    if where is None or not content:
        return
    try:
        said = _asked(where, content)
    except OSError as problem:
        raise GatewayUnavailable(
            Wording(
                "The scanner for malicious files %(where)s:%(where_2)s does not answer, and "
                "without it no file is taken: %(problem)s. Try again later, or tell an "
                "administrator.",
                where=where[0],
                where_2=where[1],
                problem=problem,
            )
        ) from problem
    if said.endswith("FOUND"):
        raise Invalid(
            Wording(
                "“%(name)s” is not taken: the scanner found %(removesuffix)s in it.",
                name=name,
                removesuffix=said.removeprefix("stream: ").removesuffix(" FOUND"),
            ),
            "file",
        )
    if not said.endswith("OK"):
        raise GatewayUnavailable(
            Wording(
                "The scanner for malicious files could not look through “%(name)s”: %(value)s.",
                name=name,
                value=said[:200] or "it said nothing",
            )
        )


def _asked(where: tuple[str, int], content: bytes) -> str:
    """The answer to INSTREAM: the file in pieces, each after its length, ended by an empty one."""
    with socket.create_connection(where, timeout=_PATIENCE) as line:
        line.sendall(b"zINSTREAM\0")
        for start in range(0, len(content), _PIECE):
            piece = content[start : start + _PIECE]
            line.sendall(struct.pack(">I", len(piece)) + piece)
        line.sendall(struct.pack(">I", 0))
        answer = b""
        while not answer.endswith(b"\0") and (more := line.recv(4096)):
            answer += more
        return answer.rstrip(b"\0").decode(errors="replace").strip()
