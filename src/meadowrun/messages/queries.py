"""Reading messages, and the values that fill them in."""

import dataclasses

import sqlalchemy as sa
from sqlalchemy import orm
from sqlalchemy.dialects.postgresql import JSONPATH

from meadowrun.base.db import existing
from meadowrun.core.audience import definition as d
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.content import asking
from meadowrun.core.content.document import SETTINGS, Json, empty
from meadowrun.core.content.lines import parts_used, walk
from meadowrun.core.language import Wording
from meadowrun.messages.asking import of_document
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
from meadowrun.messages.values import GREETINGS, known_refs


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
    for key, lines in (*cases, *of_document(session, document, document["lines"]).items()):
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
