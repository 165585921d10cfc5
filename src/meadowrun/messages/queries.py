"""Reading messages, and the values that fill them in."""

import dataclasses
import datetime as dt
import hashlib
from collections.abc import Collection, Iterator, Sequence
from typing import Any

import orjson
import sqlalchemy as sa
from sqlalchemy import orm
from sqlalchemy.dialects.postgresql import JSONPATH

from meadowrun.base.cache import Cache
from meadowrun.base.db import existing
from meadowrun.core import wording
from meadowrun.core.audience import definition as d
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.content import asking, sms
from meadowrun.core.content.compiled import Compiled, CompileError, Link, compile_document, placed
from meadowrun.core.content.document import SETTINGS, Json, empty, texts
from meadowrun.core.content.fillins import used
from meadowrun.core.content.lines import parts_used, walk
from meadowrun.core.language import Wording
from meadowrun.messages.asking import of as kept_conditions
from meadowrun.messages.models import (
    Comment,
    DataTable,
    Draft,
    Edition,
    Feed,
    HouseStyle,
    Message,
    Proof,
    Review,
    SharedPart,
    SharedPartVersion,
)
from meadowrun.messages.values import GREETINGS, known_refs, value_sql
from meadowrun.people.models import Contact
from meadowrun.segments.facts import facts_sql

#: A character outside the basic alphabet of text messages, as PostgreSQL's expressions say it.
_WIDE = "[^" + "".join(f"\\u{ord(c):04x}" for c in sorted(sms.GSM_7 | sms.GSM_7_EXTENDED)) + "]"


#: Of some people, how many have an address of a channel, and how many may be written to there.
REACH = """SELECT count(*) FILTER (WHERE has_address),
    count(*) FILTER (
        WHERE has_address AND address_usable AND NOT suppressed AND channel_consent)
FROM ({facts}) f {among}"""


def message(session: orm.Session, message_id: int) -> Message:
    return existing(session, Message, message_id, "message")


def messages(session: orm.Session) -> list[Message]:
    return list(
        session.scalars(sa.select(Message).order_by(Message.changed_at.desc(), Message.id.desc()))
    )


def drafts(session: orm.Session, message_id: int) -> list[Draft]:
    return list(
        session.scalars(
            sa.select(Draft).where(Draft.message_id == message_id).order_by(Draft.number.desc())
        )
    )


def edition(session: orm.Session, edition_id: int) -> Edition:
    return existing(session, Edition, edition_id, "edition")


def editions(session: orm.Session, message_id: int) -> list[Edition]:
    return list(
        session.scalars(
            sa.select(Edition)
            .where(Edition.message_id == message_id)
            .order_by(Edition.number.desc())
        )
    )


def shared_of(session: orm.Session, *documents: Json) -> dict[tuple[int, int], list[Json]]:
    """The shared parts that documents name, by (part, version)."""
    wanted = set[tuple[int, int]]().union(
        *(parts_used(document["lines"]) for document in documents)
    )
    if not wanted:
        return {}
    return {
        (v.part_id, v.number): v.lines
        for v in session.scalars(
            sa.select(SharedPartVersion).where(
                sa.tuple_(SharedPartVersion.part_id, SharedPartVersion.number).in_(wanted)
            )
        )
    }


def shared_parts(session: orm.Session) -> list[SharedPart]:
    return list(session.scalars(sa.select(SharedPart).order_by(SharedPart.name)))


def shared_part(session: orm.Session, part_id: int) -> SharedPart:
    return existing(session, SharedPart, part_id, "shared part")


def users_of_part(session: orm.Session, part_id: int) -> list[tuple[Message, set[int]]]:
    """The messages that use a shared part, each with the versions of it that stand in it."""
    path = sa.cast(f'$.lines.** ? (@.type == "shared" && @.part == {int(part_id)})', JSONPATH)
    rows = session.scalars(
        sa.select(Message)
        .where(sa.func.jsonb_path_exists(Message.document, path))
        .order_by(Message.name)
    )
    return [
        (m, {version for part, version in parts_used(m.document["lines"]) if part == part_id})
        for m in rows
    ]


def compiled(
    session: orm.Session, document: Json, public_url: str, tracked: bool = True
) -> Compiled:
    """The templates of a document with its shared parts, or of the messages it chooses from. Raises
    CompileError."""
    chosen = document.get("one_of")
    if not chosen:
        made = _compiled(session, document, public_url, tracked)
        return (
            _with_page(session, made, document["push"]["page"], public_url, tracked)
            if document.get("push", {}).get("tap") == "page"
            else made
        )
    members: dict[str, Compiled] = {}
    links: list[Link] = []
    for value, number in (
        *chosen["values"].items(),
        *([("", chosen["otherwise"])] if chosen["otherwise"] else []),
    ):
        member = session.get(Message, number)
        if member is None or member.document.get("one_of"):
            raise CompileError(
                Wording(
                    "The message for “%(value)s” is gone, or is itself chosen by a field.",
                    value=value or "everyone else",
                )
            )
        made = _compiled(session, member.document, public_url, tracked, len(links))
        members[value] = made
        links += [
            dataclasses.replace(link, label=f"{value or 'else'}: {link.label}")
            for link in made.links
        ]
    first = next(iter(members.values()), None)
    if first is None:
        raise CompileError("No message was chosen for any value.")
    return Compiled(
        first.subject, "", "", tuple(links), (), "", False, None, {}, chosen["field"], members
    )


def _compiled(
    session: orm.Session, document: Json, public_url: str, tracked: bool, first_link: int = 0
) -> Compiled:
    """The templates of one document, with the shared parts and conditions it names. Raises
    CompileError."""
    shared = shared_of(session, document)
    conditions = asked(session, document, placed(document, shared))
    given = (document, public_url, tracked, sorted(shared.items()), first_link, conditions)
    return _made.made(
        hashlib.sha256(orjson.dumps(given)).digest(),
        lambda: compile_document(document, public_url, tracked, shared, first_link, conditions),
    )


#: Templates by all that they are made from: a page of a journey asks for those of each message.
_made: Cache[Compiled] = Cache(200)


#: Messages are laid out to see what is in them; no address of ours is asked for.
ANYWHERE = "https://here.invalid"


def links_of(session: orm.Session, message: Message) -> dict[str, str]:
    """The links of a message as it would be sent: address → what it is called. None where it cannot
    be laid out."""
    try:
        made = compiled(session, to_send(session, message, "approved"), ANYWHERE)
    except CompileError:
        return {}
    return {link.href: link.label for link in made.links}


def asked(session: orm.Session, document: Json, lines: Sequence[Json]) -> dict[str, list[Json]]:
    """The conditions that the texts of a document name, by key; `lines` are those that count."""
    return kept_conditions(session, asking.keys(asking.refs(document, lines), lines))


def _with_page(
    session: orm.Session, notification: Compiled, number: int, public_url: str, tracked: bool
) -> Compiled:
    """A push notification with the message that a tap on it opens as a page. Raises
    CompileError."""
    page = session.get(Message, number)
    if page is None or page.channel != "email" or page.document.get("one_of"):
        if not tracked:
            # While it is written the push notification itself can be read already.
            return notification
        raise CompileError("The page that a tap opens was not chosen, or is gone.")
    made = _compiled(session, page.document, public_url, tracked, len(notification.links))
    links = tuple(dataclasses.replace(link, label=f"page: {link.label}") for link in made.links)
    return dataclasses.replace(
        notification, links=(*notification.links, *links), members={"page": made}
    )


def everyone(session: orm.Session) -> int:
    """How many contacts there are."""
    return session.execute(sa.select(sa.func.count()).select_from(Contact)).scalar_one()


def readers_by_value(session: orm.Session, ref: str, words: Dictionary) -> dict[str, int]:
    """How many people have each value of a field, the commonest 200."""
    rows = session.execute(
        sa.text(
            f"SELECT v, count(*) FROM (SELECT {value_sql(ref, words)} AS v FROM contacts c LEFT "
            "JOIN companies k ON k.id = c.company_id) x "
            "WHERE v IS NOT NULL GROUP BY v ORDER BY count(*) DESC LIMIT 200"
        )
    )
    return {str(value): count for value, count in rows}


def approved(session: orm.Session, message_id: int) -> Edition | None:
    """The newest edition that somebody approved."""
    return session.scalar(
        sa.select(Edition)
        .where(Edition.message_id == message_id, Edition.approved_by != "")
        .order_by(Edition.number.desc())
        .limit(1)
    )


@dataclasses.dataclass(frozen=True)
class State:
    """Which state of a message a send gives people: an approved edition, or the newest draft."""

    message: Message
    #: the newest edition that somebody approved
    approved: Edition | None
    #: only approved editions may be sent
    required: bool
    #: the newest draft is not what was approved, and the send takes it all the same
    newest: bool

    @property
    def missing(self) -> bool:
        """Nothing may be sent: approval is asked for, and nobody gave it."""
        return self.required and self.approved is None

    @property
    def edition(self) -> Edition | None:
        """The edition that is taken; None: the newest draft."""
        return None if self.newest or self.approved is None else self.approved

    @property
    def differs(self) -> bool:
        """Something was written since the approved edition."""
        return self.approved is not None and self.approved.document != self.message.document

    @property
    def document(self) -> Json:
        return self.edition.document if self.edition else self.message.document

    @property
    def words(self) -> str:
        """The state in words."""
        if self.edition:
            return Wording(
                "edition %(number)s, approved by %(approved_by)s",
                number=self.edition.number,
                approved_by=self.edition.approved_by,
            )
        return Wording("draft %(draft)s", draft=self.message.draft) + (
            Wording(", which nobody has approved") if self.approved or self.required else ""
        )


def state_to_send(session: orm.Session, message: Message, takes: str) -> State:
    """What a send that takes “approved” or “newest” gives people. The approved edition serves on
    while the next is written; a newer draft goes only where that was chosen, and never where the
    house asks for approval."""
    edition, required = approved(session, message.id), house(session).review
    return State(
        message,
        edition,
        required,
        edition is not None
        and takes == "newest"
        and not required
        and edition.document != message.document,
    )


def to_send(session: orm.Session, message: Message, takes: str) -> Json:
    """The document that a send gives people."""
    return state_to_send(session, message, takes).document


def members(session: orm.Session, document: Json) -> list[Json]:
    """The documents that people read: itself, or those it chooses from by a field."""
    chosen = document.get("one_of")
    if not chosen:
        return [document]
    numbers = {*chosen["values"].values(), chosen["otherwise"]}
    return [m.document for m in session.scalars(sa.select(Message).where(Message.id.in_(numbers)))]


def broken(session: orm.Session, document: Json, words: Dictionary) -> dict[str, str]:
    """The “only if” versions, and the conditions of words, that cannot be worked out any more, with
    why."""
    found: dict[str, str] = {}
    cases = [
        (case["id"], case["lines"])
        for line in walk(document["lines"])
        for case in line.get("cases", ())
    ]
    for key, lines in (*cases, *asked(session, document, document["lines"]).items()):
        try:
            d.parse({"lines": lines}, words)
        except d.DefinitionError as problem:
            found[key] = str(problem)
    for line in walk(document["lines"]):
        if line["type"] == "only" and line["grouping"] and words.grouping(line["grouping"]) is None:
            found |= {case["id"]: Wording("the grouping is gone.") for case in line["cases"]}
    return found


def house(session: orm.Session) -> HouseStyle:
    """The house style; one with our own defaults where none was kept yet."""
    return session.get(HouseStyle, 1) or HouseStyle(
        id=1,
        looks=dict(SETTINGS),
        greetings=[list(g) for g in GREETINGS],
        agreed_words=[],
        avoided_words=[],
        pages=[],
        review=False,
        proof_group="",
    )


def uses_of_lookup(session: orm.Session, kind: str, key: str) -> list[str]:
    """What names a feed or a table, in words: messages, shared parts, and sends that go with an
    edition made before."""

    def names(document: Json, lines: list[Json]) -> bool:
        listed = kind == "feed" and any(
            line["type"] == "feed" and line["feed"] == key for line in walk(lines)
        )
        return listed or any(
            ref == f"{kind}.{key}" or ref.startswith(f"{kind}.{key}.")
            for ref in asking.refs(document, lines)
        )

    found: list[str] = [
        Wording("the message “%(name)s”", name=m.name)
        for m in messages(session)
        if names(m.document, m.document["lines"])
    ]
    found += [
        Wording("the shared part “%(name)s”", name=part.name)
        for part in shared_parts(session)
        if names(empty(), part.lines)
    ]
    under_way = session.execute(
        sa.text(
            "SELECT s.name, e.document FROM sends s JOIN editions e ON e.id = s.edition_id "
            "WHERE s.state IN ('planned', 'taking', 'running', 'paused') ORDER BY 1"
        )
    )
    return found + [
        Wording("the send “%(name)s”", name=name)
        for name, document in under_way
        if names(document, document["lines"])
    ]


def feeds(session: orm.Session) -> list[Feed]:
    return list(session.scalars(sa.select(Feed).order_by(Feed.key)))


def tables(session: orm.Session) -> list[DataTable]:
    return list(session.scalars(sa.select(DataTable).order_by(DataTable.key)))


def known(session: orm.Session, words: Dictionary) -> dict[str, str]:
    """Every name a message may hold besides facts and feeds, with its label."""
    return known_refs(words) | {
        f"table.{t.key}.{column}": f"{column} from {t.key}"
        for t in tables(session)
        for column in t.columns
    }


def proofs(session: orm.Session, message: Message) -> list[Proof]:
    """The proofs of a message as it is now, the newest first."""
    return list(
        session.scalars(
            sa.select(Proof)
            .where(Proof.message_id == message.id, Proof.version == message.version)
            .order_by(Proof.id.desc())
        )
    )


def comments(session: orm.Session, message_id: int) -> list[Comment]:
    return list(
        session.scalars(
            sa.select(Comment).where(Comment.message_id == message_id).order_by(Comment.id)
        )
    )


def reviews(session: orm.Session, message_id: int) -> list[Review]:
    return list(
        session.scalars(
            sa.select(Review).where(Review.message_id == message_id).order_by(Review.id.desc())
        )
    )


def reviews_by_draft(session: orm.Session, message_id: int) -> dict[int, list[Review]]:
    """What was asked and decided about each draft, the newest first."""
    found: dict[int, list[Review]] = {}
    for review in reviews(session, message_id):
        found.setdefault(review.draft, []).append(review)
    return found


def blank_tests(
    session: orm.Session, refs: Collection[str], words: Dictionary
) -> tuple[dict[str, str], dict[str, Any]]:
    """Whether each ref is blank for a contact, in SQL over `c` and their company `k`, and the
    values these tests bind. Refs that are no field and no table looked up by a field are left out.
    """
    tests = {r: f"coalesce({value_sql(r, words)}, '') = ''" for r in refs if r in known_refs(words)}
    values: dict[str, Any] = {}
    for table, column, ref in _of_tables(session, refs):
        if table.looked_up_by in known_refs(words):
            name = f"keys{len(values)}"
            # Keys are folded; of what folding does beyond small letters only this letter occurs in
            # names.
            tests[ref] = (
                f"NOT coalesce(lower(replace({value_sql(table.looked_up_by, words)}, 'ß', 'ss')) "
                f"= ANY(:{name}), FALSE)"
            )
            values[name] = [
                key for key, row in table.rows.items() if row.get(column) not in (None, "")
            ]
    return tests, values


def blanks(
    session: orm.Session, refs: Collection[str], words: Dictionary, ids: Sequence[int] | None
) -> dict[str, int]:
    """For how many people each ref is blank, among `ids` or everyone: fields, and tables looked up
    by a field."""
    tests, values = blank_tests(session, refs, words)
    if not tests:
        return {}
    row = session.execute(
        sa.text(
            f"SELECT {', '.join(f'count(*) FILTER (WHERE {test})' for test in tests.values())} "
            "FROM contacts c LEFT JOIN companies k ON k.id = c.company_id "
            f"{'' if ids is None else 'WHERE c.id = ANY(:ids)'}"
        ),
        values | ({} if ids is None else {"ids": list(ids)}),
    ).one()
    return dict(zip(tests, row, strict=True))


def dated(session: orm.Session, refs: Collection[str]) -> dict[str, str]:
    """What is known by the day, as ref → "2 days, the last 25 Nov 2026": on any other day it is
    blank for everyone."""
    found: dict[str, str] = {}
    for table, column, ref in _of_tables(session, refs):
        if table.looked_up_by == "today":
            days = sorted(
                key for key, row in table.rows.items() if row.get(column) not in (None, "")
            )
            several = wording.count_of(len(days), "day")
            found[ref] = (
                Wording("%(days)s, the last %(day)s", days=several, day=_day(days[-1]))
                if days
                else several
            )
    return found


def _day(text: str) -> str:
    """A key of a table as a day in words, where it is one."""
    try:
        return wording.day(dt.date.fromisoformat(text))
    except ValueError:
        return text


def _of_tables(session: orm.Session, refs: Collection[str]) -> Iterator[tuple[DataTable, str, str]]:
    """The tables that refs name, with the column and the ref."""
    named = {
        ref: ref.split(".", 2) for ref in refs if ref.count(".") >= 2 and ref.startswith("table.")
    }
    known = {table.key: table for table in tables(session)} if named else {}
    for ref, (_, key, column) in named.items():
        if key in known:
            yield known[key], column, ref


def telling_person(session: orm.Session, document: Json, words: Dictionary) -> Contact | None:
    """Somebody to read a message as who has a value for everything it fills in, else anybody with a
    name."""
    refs = sorted(
        {fill.ref for _, _, text in texts(document) for fill in used(text)}
        & known_refs(words).keys()
    )
    conditions = [f"coalesce({value_sql(ref, words)}, '') <> ''" for ref in refs]
    found = session.execute(
        sa.text(
            "SELECT c.id FROM contacts c LEFT JOIN companies k ON k.id = c.company_id "
            f"WHERE {' AND '.join(conditions) or 'c.first_name IS NOT NULL'} LIMIT 1"
        )
    ).scalar()
    if found is None:
        return session.scalar(
            sa.select(Contact).where(Contact.first_name.is_not(None)).order_by(Contact.id).limit(1)
        )
    return session.get(Contact, found)


def neighbour(
    session: orm.Session, contact_id: int, ids: Sequence[int] | None, forward: bool
) -> int | None:
    """The next or previous person, by number, of a set or of everyone."""
    compare, order = (
        (Contact.id > contact_id, Contact.id.asc())
        if forward
        else (Contact.id < contact_id, Contact.id.desc())
    )
    query = sa.select(Contact.id).where(compare).order_by(order).limit(1)
    if ids is not None:
        query = query.where(Contact.id.in_(ids))
    return session.scalar(query)


def longest(
    session: orm.Session, refs: Collection[str], words: Dictionary, ids: Sequence[int] | None
) -> dict[str, list[str]]:
    """For each field the longest value that it has among some people, or everyone, and the longest
    that needs the wide alphabet of text messages."""
    asked = sorted(set(refs) & known_refs(words).keys())
    if not asked:
        return {}
    columns = []
    for ref in asked:
        value = value_sql(ref, words)
        # The largest of length and value together is the longest value; in the plain order of
        # bytes.
        most = f"max(lpad(length({value})::text, 8, '0') || {value} COLLATE \"C\")"
        columns += [f"substr({most}, 9)", f"substr({most} FILTER (WHERE {value} ~ :wide), 9)"]
    row = session.execute(
        sa.text(
            f"SELECT {', '.join(columns)} FROM contacts c LEFT JOIN companies k ON k.id = "
            f"c.company_id {'' if ids is None else 'WHERE c.id = ANY(:ids)'}"
        ),
        {"wide": _WIDE} | ({} if ids is None else {"ids": list(ids)}),
    ).one()
    return {
        ref: [value for value in row[2 * place : 2 * place + 2] if value]
        for place, ref in enumerate(asked)
    }


def reach(session: orm.Session, channel: str, ids: Sequence[int] | None) -> tuple[int, int]:
    """How many of some people, or of everyone, have an address on a channel, and how many of these
    may be written to."""
    row = session.execute(
        sa.text(
            REACH.format(
                facts=facts_sql(None, channel=channel),
                among="" if ids is None else "WHERE f.id = ANY(:ids)",
            )
        ),
        {} if ids is None else {"ids": list(ids)},
    ).one()
    return row[0], row[1]
