"""Taking events in: read and checked in batches, each stored once by its sender's id."""

import dataclasses
import datetime as dt
import re
from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

import orjson
import psycopg.errors
import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import driver
from meadowrun.base.errors import Invalid
from meadowrun.core import values
from meadowrun.people import actions as people
from meadowrun.people.models import Contact
from meadowrun.tracking.models import EventKind

MOST_EVENTS = 1000
_OLDEST = dt.timedelta(days=365 * 20)
_AHEAD = dt.timedelta(hours=26)
_KEY = re.compile(r"[a-z][a-z0-9_]{0,59}\Z")
#: Read anew for every batch, so their texts are made once.
_KINDS = sa.text("SELECT key, id, details FROM event_kinds WHERE key = ANY(:keys)")
_THERE = sa.text("SELECT count(*) FROM contacts WHERE id = ANY(CAST(:ids AS bigint[]))")
#: What COPY would take for the end of a cell or a row.
_SPECIAL = re.compile(r"[\\\t\n\r]")
_FOR_COPY = str.maketrans({"\\": "\\\\", "\t": "\\t", "\n": "\\n", "\r": "\\r"})


@dataclasses.dataclass(frozen=True)
class Taken:
    """What became of a batch of events."""

    stored: int
    known_before: int
    newcomers: int


class Incoming(NamedTuple):
    """One event as given: `who` is a contact's number, or an address."""

    kind: str
    who: int | str
    at: dt.datetime
    id: str | None
    details: Mapping[str, Any]
    #: the details and the moment as they are stored; empty where that is still to be worked out
    text: str = ""
    stamp: str = ""


def read_events(data: Any, now: dt.datetime) -> list[Incoming]:
    """Checks a batch of events given as JSON. Raises Invalid naming the place, like events[3].at."""
    if not isinstance(data, list) or not data:
        raise Invalid("Send an object with “events”, a list of at least one event.", "events")
    if len(data) > MOST_EVENTS:
        raise Invalid(f"Send at most {MOST_EVENTS} events at once; this batch has {len(data)}.", "events")
    found: list[Incoming] = []
    moments: dict[Any, tuple[dt.datetime, str]] = {None: (now, now.isoformat())}
    for item in data:
        try:
            found.append(_read_event(item, now, moments))
        except Invalid as problem:
            place = f"events[{len(found)}]"
            raise Invalid(f"{place}{problem}", place + (problem.where or "")) from None
    return found


def _read_event(item: Any, now: dt.datetime, moments: dict[Any, tuple[dt.datetime, str]]) -> Incoming:
    """One event; `moments` are those already read. Raises Invalid whose words and place follow “events[3]”."""
    if not isinstance(item, Mapping):
        raise Invalid(" is not an object.")
    kind, who, ident, details = item.get("event"), item.get("contact"), item.get("id"), item.get("details") or {}
    if not isinstance(kind, str) or not _KEY.match(kind):
        raise Invalid(".event must be a name of small letters, digits and underscores.", ".event")
    if not isinstance(who, int) or isinstance(who, bool):
        who = item.get("email")
        if not isinstance(who, str):
            raise Invalid(" needs “contact” (a number) or “email”.")
        if problem := values.email_problem(who):
            raise Invalid(f".email: {problem}.", ".email")
    try:
        text = orjson.dumps(details).decode() if details else ""
    except orjson.JSONEncodeError as wrong:
        raise Invalid(f".details: {wrong}.", ".details") from None
    if not isinstance(details, Mapping) or len(text) > 8000 or "\\u0000" in text:
        raise Invalid(".details must be an object of at most 8,000 characters, none of them null.", ".details")
    if ident is not None and not usable_id(ident):
        raise Invalid(".id must be a text of at most 200 characters, none of them null.", ".id")
    given = item.get("at")
    moment = moments.get(given) if isinstance(given, str | None) else None
    if moment is None:
        at = _moment(given, now)
        moment = moments[given] = (at, at.isoformat())
    return Incoming(kind, who, moment[0], ident, details, text, moment[1])


def usable_id(ident: Any) -> bool:
    """Whether a sender's id of an event can be kept."""
    if not isinstance(ident, str) or not 0 < len(ident) <= 200 or "\0" in ident:
        return False
    # Half of a pair of UTF-16 is no character.
    return ident.isascii() or not any("\ud800" <= sign <= "\udfff" for sign in ident)


def _moment(value: Any, now: dt.datetime) -> dt.datetime:
    try:
        moment = dt.datetime.fromisoformat(str(value))
    except ValueError:
        raise Invalid(".at must be a moment like 2026-11-23T14:02:00Z.", ".at") from None
    if moment.tzinfo is None:
        raise Invalid(".at lacks its zone: add Z or +01:00.", ".at")
    if not now - _OLDEST <= moment <= now + _AHEAD:
        raise Invalid(".at lies in the future, or more than 20 years back.", ".at")
    return moment.astimezone(dt.UTC)


def take_events(session: orm.Session, now: dt.datetime, source: str, events: Sequence[Incoming]) -> Taken:
    """Stores a batch in one transaction. An id given before by the same source is not stored again.

    Unknown kinds are added with plain words; unknown addresses become contacts without any consent.
    """
    kinds = _kinds(session, events)
    numbers, newcomers = _contacts(session, now, events, source)
    fresh = events
    keys = [f"{source}/{e.id}" if e.id is not None else None for e in events]
    single = dict.fromkeys(key for key in keys if key is not None)
    if single:
        new = _keep_receipts(session, sorted(single))
        if len(new) < len(events):
            # Of one id twice within the batch only the first counts.
            asked = {key: place for place, key in reversed(list(enumerate(keys)))}
            fresh = [e for place, (e, key) in enumerate(zip(events, keys, strict=True)) if key is None or (key in new and asked[key] == place)]
    # JSON has no tabs or line ends of its own; only its backslashes mean something to COPY.
    rows = [f"{numbers[e.who]}\t{e.stamp or e.at.isoformat()}\t{kinds[e.kind]}\t{_cell(e)}" for e in fresh if e.who in numbers]
    if rows:
        with driver(session).cursor() as cursor, \
                cursor.copy("COPY events (contact_id, at, kind_id, details) FROM STDIN") as copy:
            copy.write("\n".join(rows) + "\n")
    return Taken(len(rows), len(events) - len(fresh), newcomers)


def _cell(event: Incoming) -> str:
    """An event's details as COPY takes them."""
    text = event.text or (orjson.dumps(event.details).decode() if event.details else "\\N")
    return text if text == "\\N" or "\\" not in text else text.replace("\\", "\\\\")


def _keep_receipts(session: orm.Session, keys: list[str]) -> set[str]:
    """Stores the receipts that are not there yet and says which these were; concurrent batches wait for one another.

    Nearly every batch is new. So all are copied, which is cheaper than asking for each; where one was known, that is taken back
    and each is asked for after all. Keys keep the order of the sender's own ids: those that grow are stored side by side.
    """
    cursor = driver(session).cursor()
    cursor.execute("SAVEPOINT receipts")
    # Null is no part of any key.
    plain = not _SPECIAL.search("\0".join(keys))
    try:
        with cursor.copy("COPY event_receipts (key) FROM STDIN") as copy:
            copy.write("\n".join(keys if plain else [key.translate(_FOR_COPY) for key in keys]) + "\n")
        cursor.execute("RELEASE SAVEPOINT receipts")
        return set(keys)
    except psycopg.errors.UniqueViolation:
        cursor.execute("ROLLBACK TO SAVEPOINT receipts")
    return set(session.scalars(sa.text(
        "INSERT INTO event_receipts (key) SELECT unnest(CAST(:keys AS text[])) ON CONFLICT DO NOTHING RETURNING key"), {"keys": keys}))


def _kinds(session: orm.Session, events: Sequence[Incoming]) -> dict[str, int]:
    # Of a thousand events most look the same: each shape is looked at once.
    shapes = {(e.kind, *e.details): e for e in events}
    wanted = {e.kind for e in shapes.values()}
    known = {key: (ident, details) for key, ident, details in session.execute(_KINDS, {"keys": list(wanted)}).all()}
    for key in sorted(wanted - known.keys()):
        session.execute(sa.text(
            "INSERT INTO event_kinds (key, did, \"do\") VALUES (:key, :did, :do) ON CONFLICT (key) DO NOTHING"),
            {"key": key, "did": f"did “{key.replace('_', ' ')}”", "do": f"do “{key.replace('_', ' ')}”"})
    if wanted - known.keys():
        known = {key: (ident, details) for key, ident, details in session.execute(_KINDS, {"keys": list(wanted)}).all()}
    for event in shapes.values():
        if event.details.keys() <= known[event.kind][1].keys():
            continue
        kind = session.get_one(EventKind, known[event.kind][0])
        new = {k: v for k, v in event.details.items() if k not in kind.details and len(kind.details) < 40}
        if new:
            kind.details = kind.details | {k: {"label": k.replace("_", " "), "type": "number" if isinstance(
                v, int | float) and not isinstance(v, bool) else "text"} for k, v in new.items()}
            session.flush()
    return {key: ident for key, (ident, _) in known.items()}


def _contacts(session: orm.Session, now: dt.datetime, events: Sequence[Incoming],
              source: str) -> tuple[dict[int | str, int], int]:
    """The contact's number for everyone named; addresses nobody has become contacts."""
    numbers: dict[int | str, int] = {}
    given = {e.who for e in events if isinstance(e.who, int)}
    if given:
        numbers |= {n: n for n in given}
        literal = {"ids": f"{{{','.join(map(str, given))}}}"}
        there = session.execute(_THERE, literal).scalar_one()
        if there < len(given):
            unknown = session.execute(sa.text("SELECT min(x) FROM unnest(CAST(:ids AS bigint[])) AS x WHERE NOT EXISTS "
                                              "(SELECT 1 FROM contacts c WHERE c.id = x)"), literal).scalar()
            raise Invalid(f"There is no contact {unknown}.", "contact")
    addresses = {e.who: values.email_key(e.who) for e in events if isinstance(e.who, str)}
    if not addresses:
        return numbers, 0
    known = _by_address(session, set(addresses.values()))
    missing = sorted(set(addresses.values()) - known.keys())
    if missing:
        people.lock_people(session)
        known |= _by_address(session, set(missing))
        for key in missing:
            if key not in known:
                name_key, search_key = people.search_keys(None, None, key)
                made = Contact(email=key, email_key=key, email_usable=True, attributes={}, name_key=name_key,
                               search_key=search_key, source=source, created_at=now, updated_at=now)
                session.add(made)
                session.flush()
                known[key] = made.id
    return numbers | {who: known[key] for who, key in addresses.items()}, len(missing)


def _by_address(session: orm.Session, keys: set[str]) -> dict[str, int]:
    """The oldest contact of each address."""
    return {row[0]: row[1] for row in session.execute(
        sa.select(Contact.email_key, sa.func.min(Contact.id)).where(
            Contact.email_key == sa.any_(sa.literal(list(keys), sa.ARRAY(sa.Text))))
        .group_by(Contact.email_key))}
