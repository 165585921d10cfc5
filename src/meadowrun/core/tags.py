"""Tags: labels with a path, like `season/winter`. What is said of `season` is said of everything
under it."""

import re
from collections.abc import Iterable, Mapping

from meadowrun.core.language import Problem, Wording
from meadowrun.core.wording import fold

MOST_CHARACTERS, MOST_DEEP = 80, 6
_STEP = re.compile(r"[a-z0-9]+(-[a-z0-9]+)*\Z")


class TagProblem(Problem):
    """What was typed is no tag; the text says why."""


def tidy(text: str) -> str:
    """The path of a tag as it is kept: small letters and digits, with hyphens in its steps. Raises
    TagProblem."""
    steps = [re.sub(r"[^a-z0-9]+", "-", fold(step)).strip("-") for step in text.strip().split("/")]
    path = "/".join(steps)
    if not all(_STEP.match(step) for step in steps):
        raise TagProblem(
            Wording(
                "“%(text)s” is not a tag. Use letters and digits, with / for a tag inside another.",
                text=text.strip(),
            )
        )
    if len(path) > MOST_CHARACTERS or len(steps) > MOST_DEEP:
        raise TagProblem(
            Wording(
                "“%(text)s…” is too long: a tag has at most %(most_characters)s characters and "
                "%(most_deep)s steps.",
                text=text.strip()[:40],
                most_characters=MOST_CHARACTERS,
                most_deep=MOST_DEEP,
            )
        )
    return path


def typed(text: str) -> list[str]:
    """The tags of a text that parts them by commas, semicolons or lines, each once, in order.
    Raises TagProblem."""
    return sorted({tidy(part) for part in re.split(r"[,;\n]", text) if part.strip()})


def is_under(path: str, other: str) -> bool:
    """Whether a path is another one, or lies inside it."""
    return path == other or path.startswith(f"{other}/")


def under(number: int, paths: Mapping[int, str]) -> frozenset[int]:
    """The numbers of a tag and of all under it; none where there is no such tag."""
    top = paths.get(number)
    return (
        frozenset(n for n, path in paths.items() if is_under(path, top))
        if top is not None
        else frozenset()
    )


def above(path: str) -> list[str]:
    """The paths that a path lies inside, the nearest first."""
    steps = path.split("/")
    return ["/".join(steps[:n]) for n in range(len(steps) - 1, 0, -1)]


def moved(paths: Iterable[str], old: str, new: str) -> dict[str, str]:
    """What becomes of each path that is `old` or lies in it, when that becomes `new`. Raises
    TagProblem when it cannot."""
    if is_under(new, old) and new != old:
        raise TagProblem(Wording("“%(old)s” cannot be moved into itself.", old=old))
    return {path: tidy(new + path.removeprefix(old)) for path in paths if is_under(path, old)}
