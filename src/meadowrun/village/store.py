"""What the village keeps, in one small file: its residents, their mail, and what they are going to
do."""

import dataclasses
import hashlib
import json
import math
import pathlib
import sqlite3
import threading
from collections.abc import Iterable, Sequence

SCHEMA = """
CREATE TABLE IF NOT EXISTS residents (
    address TEXT PRIMARY KEY, fate TEXT NOT NULL DEFAULT 'takes', opens REAL NOT NULL,
    clicks REAL NOT NULL,
    buys REAL NOT NULL, leaves REAL NOT NULL, complains REAL NOT NULL,
    prefetches INTEGER NOT NULL, hour INTEGER NOT NULL);
CREATE TABLE IF NOT EXISTS mails (
    id INTEGER PRIMARY KEY, address TEXT NOT NULL, message_id TEXT NOT NULL, sender TEXT NOT NULL,
    subject TEXT NOT NULL,
    at REAL NOT NULL, raw BLOB NOT NULL, return_path TEXT NOT NULL);
CREATE INDEX IF NOT EXISTS mails_address ON mails (address, id);
CREATE INDEX IF NOT EXISTS mails_message_id ON mails (message_id);
CREATE TABLE IF NOT EXISTS plans (
    id INTEGER PRIMARY KEY, due REAL NOT NULL, mail_id INTEGER NOT NULL, deed TEXT NOT NULL,
    detail TEXT NOT NULL DEFAULT '',
    done INTEGER NOT NULL DEFAULT 0);
CREATE INDEX IF NOT EXISTS plans_due ON plans (done, due);
CREATE TABLE IF NOT EXISTS texts (
    id INTEGER PRIMARY KEY, key TEXT UNIQUE NOT NULL, number TEXT NOT NULL, sender TEXT NOT NULL,
    text TEXT NOT NULL, at REAL NOT NULL,
    mine INTEGER NOT NULL DEFAULT 0);
CREATE INDEX IF NOT EXISTS texts_number ON texts (number, id);
CREATE TABLE IF NOT EXISTS browsers (
    id TEXT PRIMARY KEY, contact TEXT NOT NULL, private TEXT NOT NULL, auth TEXT NOT NULL,
    gone INTEGER NOT NULL DEFAULT 0);
CREATE INDEX IF NOT EXISTS browsers_contact ON browsers (contact);
CREATE TABLE IF NOT EXISTS notifications (
    id INTEGER PRIMARY KEY, browser TEXT NOT NULL, topic TEXT NOT NULL, payload TEXT NOT NULL,
    ttl INTEGER NOT NULL, at REAL NOT NULL,
    UNIQUE (browser, topic));
CREATE TABLE IF NOT EXISTS apps (token TEXT PRIMARY KEY, contact TEXT NOT NULL,
system TEXT NOT NULL, gone INTEGER NOT NULL DEFAULT 0);
CREATE TABLE IF NOT EXISTS known_as (contact TEXT PRIMARY KEY, address TEXT NOT NULL,
phone TEXT NOT NULL DEFAULT '');
CREATE INDEX IF NOT EXISTS known_as_phone ON known_as (phone);
CREATE TABLE IF NOT EXISTS marks (name TEXT PRIMARY KEY, value REAL NOT NULL);
CREATE TABLE IF NOT EXISTS records (name TEXT NOT NULL, kind TEXT NOT NULL, value TEXT NOT NULL,
UNIQUE (name, kind, value));
CREATE TABLE IF NOT EXISTS habits (contact TEXT PRIMARY KEY, often REAL NOT NULL,
hour INTEGER NOT NULL, tier TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS doings (event TEXT PRIMARY KEY, a_day REAL NOT NULL,
members INTEGER NOT NULL, details TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS keys (name TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS deferrals (address TEXT PRIMARY KEY, times INTEGER NOT NULL);
"""


#: What becomes of mail to addresses that are nobody's in particular, by their domain.
DOMAINS = {"gone.example": "gone", "full.example": "full", "returns.example": "returns"}


@dataclasses.dataclass(frozen=True, slots=True)
class Resident:
    """One person's hidden truth: chances between 0 and 1, and the hour they like.

    `fate` says what becomes of mail to them: takes, gone (refused for good), full (asks to come
    again, twice), returns (taken, and sent back afterwards).
    """

    address: str
    fate: str
    opens: float
    clicks: float
    buys: float
    leaves: float
    complains: float
    prefetches: bool
    hour: int


@dataclasses.dataclass(frozen=True, slots=True)
class Habit:
    """How often one person does anything, beside others; the hour of the day (UTC) they like; the
    tier of their membership, or nothing."""

    contact: str
    often: float
    hour: int
    tier: str


@dataclasses.dataclass(frozen=True, slots=True)
class Doing:
    """A kind of event that people make: how often in a day of the middle of spring or autumn, by
    members only or by anybody, and details to choose from, each as JSON. What only members do
    tells their tier."""

    event: str
    a_day: float
    members: bool
    details: Sequence[str]


def pull(hours_apart: float) -> float:
    """How much likelier than usual somebody opens a message that comes so many hours away from the
    hour they like: 1.3 times at that hour, 0.7 times far from it."""
    apart = abs((hours_apart + 12) % 24 - 12)
    return 0.7 + 0.6 * math.exp(-0.5 * (apart / 2.5) ** 2)


class Store:
    """The file, for any number of threads."""

    def __init__(self, path: pathlib.Path | str):
        self._connection = sqlite3.connect(str(path), check_same_thread=False, isolation_level=None)
        self._lock = threading.Lock()
        self._connection.execute("PRAGMA journal_mode = WAL")
        self._connection.execute("PRAGMA synchronous = OFF")
        self._connection.executescript(SCHEMA)
        self._connection.row_factory = sqlite3.Row

    def rows(self, query: str, *values: object) -> list[sqlite3.Row]:
        with self._lock:
            return self._connection.execute(query, values).fetchall()

    def write(self, query: str, *values: object) -> int:
        with self._lock:
            return self._connection.execute(query, values).lastrowid or 0

    def settle(self, residents: Iterable[Resident]) -> None:
        with self._lock:
            self._connection.execute("BEGIN")
            self._connection.executemany(
                "INSERT OR REPLACE INTO residents VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
                (tuple(getattr(r, f.name) for f in dataclasses.fields(r)) for r in residents),
            )
            self._connection.execute("COMMIT")

    def live_as(self, habits: Iterable[Habit], doings: Iterable[Doing]) -> None:
        """Says what people do without being written to, and how often who of them does."""
        with self._lock:
            self._connection.execute("BEGIN")
            self._connection.executemany(
                "INSERT OR REPLACE INTO habits VALUES (?, ?, ?, ?)",
                (dataclasses.astuple(one) for one in habits),
            )
            self._connection.executemany(
                "INSERT OR REPLACE INTO doings VALUES (?, ?, ?, ?)",
                ((one.event, one.a_day, one.members, json.dumps(one.details)) for one in doings),
            )
            self._connection.execute("COMMIT")

    def habits(self) -> list[Habit]:
        return [Habit(*row) for row in self.rows("SELECT * FROM habits ORDER BY rowid")]

    def doings(self) -> list[Doing]:
        found = self.rows("SELECT * FROM doings ORDER BY event")
        return [
            Doing(row["event"], row["a_day"], bool(row["members"]), json.loads(row["details"]))
            for row in found
        ]

    def plan(self, due: float, deed: str, detail: str, mail: int = 0) -> None:
        """Has somebody do something at a moment (seconds since 1970), with an email or without."""
        self.write(
            "INSERT INTO plans (due, mail_id, deed, detail) VALUES (?, ?, ?, ?)",
            due,
            mail,
            deed,
            detail,
        )

    def take_key(self, name: str, value: str) -> None:
        """Keeps a key by which something in the village is let into the application."""
        self.write("INSERT OR REPLACE INTO keys VALUES (?, ?)", name, value)

    def key(self, name: str) -> str:
        """A key that was kept; empty when there is none."""
        found = self.rows("SELECT value FROM keys WHERE name = ?", name)
        return str(found[0]["value"]) if found else ""

    def publish(self, name: str, kind: str, value: str) -> None:
        """Publishes a record of a domain, TXT or MX."""
        self.write("INSERT OR IGNORE INTO records VALUES (?, ?, ?)", name.lower(), kind, value)

    def introduce(self, people: Iterable[tuple[str, str, str]]) -> None:
        """Who is who: the contact's number, the address, and the telephone number or nothing."""
        with self._lock:
            self._connection.execute("BEGIN")
            self._connection.executemany("INSERT OR REPLACE INTO known_as VALUES (?, ?, ?)", people)
            self._connection.execute("COMMIT")

    def take_in(self, people: Iterable[tuple[str, str, str]]) -> None:
        """Introduces newcomers; who has an address, or only a telephone, moves in with the habits
        of one who lives here."""
        for contact, address, phone in people:
            name = address or f"{contact}@newcomers.example"
            self.introduce([(contact, name.lower(), phone)])
            if self.resident(name) is None:
                self.moves_in(name)

    def last_known(self) -> int:
        """The largest number of a contact who is known; 0 before anybody is."""
        return int(
            self.rows("SELECT coalesce(max(CAST(contact AS INTEGER)), 0) AS last FROM known_as")[0][
                "last"
            ]
        )

    def mark(self, name: str) -> float:
        """How far something has got; 0 at first."""
        found = self.rows("SELECT value FROM marks WHERE name = ?", name)
        return float(found[0]["value"]) if found else 0.0

    def set_mark(self, name: str, value: float) -> None:
        self.write("INSERT OR REPLACE INTO marks VALUES (?, ?)", name, value)

    def resident_of(self, contact: str) -> Resident | None:
        """The resident of a contact's number."""
        found = self.rows("SELECT address FROM known_as WHERE contact = ?", contact)
        return self.resident(found[0]["address"]) if found else None

    def resident(self, address: str) -> Resident | None:
        found = self.rows("SELECT * FROM residents WHERE address = ?", address.lower())
        return Resident(**dict(found[0])) if found else None

    def moves_in(self, address: str) -> Resident | None:
        """Somebody new, say from an imported file, with the habits of one who lives here already,
        picked by the address. None where nobody lives yet."""
        last = self.rows("SELECT max(rowid) AS last FROM residents")[0]["last"] or 1
        place = int.from_bytes(hashlib.sha256(address.lower().encode()).digest()[:6]) % last
        found = self.rows(
            "SELECT * FROM residents WHERE fate = 'takes' AND rowid > ? ORDER BY rowid LIMIT 1",
            place,
        )
        if not found:
            return None
        # What becomes of mail to some hosts is said by their names.
        fate = DOMAINS.get(address.rpartition("@")[2].lower(), "takes")
        newcomer = Resident(**dict(found[0]) | {"address": address.lower(), "fate": fate})
        self.settle([newcomer])
        return newcomer

    def close(self) -> None:
        self._connection.close()
