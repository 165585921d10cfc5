"""Changes of tags, and of what bears them."""

import datetime as dt
from collections.abc import Collection, Sequence
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm
from sqlalchemy.dialects.postgresql import insert

from meadowrun.base import audit
from meadowrun.base.audit import Actor
from meadowrun.base.db import number_array, rows_changed
from meadowrun.base.errors import Conflict, Invalid, NotFound
from meadowrun.core import tags as rules
from meadowrun.core.language import Wording
from meadowrun.people.dictionary import rewrite_everywhere
from meadowrun.tags.models import ContactTag, Tag
from meadowrun.tags.queries import THINGS, names_it

MOST = 30
#: Of two limits for the same that come together, the smaller stays.
LIMITS_JOINED = """
DELETE FROM caps a USING caps b WHERE a.tag_id IN (:gone, :kept) AND b.tag_id IN (:gone, :kept)
AND a.tag_id <> b.tag_id AND (a.channel, a.unit, a.length) = (b.channel, b.unit, b.length)
AND (a.most, a.id) > (b.most, b.id)
"""
LIMITS_MOVED = "UPDATE caps SET tag_id = :kept WHERE tag_id = :gone"


def read(text: str) -> list[str]:
    """The tags somebody typed. Raises Invalid."""
    try:
        found = rules.typed(text)
    except rules.TagProblem as problem:
        raise Invalid(str(problem), "tags") from None
    if len(found) > MOST:
        raise Invalid(
            Wording(
                "At most %(most)s tags at once; with more, nobody finds anything by them.",
                most=MOST,
            ),
            "tags",
        )
    return found


def numbers(session: orm.Session, now: dt.datetime, paths: Sequence[str]) -> list[int]:
    """The numbers of tags, in order; those that are not there yet are made."""
    if not paths:
        return []
    session.execute(
        insert(Tag)
        .values([{"path": path, "created_at": now} for path in paths])
        .on_conflict_do_nothing()
    )
    known = dict(
        session.execute(sa.select(Tag.path, Tag.id).where(Tag.path.in_(paths))).tuples().all()
    )
    return [known[path] for path in paths]


def put_on(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    kind: str,
    ident: int,
    paths: Sequence[str],
) -> None:
    """Makes these, and no others, the tags of a campaign, segment, message or list. Raises Invalid
    for another kind, and NotFound."""
    if kind not in THINGS:
        raise Invalid("Only campaigns, segments, messages and lists can have tags.", "kind")
    name = session.execute(
        sa.text(f"UPDATE {THINGS[kind]} SET tags = :tags WHERE id = :id RETURNING name"),
        {"tags": numbers(session, now, paths), "id": ident},
    ).scalar()
    if name is None:
        raise NotFound(Wording("This %(kind)s does not exist any more.", kind=kind))
    audit.record(session, actor, now, "tagged", kind, ident, name, tags=list(paths))


def put_on_contact(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    contact_id: int,
    name: str,
    paths: Sequence[str],
) -> None:
    """Makes these, and no others, the tags of a contact."""
    wanted = numbers(session, now, paths)
    session.execute(
        sa.delete(ContactTag).where(
            ContactTag.contact_id == contact_id, ContactTag.tag_id.not_in(wanted)
        )
    )
    for tag in wanted:
        _give(session, tag, [contact_id])
    audit.record(session, actor, now, "tagged", "contact", contact_id, name, tags=list(paths))


def give(
    session: orm.Session, actor: Actor, now: dt.datetime, path: str, contact_ids: Collection[int]
) -> int:
    """Gives contacts that exist a tag; says how many did not bear it before."""
    (tag,) = numbers(session, now, [path])
    count = _give(session, tag, contact_ids)
    audit.record(session, actor, now, "added the tag", "tag", tag, path, people=count)
    return count


def _give(session: orm.Session, tag: int, contact_ids: Collection[int]) -> int:
    done = session.execute(
        sa.text(
            "INSERT INTO contact_tags (contact_id, tag_id) SELECT c.id, :tag FROM contacts c "
            "WHERE c.id = ANY(CAST(:ids AS bigint[])) "
            "ON CONFLICT DO NOTHING"
        ),
        {"tag": tag, "ids": number_array(contact_ids)},
    )
    return rows_changed(done)


def take(
    session: orm.Session, actor: Actor, now: dt.datetime, path: str, contact_ids: Collection[int]
) -> int:
    """Takes a tag from contacts; those under it stay. Says how many bore it. Raises Invalid when
    there is no such tag."""
    tag = session.scalar(sa.select(Tag.id).where(Tag.path == path))
    if tag is None:
        raise Invalid(Wording("There is no tag “%(path)s”.", path=path), "tag")
    done = session.execute(
        sa.text(
            "DELETE FROM contact_tags WHERE tag_id = :tag AND contact_id = ANY(CAST(:ids AS "
            "bigint[]))"
        ),
        {"tag": tag, "ids": number_array(contact_ids)},
    )
    audit.record(
        session, actor, now, "removed the tag", "tag", tag, path, people=rows_changed(done)
    )
    return rows_changed(done)


def describe(session: orm.Session, actor: Actor, now: dt.datetime, tag: Tag, meaning: str) -> None:
    tag.meaning = " ".join(meaning.split())[:300]
    audit.record(session, actor, now, "described", "tag", tag.id, tag.path)


def move(session: orm.Session, actor: Actor, now: dt.datetime, tag: Tag, to: str) -> None:
    """Gives a tag another path; those under it go along, and every condition that names one of them
    still does.

    A path that another tag has already joins the two: what bore either bears the one that was
    there. Raises Invalid.
    """
    known = {row.path: row for row in session.scalars(sa.select(Tag).order_by(Tag.path))}
    was = tag.path
    try:
        changed = rules.moved(known, was, rules.tidy(to))
    except rules.TagProblem as problem:
        raise Invalid(str(problem), "path") from None
    if changed[was] == was:
        return
    staying = {path: row for path, row in known.items() if path not in changed}
    for path, becomes in changed.items():
        if becomes in staying:
            _join(session, known[path], staying[becomes])
    session.flush()
    for path, becomes in changed.items():
        if becomes not in staying:
            known[path].path = becomes
    session.flush()
    audit.record(session, actor, now, "moved the tag", "tag", tag.id, changed[was], was=was)


def _join(session: orm.Session, gone: Tag, kept: Tag) -> None:
    """Everything that bears one tag bears another instead, and what names it names that; the first
    one goes."""
    values = {"gone": gone.id, "kept": kept.id}
    session.execute(
        sa.text(
            "INSERT INTO contact_tags (contact_id, tag_id) SELECT contact_id, :kept FROM "
            "contact_tags WHERE tag_id = :gone "
            "ON CONFLICT DO NOTHING"
        ),
        values,
    )
    session.execute(sa.text(LIMITS_JOINED), values)
    session.execute(sa.text(LIMITS_MOVED), values)
    for table in (*THINGS.values(), "dispatches"):
        session.execute(
            sa.text(
                f"UPDATE {table} SET tags = ARRAY(SELECT DISTINCT CASE WHEN t = :gone THEN :kept "
                "ELSE t END FROM unnest(tags) t) "
                "WHERE :gone = ANY(tags)"
            ),
            values,
        )

    def renamed(node: dict[str, Any]) -> None:
        if node.get("tag") == gone.id:
            node["tag"] = kept.id
        # A step of a journey that gives or takes it.
        if node.get("what") == "tag" and node.get("number") == gone.id:
            node["number"] = kept.id

    named = f'@.tag == {gone.id} || @.what == "tag" && @.number == {gone.id}'
    rewrite_everywhere(session, named, renamed, editions=True)
    session.delete(gone)


def delete(session: orm.Session, actor: Actor, now: dt.datetime, tag: Tag) -> None:
    """Deletes a tag that no condition names and that has none under it; nothing that has it is
    deleted. Raises Conflict."""
    inside = session.scalars(
        sa.select(Tag.path)
        .where(Tag.path.startswith(tag.path + "/", autoescape=True))
        .order_by(Tag.path)
    ).all()
    if inside:
        raise Conflict(
            Wording(
                "“%(path)s” has tags inside it: %(inside)s. Move or delete those first.",
                path=tag.path,
                inside=", ".join(inside[:4]),
            )
        )
    if uses := names_it(session, tag):
        raise Conflict(
            Wording(
                "“%(path)s” is named by %(uses)s. Change those first.",
                path=tag.path,
                uses=", ".join(uses[:4]),
            )
        )
    for table in (*THINGS.values(), "dispatches"):
        session.execute(
            sa.text(
                f"UPDATE {table} SET tags = array_remove(tags, CAST(:id AS bigint)) WHERE :id = "
                "ANY(tags)"
            ),
            {"id": tag.id},
        )
    audit.record(session, actor, now, "deleted", "tag", tag.id, tag.path)
    session.delete(tag)
    session.flush()
