"""Typed reads of tags: which there are, what bears them, and what names them."""

import dataclasses
from collections.abc import Collection

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.core import tags as rules
from meadowrun.people.queries import definitions_using
from meadowrun.tags.models import ContactTag, Tag

#: what bears tags itself → its table
THINGS = {"campaign": "campaigns", "segment": "segments", "message": "messages", "list": "lists"}


@dataclasses.dataclass(frozen=True)
class Row:
    """A tag in the tree of all. `depth` is 0 at the top; `contacts` counts everyone who bears it or
    one under it, each once, and `things` what else does, by kind."""

    tag: Tag
    depth: int
    contacts: int
    things: dict[str, int]

    @property
    def step(self) -> str:
        return self.tag.path.rpartition("/")[2]


#: What has one of some tags, of the things in one table.
TAGGED = "SELECT '{kind}', id, name FROM {table} WHERE tags && CAST(:ids AS bigint[])"


def paths(session: orm.Session) -> dict[int, str]:
    """The path of every tag, by number, in the order of paths."""
    return dict(session.execute(sa.select(Tag.id, Tag.path).order_by(Tag.path)).tuples().all())


def tree(session: orm.Session) -> list[Row]:
    """Every tag under the one it lies in."""
    known = {
        tag.path: tag
        for tag in session.scalars(sa.select(Tag).order_by(sa.text("string_to_array(path, '/')")))
    }
    under = "tags a JOIN tags t ON t.path = a.path OR starts_with(t.path, a.path || '/')"
    things: dict[int, dict[str, int]] = {}
    for kind, ident, count in session.execute(
        sa.text(
            " UNION ALL ".join(
                (
                    f"SELECT '{kind}', a.id, count(DISTINCT x.id) FROM {under} JOIN {table} x ON "
                    "t.id = ANY(x.tags) GROUP BY a.id"
                )
                for kind, table in THINGS.items()
            )
        )
    ):
        things.setdefault(ident, {})[kind] = count
    bearers: dict[int, int] = dict(
        session.execute(
            sa.text(
                f"SELECT a.id, count(DISTINCT k.contact_id) FROM {under} JOIN contact_tags k ON "
                "k.tag_id = t.id GROUP BY a.id"
            )
        )
        .tuples()
        .all()
    )
    return [
        Row(
            tag,
            sum(1 for path in rules.above(tag.path) if path in known),
            bearers.get(tag.id, 0),
            things.get(tag.id, {}),
        )
        for tag in known.values()
    ]


def of_contact(session: orm.Session, contact_id: int) -> list[int]:
    """The numbers of the tags a contact bears, in the order of their paths."""
    return list(
        session.scalars(
            sa.select(Tag.id)
            .join(ContactTag, ContactTag.tag_id == Tag.id)
            .where(ContactTag.contact_id == contact_id)
            .order_by(Tag.path)
        )
    )


def of_contacts(session: orm.Session, contact_ids: Collection[int]) -> dict[int, list[str]]:
    """The tags of some contacts, by contact; who bears none is left out."""
    found: dict[int, list[str]] = {}
    for contact, path in session.execute(
        sa.select(ContactTag.contact_id, Tag.path)
        .join(Tag, Tag.id == ContactTag.tag_id)
        .where(ContactTag.contact_id.in_(contact_ids))
        .order_by(Tag.path)
    ):
        found.setdefault(contact, []).append(path)
    return found


def bearers(session: orm.Session, tag: Tag) -> list[tuple[str, int, str]]:
    """The campaigns, segments, messages and lists that have a tag or one under it, as (kind,
    number, name)."""
    ids = list(rules.under(tag.id, paths(session)))
    of_each = (TAGGED.format(kind=kind, table=table) for kind, table in THINGS.items())
    found = session.execute(sa.text(" UNION ALL ".join(of_each) + " ORDER BY 1, 3"), {"ids": ids})
    return [(kind, ident, name) for kind, ident, name in found]


def names_it(session: orm.Session, tag: Tag) -> list[str]:
    """What names a tag in a condition or a message limit, in words."""
    limited = session.execute(
        sa.text("SELECT 1 FROM caps WHERE tag_id = :id LIMIT 1"), {"id": tag.id}
    ).scalar()
    return (["a message limit"] if limited else []) + definitions_using(
        session,
        (
            f'$.** ? (@.kind == "tag" && @.tag == {int(tag.id)} || @.kind == "mail" && @.of.tag == '
            f'{int(tag.id)} || @.kind == "change" && @.what == "tag" && @.number == {int(tag.id)})'
        ),
    )
