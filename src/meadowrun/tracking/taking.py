"""Taking events in: read and checked in batches, each stored once by its sender's id."""

import dataclasses
import datetime as dt
import re
from collections.abc import Callable, Collection, Mapping, Sequence
from typing import Any, NamedTuple

import orjson
import psycopg
import psycopg.errors
import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import driver, number_array
from meadowrun.base.errors import Invalid
from meadowrun.core import values
from meadowrun.core.details import held, inferred
from meadowrun.core.language import Wording
from meadowrun.people import actions as people
from meadowrun.people.models import Contact, EventKind
from meadowrun.people.queries import living

MOST_EVENTS = 1000
#: A kind learns no more details than these by itself.
MOST_DETAILS = 40
_OLDEST = dt.timedelta(days=365 * 20)
_AHEAD = dt.timedelta(hours=26)
_KEY = re.compile(r"[a-z][a-z0-9_]{0,59}\Z")
#: What a batch must know before it is stored, in one question: how many of these contacts there
#: are, and the kinds by key.
#: (The subselect keeps the planner from weighing a thousand constants.)
_KNOWN = """SELECT (SELECT count(*) FROM contacts WHERE id = ANY(ARRAY(SELECT unnest(CAST(%s AS
bigint[]))))),
    (SELECT jsonb_object_agg(k, jsonb_build_array(id, details, heard))
    FROM event_kinds, unnest(array_append(aka, key)) k WHERE k = ANY(%s))"""
#: Keeps a detail that does not fit.
_ASIDE = """INSERT INTO details_aside (contact_id, at, kind_id, detail, value, source, taken_at)
VALUES (%s, %s, %s, %s, CAST(%s AS jsonb), %s, %s)"""
_COPY_HEARD = "COPY heard (contact_id, kind_id, at, details, noted_at) FROM STDIN"
_COPY = "COPY events (contact_id, kind_id, at, details) FROM STDIN"
#: What COPY would take for the end of a cell or a row.
_SPECIAL = re.compile(r"[\\\t\n\r]")
#: Rows that are handed to COPY at once: it reads the first while the next are made.
_PIECE = 250
_MOST_NUMBER = 2**63
_NULL = "\\N"
_FOR_COPY = str.maketrans({"\\": "\\\\", "\t": "\\t", "\n": "\\n", "\r": "\\r"})


@dataclasses.dataclass(frozen=True)
class Taken:
    """What became of a batch of events."""

    stored: int
    known_before: int
    newcomers: int
    #: details that do not fit the type of their kind, kept aside to be fixed: the event is stored
    #: without them
    aside: tuple["Aside", ...] = ()


class Aside(NamedTuple):
    """A detail that does not fit: `place` is the event's in its batch, `why` follows the value."""

    place: int
    detail: str
    value: Any
    why: str


class Incoming(NamedTuple):
    """One event as given: `who` is a contact's number, or an address."""

    kind: str
    who: int | str
    details: Mapping[str, Any]
    #: the moment and the details as COPY takes them
    cells: str


def _cell(text: str) -> str:
    """JSON as COPY takes it. It has no tabs or line ends of its own; only its backslashes mean
    something to COPY."""
    return text.replace("\\", "\\\\") if "\\" in text else text


@dataclasses.dataclass
class Batch:
    """Events that were read; with the names of details by kind, and the addresses, that stand in
    them."""

    events: list[Incoming] = dataclasses.field(default_factory=list)
    details: dict[str, set[str]] = dataclasses.field(default_factory=dict)
    addresses: set[str] = dataclasses.field(default_factory=set)
    #: by kind, what type each of its details has: as it is known, or as this batch is the first to
    #: show it
    types: dict[str, dict[str, str]] = dataclasses.field(default_factory=dict)
    #: by kind, the class of a value that needs no second look, by the name of its detail
    plain: dict[str, dict[str, type]] = dataclasses.field(default_factory=dict)
    #: (detail, value, why) of what does not fit its kind, by the place of its event
    odd: dict[int, Sequence[tuple[str, Any, str]]] = dataclasses.field(default_factory=dict)
    #: moments already read: of a thousand most are the same
    moments: dict[str | None, str] = dataclasses.field(default_factory=dict)


def _read_events(
    data: list[Any], keys: Sequence[str | None], now: dt.datetime, known: Mapping[str, Any]
) -> Batch:
    """Checks a batch of events given as JSON; `keys` are those of their receipts, `known` is
    [number, details, heard] by kind. Raises Invalid naming the place, like events[3].at."""
    batch = Batch(
        moments={None: now.isoformat()},
        types={
            key: {name: spec["type"] for name, spec in details.items()}
            for key, (_, details, _) in known.items()
        },
    )
    batch.plain = {
        key: {name: _PLAIN[kind] for name, kind in types.items() if kind in _PLAIN}
        for key, types in batch.types.items()
    }
    for place, item in enumerate(data):
        try:
            if not isinstance(item, dict):
                raise Invalid(" is not an object.")
            batch.events.append(_read_event(item, keys[place], now, batch, place))
        except Invalid as problem:
            raise Invalid(
                f"events[{place}]{problem}", f"events[{place}]{problem.where or ''}"
            ) from None
    return batch


def _read_event(
    item: dict[str, Any], key: str | None, now: dt.datetime, batch: Batch, place: int
) -> Incoming:
    """One event. Raises Invalid whose words and place follow “events[3]”."""
    kind, who, ident, given = item.get("event"), item.get("contact"), item.get("id"), item.get("at")
    if not isinstance(kind, str) or kind not in batch.details:
        if not isinstance(kind, str) or not _KEY.match(kind):
            raise Invalid(
                ".event must be a name of lower-case letters, digits and underscores.", ".event"
            )
        batch.details[kind] = set()
        batch.plain.setdefault(kind, {})
    if not isinstance(who, int) or isinstance(who, bool):
        who = item.get("email")
        if not isinstance(who, str):
            raise Invalid(" needs “contact” (a number) or “email”.")
        if problem := values.email_problem(who):
            raise Invalid(Wording(".email: %(problem)s.", problem=problem), ".email")
        batch.addresses.add(who)
    elif not 0 < who < _MOST_NUMBER:
        raise Invalid(".contact is not a contact's number.", ".contact")
    details = item.get("details") or {}
    text = _NULL
    if details:
        try:
            text = orjson.dumps(details).decode()
        except orjson.JSONEncodeError as wrong:
            raise Invalid(Wording(".details: %(wrong)s.", wrong=wrong), ".details") from None
        if not isinstance(details, dict) or len(text) > 8000 or "\\u0000" in text:
            raise Invalid(
                ".details must be an object of at most 8,000 characters, none of them null.",
                ".details",
            )
        batch.details[kind].update(details)
        plain = batch.plain[kind]
        for name, value in details.items():
            if value.__class__ is not plain.get(name):
                # Something here needs a second look; most events have nothing of that sort.
                kept, odd = _held(details, batch.types.setdefault(kind, {}), plain)
                if odd:
                    batch.odd[place] = odd
                if kept is not details:
                    text = orjson.dumps(kept).decode()
                break
        text = _cell(text)
    if key is None and ident is not None:
        raise Invalid(".id must be a text of at most 200 characters, none of them null.", ".id")
    stamp = batch.moments.get(given) if given is None or isinstance(given, str) else None
    if stamp is None:
        stamp = batch.moments[str(given)] = _moment(given, now).isoformat()
    return Incoming(kind, who, details, f"{stamp}\t{text}")


#: What needs no second look: a value of this very class has the form of its type.
_PLAIN: dict[str, type] = {"number": int, "text": str, "choice": str}


def _held(
    details: dict[str, Any], types: dict[str, str], plain: dict[str, type]
) -> tuple[dict[str, Any], Sequence[tuple[str, Any, str]]]:
    """Details in the form of their types, the same object where nothing had to change; and those
    that do not fit, which are left out. A detail that is met for the first time gives its own type;
    null gives none, and is as if left out."""
    kept, odd = details, list[tuple[str, Any, str]]()
    for name, value in details.items():
        if value is None:
            kept = {k: v for k, v in kept.items() if k != name}
            continue
        kind = types.get(name)
        if kind is None:
            types[name] = inferred(value)
            plain[name] = _PLAIN[types[name]]
            continue
        try:
            found = held(kind, value)
        except values.ValueProblem as problem:
            odd.append((name, value, str(problem)))
            kept = {k: v for k, v in kept.items() if k != name}
            continue
        if found is not value:
            kept = kept | {name: found}
    return kept, odd


def _usable_id(ident: Any) -> bool:
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
        raise Invalid(".at is in the future, or more than 20 years back.", ".at")
    return moment.astimezone(dt.UTC)


def take_events(session: orm.Session, now: dt.datetime, source: str, data: Any) -> Taken:
    """Checks a batch of events given as JSON and stores it in one transaction. An id given before
    by the same source is not stored again. Unknown kinds are added with plain words; unknown
    addresses become contacts without any consent; a contact that was merged into another counts as
    that one. Raises Invalid naming the place, like events[3].at; then nothing of it is stored.
    """
    if not isinstance(data, list) or not data:
        raise Invalid("Send an object with “events”, a list of at least one event.", "events")
    if len(data) > MOST_EVENTS:
        raise Invalid(
            Wording(
                "Send at most %(most_events)s events at once; this batch has %(data)s.",
                most_events=MOST_EVENTS,
                data=len(data),
            ),
            "events",
        )
    session.flush()
    connection = driver(session)
    numbers, kinds, keys = _named(data, source)
    single = sorted({key for key in keys if key is not None})
    # While the database answers and stores, the events are read: none waits for the other.
    with connection.pipeline():
        asked = connection.execute(_KNOWN, (number_array(numbers), kinds))
        connection.execute("SAVEPOINT batch")
        receipts = _column(single)
        there, known = asked.fetchone()
    try:
        batch, new = _keep_receipts(
            session, single, receipts, lambda: _read_events(data, keys, now, known or {})
        )
        who, newcomers = _contacts(session, now, source, batch, numbers, there)
    except Invalid:
        connection.execute("ROLLBACK TO SAVEPOINT batch")
        raise
    known = known or {}
    kind = _kinds(session, batch, known)
    events, odd = _counted(batch, keys, new)
    _store(connection, events, who, kind)
    heard = {key for key in kind if known[key][2]}
    if heard:
        _hear(connection, [event for event in events if event.kind in heard], who, kind, now)
    aside = [(event, Aside(place, *one)) for place, event in odd for one in batch.odd[place]]
    if aside:
        rows = [
            (
                who[e.who],
                e.cells.partition("\t")[0],
                kind[e.kind],
                one.detail,
                orjson.dumps(one.value).decode(),
                source,
                now,
            )
            for e, one in aside
        ]
        with connection.cursor() as cursor:
            cursor.executemany(_ASIDE, rows)
    connection.execute("RELEASE SAVEPOINT batch")
    return Taken(len(events), len(data) - len(events), newcomers, tuple(one for _, one in aside))


def _counted(
    batch: Batch, keys: Sequence[str | None], new: Collection[str]
) -> tuple[list[Incoming], list[tuple[int, Incoming]]]:
    """The events that are stored, and (place, event) of those among them with a detail that does
    not fit: all but those whose id was given before. Of one id twice within the batch only the
    first counts."""
    events = batch.events
    odd = [(place, events[place]) for place in batch.odd]
    if len(new) == len(events):
        return events, odd
    first = {key: place for place, key in reversed(list(enumerate(keys)))}

    def counts(place: int) -> bool:
        key = keys[place]
        return key is None or key in new and first[key] == place

    return (
        [event for place, event in enumerate(events) if counts(place)],
        [one for one in odd if counts(one[0])],
    )


def _hear(
    connection: psycopg.Connection[Any],
    events: Sequence[Incoming],
    who: Mapping[int | str, int],
    kind: Mapping[str, int],
    now: dt.datetime,
) -> None:
    """Puts events where those look who wait for them."""
    if not events:
        return
    noted = now.isoformat()
    with connection.cursor() as cursor, cursor.copy(_COPY_HEARD) as copy:
        copy.write("".join([f"{who[e.who]}\t{kind[e.kind]}\t{e.cells}\t{noted}\n" for e in events]))


def _store(
    connection: psycopg.Connection[Any],
    events: Sequence[Incoming],
    who: Mapping[int | str, int],
    kind: Mapping[str, int],
) -> None:
    if not events:
        return
    with connection.cursor() as cursor, cursor.copy(_COPY) as copy:
        for start in range(0, len(events), _PIECE):
            piece = events[start : start + _PIECE]
            copy.write("".join([f"{who[e.who]}\t{kind[e.kind]}\t{e.cells}\n" for e in piece]))


def _column(keys: Sequence[str]) -> str:
    """Texts as COPY takes one column of them."""
    # Null is no part of any key.
    plain = not _SPECIAL.search("\0".join(keys))
    return "\n".join(keys if plain else [key.translate(_FOR_COPY) for key in keys]) + "\n"


def _keep_receipts(
    session: orm.Session, keys: Sequence[str], column: str, read: Callable[[], Batch]
) -> tuple[Batch, set[str]]:
    """Stores the receipts that are not there yet and says which these were; concurrent batches wait
    for one another. The events are read while the database is busy. Expects the savepoint “batch”,
    with nothing stored since.

    Nearly every batch is new. So all are copied, which is cheaper than asking for each; where one
    was known, that is taken back and each is asked for after all. Keys keep the order of the
    sender's own ids: those that grow are stored side by side.
    """
    if not keys:
        return read(), set()
    connection = driver(session)
    batch: Batch | None = None
    try:
        with (
            connection.cursor() as cursor,
            cursor.copy("COPY event_receipts (key) FROM STDIN") as copy,
        ):
            copy.write(column)
            batch = read()
        return batch, set(keys)
    except psycopg.errors.UniqueViolation:
        connection.execute("ROLLBACK TO SAVEPOINT batch")
        # It may come before the events were read.
        batch = batch or read()
    return batch, set(
        session.scalars(
            sa.text(
                "INSERT INTO event_receipts (key) SELECT unnest(CAST(:keys AS text[])) ON "
                "CONFLICT DO NOTHING RETURNING key"
            ),
            {"keys": keys},
        )
    )


def _named(data: list[Any], source: str) -> tuple[list[int], list[str], list[str | None]]:
    """The contacts' numbers and the kinds that a batch names, and the key of each event's receipt.
    What is not a number, kind or id is left out: reading the events refuses it."""
    numbers, kinds = set(), set()
    keys: list[str | None] = []
    sender = f"{source}/"
    for item in data:
        if not isinstance(item, dict):
            continue
        number, kind, ident = item.get("contact"), item.get("event"), item.get("id")
        if isinstance(number, int) and number is not True and 0 < number < _MOST_NUMBER:
            numbers.add(number)
        if isinstance(kind, str):
            kinds.add(kind)
        keys.append(sender + ident if ident is not None and _usable_id(ident) else None)
    return list(numbers), [kind for kind in kinds if _KEY.match(kind)], keys


def _contacts(
    session: orm.Session,
    now: dt.datetime,
    source: str,
    batch: Batch,
    given: Sequence[int],
    there: int,
) -> tuple[dict[int | str, int], int]:
    """The contact's number for everyone named, and how many newcomers are among them; `there` of
    the numbers given are known."""
    numbers: dict[int | str, int] = dict(zip(given, given, strict=True))
    if there < len(given):
        known = set(session.scalars(sa.select(Contact.id).where(Contact.id.in_(given))))
        for number in sorted(set(given) - known):
            found = living(session, number)
            if found is None:
                place = next(place for place, e in enumerate(batch.events) if e.who == number)
                raise Invalid(
                    Wording(
                        "events[%(place)s]: there is no contact %(number)s.",
                        place=place,
                        number=number,
                    ),
                    f"events[{place}].contact",
                )
            numbers[number] = found.id
    if not batch.addresses:
        return numbers, 0
    addresses = {who: values.email_key(who) for who in batch.addresses}
    keys, newcomers = _addresses(session, now, source, set(addresses.values()))
    return numbers | {who: keys[key] for who, key in addresses.items()}, newcomers


def _kinds(session: orm.Session, batch: Batch, known: dict[str, Any]) -> dict[str, int]:
    """The number of each kind; `known` holds [number, details, heard] by key. What is new of a
    kind is added to it."""
    wanted = batch.details.keys()
    missing = sorted(wanted - known.keys())
    for key in missing:
        session.execute(
            sa.text(
                'INSERT INTO event_kinds (key, did, "do") VALUES (:key, :did, :do) ON CONFLICT '
                "(key) DO NOTHING"
            ),
            {
                "key": key,
                "did": f"did “{key.replace('_', ' ')}”",
                "do": f"do “{key.replace('_', ' ')}”",
            },
        )
    if missing:
        known |= {
            kind.key: (kind.id, kind.details, kind.heard)
            for kind in session.scalars(sa.select(EventKind).where(EventKind.key.in_(missing)))
        }
    for key, names in batch.details.items():
        if names <= known[key][1].keys():
            continue
        kind = session.get_one(EventKind, known[key][0])
        for name, value in (
            (n, v) for event in batch.events if event.kind == key for n, v in event.details.items()
        ):
            if value is not None and name not in kind.details and len(kind.details) < MOST_DETAILS:
                kind.details = kind.details | {
                    name: {"label": name.replace("_", " "), "type": inferred(value)}
                }
        session.flush()
    return {key: known[key][0] for key in wanted}


def _addresses(
    session: orm.Session, now: dt.datetime, source: str, keys: set[str]
) -> tuple[dict[str, int], int]:
    """The contact's number for each address, and for how many nobody was known; these become
    contacts."""
    known = _by_address(session, keys)
    missing = sorted(keys - known.keys())
    if missing:
        people.lock_people(session)
        known |= _by_address(session, set(missing))
        for key in missing:
            if key not in known:
                name_key, search_key = people.search_keys(None, None, key)
                made = Contact(
                    email=key,
                    email_key=key,
                    email_usable=True,
                    attributes={},
                    name_key=name_key,
                    search_key=search_key,
                    source=source,
                    created_at=now,
                    updated_at=now,
                )
                session.add(made)
                session.flush()
                known[key] = made.id
    return known, len(missing)


def _by_address(session: orm.Session, keys: set[str]) -> dict[str, int]:
    """The oldest contact of each address."""
    return {
        row[0] or "": row[1]
        for row in session.execute(
            sa.select(Contact.email_key, sa.func.min(Contact.id))
            .where(Contact.email_key == sa.any_(sa.literal(list(keys), sa.ARRAY(sa.Text))))
            .group_by(Contact.email_key)
        )
    }
