"""What the editors post: small verbs, applied to the newest draft by the rules of the core."""

import dataclasses
import datetime as dt
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from sqlalchemy import orm

from meadowrun.base.audit import Actor
from meadowrun.base.errors import Invalid
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.content import edit
from meadowrun.core.content.compiled import placed
from meadowrun.core.content.document import DocumentError
from meadowrun.core.content.lines import Json, listed
from meadowrun.core.content.plain import made_from
from meadowrun.core.language import Wording
from meadowrun.messages import actions, queries, shared
from meadowrun.messages.models import SharedPartVersion

#: So many changes come at once at most.
MOST_CHANGES = 500


@dataclasses.dataclass(frozen=True, slots=True)
class Around(edit.Around):
    """What an edit asks of the database."""

    session: orm.Session
    actor: Actor
    now: dt.datetime
    words: Dictionary

    def groups(self, grouping: int) -> Sequence[tuple[str, str]]:
        groups = self.words.grouping(grouping)
        if not groups:
            raise DocumentError("There is no such grouping.")
        return [(group["key"], group["name"]) for group in groups]

    def shared(self, part: int, version: int) -> Sequence[Json]:
        found = self.session.get(SharedPartVersion, (part, version))
        if found is None:
            raise DocumentError("There is no such version of a shared part.")
        return found.lines

    def keep(self, name: str, line: Json) -> tuple[int, int]:
        made = shared.keep_part(self.session, self.actor, self.now, name, [line], self.words)
        return made.id, made.version

    def pages(self) -> Sequence[Json]:
        return queries.house(self.session).pages or ()

    def plain(self, document: Json) -> str:
        return made_from(document, placed(document, queries.shared_of(self.session, document)))


@dataclasses.dataclass(frozen=True, slots=True)
class Newest:
    """What changes are applied to: the newest draft, who saved it, and what it is called."""

    document: Json
    version: int
    changed_by: str
    what: str


@dataclasses.dataclass(frozen=True, slots=True)
class Posted:
    """The document after what was posted, and the line that the editor selects."""

    document: Json
    touched: str | None


def based_on(data: Mapping[str, Any]) -> int:
    """The version that something posted is based on. Raises Invalid."""
    try:
        return int(data.get("version", ""))
    except (TypeError, ValueError):
        raise Invalid("“version” must be a number.", "version") from None


def apply(
    data: Mapping[str, Any], newest: Newest, take: Callable[[Any], Json], around: Around
) -> Posted:
    """The newest draft (or a `document` that is posted: a step back, or one's own after somebody
    else's) with the posted `changes`. Raises Conflict when the draft is of another version by now,
    Invalid naming "<line>:<slot>"."""
    if based_on(data) != newest.version:
        raise actions.meanwhile(newest.changed_by, newest.what, newest.version)
    changes = listed(data.get("changes"))
    if len(changes) > MOST_CHANGES or not all(isinstance(one, dict) for one in changes):
        raise Invalid(
            Wording(
                "Post at most %(most_changes)s changes, each an object.", most_changes=MOST_CHANGES
            ),
            "changes",
        )
    document = newest.document
    if data.get("document") is not None:
        document = take(data["document"])
    touched: str | None = None
    for change in changes:
        try:
            document, line = edit.apply(document, change, around)
        except DocumentError as problem:
            raise Invalid(str(problem), f"{problem.line or ''}:{problem.slot or ''}") from None
        touched = line if change.get("do") != "set" else touched
    return Posted(document, touched)


def redraws(data: Mapping[str, Any]) -> bool:
    """Whether what was posted changes more of the page than what was typed."""
    changes = [one for one in listed(data.get("changes")) if isinstance(one, dict)]
    return bool(data.get("redraw")) or any(one.get("do") != "set" for one in changes)
