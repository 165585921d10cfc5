"""A fast mail server for tests and measurements: takes everything, remembers each Message-ID with
how often it came, and tells by HTTP."""

import asyncio
import collections
import http.server
import json
import re
import threading
from typing import Any

_ID = re.compile(rb"^Message-ID: (<[^>]+>)", re.M | re.I)


class Sink:
    """Listens on two free ports of loopback: `smtp` for mail, `http` for questions about it."""

    def __init__(self) -> None:
        self.taken: collections.Counter[str] = collections.Counter()
        self.loop = asyncio.new_event_loop()
        self.ready = threading.Event()
        threading.Thread(target=self._run, daemon=True).start()
        self.ready.wait(10)
        sink = self

        class Receipts(http.server.BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                asked = json.loads(self.rfile.read(int(self.headers["Content-Length"])))[
                    "message_ids"
                ]
                body = json.dumps({"taken": {m: m in sink.taken for m in asked}}).encode()
                self.send_response(200)
                self.end_headers()
                self.wfile.write(body)

            def log_message(self, *_: Any) -> None:
                pass

        self.receipts = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Receipts)
        self.http = self.receipts.server_address[1]
        threading.Thread(target=self.receipts.serve_forever, daemon=True).start()

    def _run(self) -> None:
        asyncio.set_event_loop(self.loop)
        self.server = self.loop.run_until_complete(
            asyncio.start_server(self._talk, "127.0.0.1", 0, limit=1 << 24)
        )
        self.smtp = self.server.sockets[0].getsockname()[1]
        self.ready.set()
        self.loop.run_forever()

    async def _talk(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        writer.write(b"220 sink\r\n")
        try:
            while line := await reader.readline():
                verb = line[:4].upper()
                if verb == b"EHLO":
                    writer.write(b"250-sink\r\n250 PIPELINING\r\n")
                elif verb == b"DATA":
                    writer.write(b"354 go on\r\n")
                    content = await reader.readuntil(b"\r\n.\r\n")
                    found = _ID.search(content)
                    self.taken[found.group(1).decode() if found else ""] += 1
                    writer.write(b"250 taken\r\n")
                elif verb == b"QUIT":
                    writer.write(b"221 bye\r\n")
                    break
                else:
                    writer.write(b"250 ok\r\n")
        except (ConnectionError, asyncio.IncompleteReadError):
            pass
        writer.close()

    def close(self) -> None:
        self.receipts.shutdown()
        self.loop.call_soon_threadsafe(self.loop.stop)


if __name__ == "__main__":
    # A process of its own, so that it takes no time from whoever sends to it.
    print(Sink().smtp, flush=True)
    threading.Event().wait()
