"""What conditions can be about: fields of contacts and companies, kinds of event, and things with a
name."""

import dataclasses
from collections.abc import Callable, Iterable, Mapping
from typing import Any

from meadowrun.core import tags
from meadowrun.core.language import Wording

TYPES = ("text", "number", "date", "datetime", "yes_no", "choice", "choices")
TYPE_WORDS = {
    "text": "text",
    "number": "number",
    "date": "date",
    "datetime": Wording("date and time"),
    "yes_no": Wording("yes or no"),
    "choice": Wording("one choice"),
    "choices": Wording("several choices"),
}


@dataclasses.dataclass(frozen=True, slots=True)
class FieldSpec:
    """A field. `column` is set for standard fields that have a column of their own, else it lives
    in attributes.

    `ref` is how definitions and fill-ins name it: `town`, `membership`, `company.kind`.
    """

    ref: str
    label: str
    type: str
    options: tuple[str, ...] = ()
    column: str | None = None
    meaning: str = ""
    #: offered nowhere any more
    retired: bool = False

    @property
    def is_day(self) -> bool:
        """Whether days can be asked of it."""
        return self.type in ("date", "datetime")

    @property
    def owner(self) -> str:
        return "company" if self.ref.startswith("company.") else "contact"

    @property
    def key(self) -> str:
        return self.ref.removeprefix("company.")


@dataclasses.dataclass(frozen=True, slots=True)
class DetailSpec:
    key: str
    label: str
    type: str


@dataclasses.dataclass(frozen=True, slots=True)
class EventSpec:
    """A kind of event: "who *bought a ticket*", "who did not *buy a ticket*"."""

    id: int
    key: str
    did: str
    do: str
    details: tuple[DetailSpec, ...] = ()
    #: offered nowhere any more
    retired: bool = False

    def detail(self, key: str) -> DetailSpec | None:
        return next((d for d in self.details if d.key == key), None)


STANDARD = (
    FieldSpec("first_name", Wording("first name"), "text", column="first_name"),
    FieldSpec("last_name", Wording("last name"), "text", column="last_name"),
    FieldSpec("email", Wording("email address"), "text", column="email"),
    FieldSpec("reference", Wording("reference number"), "text", column="reference"),
    FieldSpec("phone", "phone", "text", column="phone"),
    FieldSpec("town", "town", "text", column="town"),
    FieldSpec("language", "language", "text", column="language"),
    FieldSpec("timezone", Wording("time zone"), "text", column="timezone"),
    FieldSpec("company.name", Wording("company’s name"), "text", column="name"),
)


#: Things with a name that lines speak of by number.
NAMED = ("message", "campaign", "send", "list", "topic", "segment", "grouping", "tag", "score")


def _nothing(_: int) -> Any:
    return None


@dataclasses.dataclass(frozen=True)
class Dictionary:
    """Everything that lines can be about, by what definitions call it."""

    fields: Mapping[str, FieldSpec]
    events: Mapping[str, EventSpec]
    #: keys of kinds of event that were merged → the key of the one they are
    merged: Mapping[str, str] = dataclasses.field(default_factory=dict)
    #: kind of NAMED → number → name
    named: Mapping[str, Mapping[int, str]] = dataclasses.field(default_factory=dict)
    #: a segment's lines as JSON, by its number; asked for only when a line names one
    segment: Callable[[int], dict[str, Any] | None] = _nothing
    #: a grouping's groups in order, [{"key", "name", "lines"}], by its number
    grouping: Callable[[int], list[dict[str, Any]] | None] = _nothing
    #: a message's links, number → label
    links: Callable[[int], Mapping[int, str] | None] = _nothing

    @classmethod
    def of(cls, own: Iterable[FieldSpec], events: Iterable[EventSpec], **more: Any) -> "Dictionary":
        return cls({f.ref: f for f in (*STANDARD, *own)}, {e.key: e for e in events}, **more)

    def event(self, key: str) -> EventSpec | None:
        """The kind of event of a key, also of one that was merged into it."""
        return self.events.get(self.merged.get(key, key))

    def under(self, tag: int) -> frozenset[int]:
        """A tag and all tags that lie in it, by number."""
        return tags.under(tag, self.named.get("tag", {}))

    def name(self, kind: str, number: int) -> str | None:
        """What something with a name is called; None when it does not exist."""
        return self.named.get(kind, {}).get(number)
