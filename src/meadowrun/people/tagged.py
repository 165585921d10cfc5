"""Tables narrowed to what bears the tag that the address asks for."""

from collections.abc import Callable, Sequence
from typing import Any, TypeVar

import flask

from meadowrun.core.values import is_whole
from meadowrun.people.asked import words

Row = TypeVar("Row")


def narrowed(
    rows: Sequence[Row], tags_of: Callable[[Row], Any] = lambda row: row
) -> tuple[list[Row], str]:
    """The rows whose thing bears the tag that the address asks for with `tag=N`, or one under it;
    and that tag's path.

    `tags_of` gives a row's thing. Without such a tag, or with one that is gone: all rows, and no
    path.
    """
    number, path, under = asked()
    return (
        ([row for row in rows if under & set(tags_of(row).tags)], path)
        if number
        else (list(rows), "")
    )


def asked(given: str | None = None) -> tuple[int, str, frozenset[int]]:
    """The tag of a number, or the one that the address asks for with `tag=N`: its number, its path,
    and the numbers of it and all under it; 0 and nothing without one, or with one that is gone."""
    text = flask.request.args.get("tag", "") if given is None else given
    number = int(text) if is_whole(text) else 0
    path = words().name("tag", number)
    return (number, path, words().under(number)) if path is not None else (0, "", frozenset())
