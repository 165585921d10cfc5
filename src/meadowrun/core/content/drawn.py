"""A text as it is at its longest: with the longest values that its fill-ins really have, and its
longest branches."""

import dataclasses
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from meadowrun.core.content import fillins
from meadowrun.core.content.filling import template

#: Characters that a value is taken to have of which nothing is known, such as a feed's.
UNKNOWN = 12
Weigh = Callable[[str], Any]


def drawn(
    text: str,
    values: Mapping[str, Sequence[str]],
    weigh: Weigh,
    wanted: Callable[[str], bool] | None = None,
) -> str:
    """The heaviest form of a text, by `weigh`. `values` are by ref the values that come into
    question; where some of them are `wanted`, it is one of those."""
    return _nodes(fillins.tree(text), values, weigh, wanted)


def _nodes(
    nodes: Sequence[fillins.Node],
    values: Mapping[str, Sequence[str]],
    weigh: Weigh,
    wanted: Callable[[str], bool] | None,
) -> str:
    made = ""
    for node in nodes:
        if isinstance(node, str):
            made += node
        elif isinstance(node, fillins.FillIn):
            made += _value(node, values.get(node.ref, ("x" * UNKNOWN,)), weigh, wanted)
        elif isinstance(node, fillins.When):
            bodies = (*(body for _, body in node.branches), node.otherwise)
            made += max((_nodes(body, values, weigh, wanted) for body in bodies), key=weigh)
        else:
            made += _nodes(node.body, values, weigh, wanted) * 3
    return made


def _value(
    fill: fillins.FillIn, values: Sequence[str], weigh: Weigh, wanted: Callable[[str], bool] | None
) -> str:
    """What a fill-in gives at the most: in its format, or its fallback."""
    shown = [_formatted(fill, value) for value in values if value]
    shown += [fill.fallback] if fill.fallback else []
    if wanted is not None and (those := [text for text in shown if wanted(text)]):
        shown = those
    return max(shown, key=lambda text: (weigh(text), len(text)), default="")


def _formatted(fill: fillins.FillIn, value: str) -> str:
    root, _, name = fill.ref.partition(".")
    source = dataclasses.replace(fill, ref=f"{root}.x" if name else root).source()
    try:
        return template(source, escape=False)({root: {"x": value} if name else value})
    except (KeyError, TypeError, ValueError):
        return value
