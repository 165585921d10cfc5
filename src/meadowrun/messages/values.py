"""What fills a message in for people: fields, answers to its conditions, parts, the greeting,
tables and feeds.

Values are flat ({"contact.town": …, "when.k1": true, "table.prices": {…}}) while they are stored
with a delivery, so that the exact message can be shown again, and nested while a template is filled
in.
"""

import dataclasses
import datetime as dt
import zoneinfo
from collections.abc import Collection, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.signing import PREVIEW_TOKENS
from meadowrun.core.audience.definition import DefinitionError, parse
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.content.compiled import Compiled
from meadowrun.core.timing.zones import zone_of
from meadowrun.core.values import is_whole
from meadowrun.messages import feeds
from meadowrun.messages.models import DataTable, Feed, HouseStyle
from meadowrun.people.moment import Moment
from meadowrun.segments.compile import Compiler
from meadowrun.segments.fetching import compiler_for

Flat = dict[str, Any]
#: By the reader's clock: from this hour, these words.
GREETINGS = ((0, "Good evening"), (5, "Good morning"), (12, "Good afternoon"), (17, "Good evening"))
_ZONE = "contact.timezone"
#: Questions to personal feeds that are open at once.
_AT_ONCE = 8


@dataclasses.dataclass(frozen=True)
class Needs:
    """What a message must know of a person. `refs` are plain names, `conditions` the lines behind
    each `when.<key>`."""

    refs: frozenset[str]
    conditions: Mapping[str, list[dict[str, Any]]]

    @classmethod
    def of(cls, *many: Compiled) -> "Needs":
        """Those of compiled messages, the members of one chosen by a field included."""
        refs: set[str] = set()
        conditions: dict[str, list[dict[str, Any]]] = {}
        for compiled in many:
            for one in (compiled, *compiled.members.values()):
                refs |= set(one.refs) | ({one.field} if one.field else set())
                conditions |= one.conditions
        return cls(frozenset(refs), conditions)

    def keyed(self, root: str) -> set[str]:
        """The names directly below a root: the feeds, tables or parts that are used."""
        return {ref.split(".")[1] for ref in self.refs if ref.startswith(f"{root}.")}


def known_refs(words: Dictionary) -> dict[str, str]:
    """Every field that can be filled in, with its label: contact.town, company.kind."""
    return {
        ref if ref.startswith("company.") else f"contact.{ref}": spec.label
        for ref, spec in words.fields.items()
    }


def value_sql(ref: str, words: Dictionary, as_text: bool = True) -> str:
    """The SQL expression of a known field's value over `c` (contacts) and `k` (companies).

    Keys are our own slugs (letters, digits, underscores), so they stand safely in quotes.
    """
    root, _, key = ref.partition(".")
    spec = words.fields[ref if root == "company" else key]
    table = "k" if root == "company" else "c"
    return (
        f"{table}.{spec.column}"
        if spec.column
        else f"{table}.attributes->{'>' if as_text else ''}'{spec.key}'"
    )


def condition(lines: list[dict[str, Any]], compiler: Compiler) -> str:
    """A condition's predicate; what cannot be worked out holds for nobody."""
    if not lines:
        return "FALSE"
    try:
        return f"({compiler.definition(parse({'lines': lines}, compiler.words))}) IS TRUE"
    except DefinitionError:
        return "FALSE"


def group_sql(number: int, compiler: Compiler) -> str:
    """The key of the group of a grouping that somebody is in; “else” for nobody's."""
    cases = " ".join(
        f"WHEN {condition(group['lines'], compiler)} THEN {compiler.bind(group['key'])}"
        for group in compiler.words.grouping(number) or []
    )
    return f"CASE {cases} ELSE 'else' END" if cases else "'else'"


def fill_sql(needs: Needs, compiler: Compiler, tables: Mapping[str, DataTable]) -> str:
    """An SQL expression over `c` (contacts) and `k` (companies) that yields what is needed as one
    jsonb object.

    Names that do not exist are left out: the message then names an unknown field, which is refused
    before sending.
    """
    words, known = compiler.words, known_refs(compiler.words)
    wanted = set(needs.refs) | {t.looked_up_by for t in tables.values()}
    if "greeting" in needs.refs or tables:
        wanted.add(_ZONE)
    pairs = [
        f"'{ref}', {value_sql(ref, words, as_text=False)}" for ref in sorted(wanted) if ref in known
    ]
    pairs += [
        f"'when.{key}', {condition(lines, compiler)}"
        for key, lines in sorted(needs.conditions.items())
    ]
    pairs += [
        f"'group.{key}', {group_sql(int(key[1:]), compiler)}"
        for key in sorted(needs.keyed("group"))
        if is_whole(key[1:])
    ]
    if not pairs:
        return "'{}'::jsonb"
    # A function takes at most 100 arguments.
    return " || ".join(
        f"jsonb_build_object({', '.join(pairs[i : i + 40])})" for i in range(0, len(pairs), 40)
    )


def tables_used(session: orm.Session, needs: Needs) -> dict[str, DataTable]:
    keys = needs.keyed("table")
    return (
        {t.key: t for t in session.scalars(sa.select(DataTable).where(DataTable.key.in_(keys)))}
        if keys
        else {}
    )


def feeds_used(session: orm.Session, needs: Needs) -> dict[str, Feed]:
    keys = needs.keyed("feed")
    return (
        {f.key: f for f in session.scalars(sa.select(Feed).where(Feed.key.in_(keys)))}
        if keys
        else {}
    )


def house_greetings(session: orm.Session) -> Sequence[tuple[int, str]]:
    house = session.get(HouseStyle, 1)
    return (
        [(int(hour), str(words)) for hour, words in house.greetings]
        if house and house.greetings
        else GREETINGS
    )


def greeting(
    now: dt.datetime, zone: zoneinfo.ZoneInfo, greetings: Sequence[tuple[int, str]]
) -> str:
    """The words for this hour on this clock."""
    hour = now.astimezone(zone).hour
    return next(
        (words for start, words in sorted(greetings, reverse=True) if start <= hour),
        greetings[-1][1],
    )


@dataclasses.dataclass
class Filler:
    """Completes what the database gave with what it cannot: the greeting, tables' rows and feeds'
    answers."""

    needs: Needs
    tables: Mapping[str, DataTable]
    feeds: Mapping[str, Feed]
    greetings: Sequence[tuple[int, str]]
    zone: zoneinfo.ZoneInfo
    hosts: Collection[str]

    def __post_init__(self) -> None:
        #: nothing to complete: the usual message, thousands of times
        self.idle = not (self.tables or self.feeds or "greeting" in self.needs.refs)

    @classmethod
    def of(
        cls, session: orm.Session, needs: Needs, zone: zoneinfo.ZoneInfo, hosts: Collection[str]
    ) -> "Filler":
        made = cls(
            needs,
            tables_used(session, needs),
            feeds_used(session, needs),
            house_greetings(session),
            zone,
            hosts,
        )
        for row in (*made.tables.values(), *made.feeds.values()):
            # They are read after the transaction has ended.
            session.expunge(row)
        return made

    def complete(self, flat: Flat, now: dt.datetime, sample: bool = False) -> Flat:
        """The values of one person, complete. With `sample`, feeds give their samples and nothing
        is asked.

        Raises feeds.NoAnswer when a feed gave nothing and says not to go on without.
        """
        if self.idle:
            return flat
        zone = zone_of(flat.get(_ZONE)) or self.zone
        if "greeting" in self.needs.refs:
            flat["greeting"] = greeting(now, zone, self.greetings)
        for key, table in self.tables.items():
            by = (
                now.astimezone(zone).date().isoformat()
                if table.looked_up_by == "today"
                else flat.get(table.looked_up_by)
            )
            found = table.rows.get(str(by).casefold()) if by is not None else None
            flat[f"table.{key}"] = found or dict.fromkeys(table.columns)
        for key, feed in self.feeds.items():
            flat[f"feed.{key}"] = (
                feed.sample if sample else feeds.ask(feed, nested(flat, {}), now, self.hosts)
            )
        return flat

    def complete_all(self, flats: Sequence[Flat], now: dt.datetime) -> list[Exception | None]:
        """Completes the values of many; for each, why that failed, or None. Feeds that are asked
        for each person are asked side by side, so that a thousand people do not wait for a thousand
        answers."""

        def one(flat: Flat) -> Exception | None:
            try:
                self.complete(flat, now)
            except Exception as problem:
                return problem
            return None

        if not any(feeds.personal(feed) for feed in self.feeds.values()):
            return list(map(one, flats))
        with ThreadPoolExecutor(_AT_ONCE) as pool:
            return list(pool.map(one, flats))


def nested(
    flat: Mapping[str, Any], facts: Mapping[str, Any], tokens: Mapping[str, str] = PREVIEW_TOKENS
) -> dict[str, Any]:
    """Flat values as what templates see: contact, company, fact … objects, and the delivery's
    tokens by purpose."""
    made: dict[str, Any] = {
        "contact": {},
        "company": {},
        "when": {},
        "group": {},
        "table": {},
        "feed": {},
        "event": {},
        "sender": {},
        "fact": facts,
        "token": tokens,
        "short": "preview-",
        "greeting": "",
    }
    for ref, value in flat.items():
        root, _, key = ref.partition(".")
        if key:
            made[root][key] = value
        else:
            made[root] = value
    return made


def of_people(
    moment: Moment,
    contact_ids: Sequence[int],
    needs: Needs,
    sample: bool = True,
    hosts: Collection[str] = (),
) -> dict[int, Flat]:
    """What some contacts would be filled in with now: {contact id: {"contact.town": …}}. Feeds give
    their samples; without `sample`, those at `hosts` are asked, and feeds.NoAnswer is raised as
    `Filler.complete` does."""
    filler = Filler.of(moment.session, needs, moment.zone, hosts)
    compiler = compiler_for(moment)
    expression = fill_sql(needs, compiler, filler.tables)
    rows = moment.session.execute(
        sa.text(
            f"SELECT c.id, {expression} FROM contacts c LEFT JOIN companies k ON k.id = "
            "c.company_id WHERE c.id = ANY(:ids)"
        ),
        compiler.values | {"ids": list(contact_ids)},
    )
    return {row[0]: filler.complete(row[1], moment.now, sample) for row in rows}


def as_nobody(
    compiled: Compiled, flat: Flat | None, facts: Mapping[str, Any], words: Dictionary
) -> dict[str, Any]:
    """Values for reading a draft: a name that does not exist, or that only a campaign knows, reads
    as [its name]."""
    needs, full = Needs.of(compiled), dict(flat or {})
    full_facts = dict(facts)
    for ref in needs.refs:
        root, _, name = ref.partition(".")
        if root == "fact":
            full_facts.setdefault(name, f"[{name}]")
        elif root == "table":
            full.setdefault(f"table.{name.split('.')[0]}", {})
        elif root == "feed":
            full.setdefault(f"feed.{name.split('.')[0]}", {})
        elif root == "group":
            full.setdefault(ref, "else")
        elif name and ref not in full:
            full[ref] = None if ref in known_refs(words) else f"[{name}]"
    for key in needs.conditions:
        full.setdefault(f"when.{key}", False)
    return nested(full, full_facts)
