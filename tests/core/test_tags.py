"""Paths of tags, by hand."""

import pytest

from meadowrun.core import tags


@pytest.mark.parametrize(
    ("text", "paths"),
    [
        ("season/leonids, Members", ["members", "season/leonids"]),
        ("", []),
        (" , ;", []),
        ("a;b\nc", ["a", "b", "c"]),
        ("x, X , x", ["x"]),
        ("Fête d’été/Nuit", ["fete-d-ete/nuit"]),
        ("Season / Leonids!", ["season/leonids"]),
        ("2026", ["2026"]),
    ],
)
def test_what_is_typed_becomes_paths(text, paths):
    assert tags.typed(text) == paths


@pytest.mark.parametrize("text", ["!", "a//b", "/a", "a/", "星", "a/b/c/d/e/f/g", "x" * 81])
def test_what_is_no_tag_is_refused(text):
    with pytest.raises(tags.TagProblem):
        tags.typed(text)


PATHS = {1: "season", 2: "season/leonids", 3: "season/leonids/late", 4: "seasonal", 5: "members"}


@pytest.mark.parametrize(
    ("number", "under"), [(1, {1, 2, 3}), (2, {2, 3}), (3, {3}), (4, {4}), (9, set())]
)
def test_what_lies_under_a_tag(number, under):
    assert tags.under(number, PATHS) == under


def test_what_lies_above():
    assert (
        tags.above("season/leonids/late") == ["season/leonids", "season"]
        and tags.above("season") == []
    )


def test_moving_takes_along_what_lies_within_and_nothing_else():
    assert tags.moved(PATHS.values(), "season", "showers") == {
        "season": "showers",
        "season/leonids": "showers/leonids",
        "season/leonids/late": "showers/leonids/late",
    }
    assert tags.moved(PATHS.values(), "season/leonids", "leonids") == {
        "season/leonids": "leonids",
        "season/leonids/late": "leonids/late",
    }


def test_a_tag_cannot_be_moved_into_itself():
    with pytest.raises(tags.TagProblem, match="into itself"):
        tags.moved(PATHS.values(), "season", "season/old")
