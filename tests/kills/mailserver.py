"""A mail server for the kill tests, in a process of its own, whose own record is the truth that all
else is held against.

`reached` and `stored` are appended to a file before any answer, so that they outlive a kill;
receipts are answered from what was stored. How it behaves is one of KINDS.
"""

import argparse
import asyncio
import json
import pathlib
import random
import re
from dataclasses import dataclass

#: fast: answers at once. slow: answers late. late: stores late, also when nobody listens any more.
#: deferring: some
#: addresses come again later. refusing: some are refused for good. cutting: hangs up at any stage.
KINDS = ("fast", "slow", "late", "deferring", "refusing", "cutting")
#: Seconds after which a late server has stored what it got.
LATEST = 4.0
_ID = re.compile(rb"^Message-ID: (<[^>]+>)", re.M | re.I)


@dataclass
class Server:
    kind: str
    record: pathlib.Path
    dice: random.Random

    def __post_init__(self):
        self.file = self.record.open("a", buffering=1)
        self.stored = {
            line.split()[1]
            for line in self.record.read_text().splitlines()
            if line.startswith("stored ")
        }
        self.asked = {}

    def note(self, what, ident):
        self.file.write(f"{what} {ident}\n")
        if what == "stored":
            self.stored.add(ident)

    def refuses(self, address):
        number = int(re.search(r"p(\d+)@", address).group(1))
        if self.kind == "refusing" and number % 7 == 0:
            return b"550 5.1.1 nobody of that name\r\n"
        if self.kind == "deferring" and number % 5 == 0:
            self.asked[address] = self.asked.get(address, 0) + 1
            if self.asked[address] <= 1:
                return b"452 4.2.2 come again later\r\n"
        return None

    def cuts(self, chance):
        return self.kind == "cutting" and self.dice.random() < chance

    async def talk(self, reader, writer):
        writer.write(b"220 kills\r\n")
        refused = None
        try:
            while line := await reader.readline():
                verb = line[:4].upper()
                if verb == b"EHLO":
                    writer.write(b"250-kills\r\n250 PIPELINING\r\n")
                elif verb == b"MAIL":
                    refused = None
                    writer.write(b"250 ok\r\n")
                elif verb == b"RCPT":
                    refused = self.refuses(line.decode())
                    writer.write(refused or b"250 ok\r\n")
                elif verb == b"DATA":
                    if refused:
                        writer.write(b"503 5.5.1 no valid recipients\r\n")
                        continue
                    if self.cuts(0.01):
                        break
                    writer.write(b"354 go on\r\n")
                    content = await reader.readuntil(b"\r\n.\r\n")
                    if not await self.take(_ID.search(content).group(1).decode()):
                        break
                    writer.write(b"250 taken\r\n")
                elif verb == b"QUIT":
                    writer.write(b"221 bye\r\n")
                    break
                else:
                    writer.write(b"250 ok\r\n")
                await writer.drain()
        except (ConnectionError, asyncio.IncompleteReadError):
            pass
        writer.close()

    async def take(self, ident):
        """Takes one email; False when it hangs up without a word afterwards."""
        self.note("reached", ident)
        if self.kind == "late":
            # Stored whether anybody still listens or not.
            await asyncio.shield(asyncio.ensure_future(self._later(ident)))
            return True
        self.note("stored", ident)
        if self.cuts(0.01):
            return False
        await asyncio.sleep({"slow": 0.3}.get(self.kind, 0.05) * self.dice.uniform(0.5, 1.5))
        return True

    async def _later(self, ident):
        # Most come soon; some take as long as this server ever takes.
        await asyncio.sleep(LATEST if self.dice.random() < 0.02 else self.dice.uniform(0.05, 0.15))
        self.note("stored", ident)

    async def receipts(self, reader, writer):
        try:
            head = (await reader.readuntil(b"\r\n\r\n")).decode().lower()
            body = await reader.readexactly(int(re.search(r"content-length: (\d+)", head).group(1)))
            said = json.dumps(
                {"taken": {i: i in self.stored for i in json.loads(body)["message_ids"]}}
            ).encode()
            writer.write(
                b"HTTP/1.0 200 OK\r\nContent-Type: application/json\r\nContent-Length: %d\r\n\r\n"
                % len(said)
                + said
            )
            await writer.drain()
        except (ConnectionError, asyncio.IncompleteReadError):
            pass
        writer.close()


async def serve(arguments):
    server = Server(arguments.kind, pathlib.Path(arguments.record), random.Random(arguments.seed))
    listeners = [
        await asyncio.start_server(server.talk, "127.0.0.1", arguments.smtp, limit=1 << 24),
        await asyncio.start_server(server.receipts, "127.0.0.1", arguments.http),
    ]
    await asyncio.gather(*(listener.serve_forever() for listener in listeners))


if __name__ == "__main__":
    parser = argparse.ArgumentParser()
    parser.add_argument("--kind", choices=KINDS)
    parser.add_argument("--record")
    for number in ("--smtp", "--http", "--seed"):
        parser.add_argument(number, type=int)
    asyncio.run(serve(parser.parse_args()))
