"""Sockets that listen before their process begins: who starts several servers binds first and hands
the sockets on."""

import asyncio
import socket
from collections.abc import Awaitable
from typing import Any

from aiosmtpd.controller import Controller

HOST = "127.0.0.1"
#: How far above the wanted port a free one is looked for.
_FAR = 200


def listen(wanted: int) -> socket.socket:
    """A listening socket on loopback: on `wanted` if nobody else listens there, else on the next
    free port above it.

    From here on the port is ours: nobody can take it between this and the start of the process that
    serves it.
    """
    for port in range(wanted, min(wanted + _FAR, 65_536)):
        found = socket.socket(socket.AF_INET, socket.SOCK_STREAM)
        try:
            found.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            found.bind((HOST, port))
            # Only listening makes it exclusive: two may bind one port as long as neither listens.
            found.listen(128)
        except OSError:
            found.close()
            continue
        found.set_inheritable(True)
        return found
    raise OSError(f"no port from {wanted} to {wanted + _FAR} is free")


def port_of(listening: socket.socket) -> int:
    return int(listening.getsockname()[1])


class HandedOn(Controller):
    """A mail server on a socket that listens already, named by its file descriptor; without one it
    binds by itself."""

    def __init__(
        self, handler: Any, port: int, fd: int | None = None, host: str = HOST, **more: Any
    ):
        super().__init__(handler, hostname=host, port=port, **more)
        self._fd = fd

    def _create_server(self) -> Awaitable[asyncio.AbstractServer]:
        if self._fd is None:
            made: Awaitable[asyncio.AbstractServer] = super()._create_server()
            return made
        sock = socket.socket(fileno=self._fd)
        sock.setblocking(False)
        return self.loop.create_server(self._factory_invoker, sock=sock, ssl=self.ssl_context)
