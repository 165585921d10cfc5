"""Sets of contact numbers from the database: of those who match conditions, and of those whom a
channel reaches."""

import array
from collections.abc import Collection, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np
import sqlalchemy as sa
from numpy.typing import NDArray
from pyroaring import BitMap
from sqlalchemy import orm

from meadowrun.core.audience.dates import Clock
from meadowrun.core.channels import CHANNEL_WORDS, USUAL
from meadowrun.core.guardrails.guards import OF_A_SEND, verdict_sql
from meadowrun.gateways.channels import CHANNELS
from meadowrun.people.moment import Moment
from meadowrun.segments.compile import SEPARATE, Compiler
from meadowrun.segments.facts import facts_sql

#: The time zones that contacts name, each found by one step in the index.
ZONES = """WITH RECURSIVE z AS (
    (SELECT timezone FROM contacts WHERE timezone IS NOT NULL ORDER BY timezone LIMIT 1)
    UNION ALL
    SELECT (SELECT c.timezone FROM contacts c WHERE c.timezone > z.timezone
        ORDER BY c.timezone LIMIT 1)
    FROM z WHERE z.timezone IS NOT NULL)
SELECT timezone FROM z WHERE timezone IS NOT NULL"""


def id_sets(
    session: orm.Session, predicates: Sequence[str], values: dict[str, object]
) -> list[BitMap]:
    """The numbers of the contacts that match each predicate over `c`, as binary values: from one
    pass, or, where there are several and this transaction has written nothing that only it can see,
    from two at once.

    PostgreSQL counts with several processes but collects with one, so we share the lines out
    ourselves.
    """
    if (
        len(predicates) < _SHARED
        or session.execute(sa.text("SELECT pg_current_xact_id_if_assigned() IS NOT NULL")).scalar()
    ):
        return one_pass(session, predicates, values)
    # The dear ones ask something of their own for each person; they are dealt out in turn.
    order = sorted(range(len(predicates)), key=lambda place: -predicates[place].count("SELECT"))
    mine, theirs = order[::2], order[1::2]

    # Under the same name, so that whoever stops this work stops all of it.
    name = session.execute(sa.text("SELECT current_setting('application_name')")).scalar_one()

    def other() -> list[BitMap]:
        with session.get_bind().engine.connect() as connection:
            connection.execute(
                sa.text("SELECT set_config('application_name', :name, true)"), {"name": name}
            )
            return one_pass(connection, [predicates[place] for place in theirs], values)

    with ThreadPoolExecutor(1) as pool:
        waiting = pool.submit(other)
        found = dict(
            zip(mine, one_pass(session, [predicates[place] for place in mine], values), strict=True)
        )
        found |= dict(zip(theirs, waiting.result(), strict=True))
    return [found[place] for place in range(len(predicates))]


def one_pass(
    session: orm.Session | sa.Connection, predicates: Sequence[str], values: dict[str, object]
) -> list[BitMap]:
    if len(predicates) == 1:
        # On its own a predicate may be joined, or use an index.
        query = (
            f"SELECT array_send(array_agg(c.id)) FROM contacts c WHERE "
            f"{predicates[0].removesuffix(SEPARATE)} GROUP BY {_PART.format('c.id')}"
        )
        found = BitMap()
        for row in _part_by_part(session, query, values):
            found |= a_set(numbers(row[0]))
        return [found]
    # One number of bits for each contact is cheaper to collect and to send than an array for each
    # predicate.
    words = [predicates[place : place + _BITS] for place in range(0, len(predicates), _BITS)]
    columns = ", ".join(
        "array_send(array_agg({}))".format(
            " + ".join(f"CASE WHEN {p} THEN {1 << bit} ELSE 0 END" for bit, p in enumerate(word))
        )
        for word in words
    )
    query = (
        f"SELECT array_send(array_agg(c.id)), {columns} FROM contacts c "
        f"GROUP BY {_PART.format('c.id')}"
    )
    sets = [BitMap() for _ in predicates]
    for row in _part_by_part(session, query, values):
        ids, *masks = (numbers(binary) for binary in row)
        for place, part in enumerate(sets):
            mask, bit = masks[place // _BITS], place % _BITS
            part |= a_set(ids[(mask >> bit) & 1 == 1])
    return sets


def _part_by_part(
    session: orm.Session | sa.Connection, query: str, values: Mapping[str, object]
) -> Iterator[sa.Row[Any]]:
    """The rows of a query, each of which is about one part of the contacts, fetched one by one: the
    numbers of a million at once would need more memory than a worker has."""
    session.execute(sa.text(_WHOLE))
    options = {"stream_results": True, "max_row_buffer": 1}
    yield from session.execute(sa.text(query), values, execution_options=options)


#: So many contacts of neighbouring numbers are a part.
_PART = "{} >> 16"
#: All rows are wanted: a cursor is planned as any other query.
_WHOLE = "SELECT set_config('cursor_tuple_fraction', '1.0', true)"
#: From so many predicates on they are shared out.
_SHARED = 3
#: Predicates a mask holds: bits of PostgreSQL's integer without its sign.
_BITS = 30


def numbers(binary: bytes | None) -> NDArray[np.uint32]:
    """The items of PostgreSQL's binary form of a one-dimensional array of integer or bigint."""
    if binary is None or len(binary) < 20:
        return np.empty(0, np.uint32)
    # 20 bytes of header, then for each number its length (4 bytes) and itself (as many bytes as
    # that says).
    size = int.from_bytes(binary[20:24], "big")
    items = np.frombuffer(binary, dtype=[("length", ">i4"), ("value", f">i{size}")], offset=20)
    return items["value"].astype(np.uint32)


def a_set(ids: NDArray[np.uint32]) -> BitMap:
    # Through the standard library's array it is made six times faster than from NumPy's.
    return BitMap(array.array("I", ids.tobytes()))


def zones(session: orm.Session) -> list[str]:
    """Every time zone that a contact names, by stepping through the index from one name to the
    next."""
    return list(session.scalars(sa.text(ZONES)))


def compiler_for(moment: Moment, among: Collection[int] | None = None) -> Compiler:
    """A compiler that knows the clocks people live by; `zone` is for those without one. `among`
    are the few who are asked about, where not everybody is."""
    clock = Clock(moment.now, moment.zone)
    return Compiler(moment.words, clock, zones(moment.session), among)


def channels_used(session: orm.Session) -> list[str]:
    """The usual channel, and each other channel that there is a message for."""
    there = set(session.scalars(sa.text("SELECT DISTINCT channel FROM messages")))
    return [channel for channel in CHANNEL_WORDS if channel == USUAL or channel in there]


_REFUSED = (
    "c.id IN (SELECT x.contact_id FROM consents x WHERE x.channel = '{}' AND x.topic_id = "
    "0 AND NOT x.agreed)"
)


def outcome_sets(
    session: orm.Session | sa.Connection, channel: str, everyone: BitMap
) -> dict[str, BitMap]:
    """Everyone, by what the verdict says of a message of no topic to them on a channel: "go" or an
    outcome."""
    of = CHANNELS[channel]
    concerned, otherwise = of.concerned.format(refused=_REFUSED.format(channel)), of.otherwise
    query = (
        f"SELECT {verdict_sql('agreed', OF_A_SEND)} AS said, array_send(array_agg(id)) AS ids "
        f"FROM ({facts_sql(None, join=concerned, channel=channel)}) f "
        f"GROUP BY 1, {_PART.format('id')}"
    )
    found: dict[str, BitMap] = {}
    for row in _part_by_part(session, query, {}):
        found[row.said] = found.get(row.said, BitMap()) | a_set(numbers(row.ids))
    if concerned:
        rest = everyone.copy()
        for members in found.values():
            rest -= members
        found[otherwise] = found.get(otherwise, BitMap()) | rest
    return found
