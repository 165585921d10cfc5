"""What pages of other things do with tags: narrow a table to those that bear one, give people one."""

from collections.abc import Callable, Collection, Mapping, Sequence
from typing import Any, TypeVar

import flask

from meadowrun.base.errors import Invalid
from meadowrun.core import wording
from meadowrun.core.values import is_whole
from meadowrun.people.asked import words
from meadowrun.shell.request import actor, db, now
from meadowrun.tags import actions

Row = TypeVar("Row")


def narrowed(rows: Sequence[Row], tags_of: Callable[[Row], Any] = lambda row: row) -> tuple[list[Row], str]:
    """The rows whose thing bears the tag that the address asks for with `tag=N`, or one under it; and that tag's path.

    `tags_of` gives a row's thing. Without such a tag, or with one that is gone: all rows, and no path.
    """
    number, path, under = asked()
    return ([row for row in rows if under & set(tags_of(row).tags)], path) if number else (list(rows), "")


def asked() -> tuple[int, str, frozenset[int]]:
    """The tag that the address asks for with `tag=N`: its number, its path, and the numbers of it and all under it; 0 and nothing
    without one, or with one that is gone."""
    text = flask.request.args.get("tag", "")
    number = int(text) if is_whole(text) else 0
    path = words().name("tag", number)
    return (number, path, words().under(number)) if path is not None else (0, "", frozenset())


def give_or_take(form: Mapping[str, str], contact_ids: Collection[int]) -> str:
    """Gives contacts the one tag of an answered form, or takes it from them; says what was done. Raises Invalid."""
    paths = actions.read(form.get("tags", ""))
    if len(paths) != 1:
        raise Invalid("Give or take one tag at a time.", "tags")
    if form.get("do") == "take":
        return f"“{paths[0]}” was taken from {wording.people(actions.take(db(), actor(), now(), paths[0], contact_ids))}."
    count = actions.give(db(), actor(), now(), paths[0], contact_ids)
    known = len(contact_ids) - count
    return f"{wording.people(count)} got the tag “{paths[0]}”" + (f"; {wording.people(known)} had it already." if known else ".")
