"""What conditions can be about: fields of contacts and companies, and kinds of event."""

import dataclasses
from collections.abc import Iterable, Mapping

TYPES = ("text", "number", "date", "yes_no", "choice", "choices")
TYPE_WORDS = {"text": "text", "number": "number", "date": "date", "yes_no": "yes or no", "choice": "one choice",
              "choices": "several choices"}


@dataclasses.dataclass(frozen=True, slots=True)
class FieldSpec:
    """A field. `column` is set for standard fields that have a column of their own, else it lives in attributes.

    `ref` is how definitions and fill-ins name it: `town`, `membership`, `company.kind`.
    """

    ref: str
    label: str
    type: str
    options: tuple[str, ...] = ()
    column: str | None = None
    meaning: str = ""

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

    def detail(self, key: str) -> DetailSpec | None:
        return next((d for d in self.details if d.key == key), None)


STANDARD = (
    FieldSpec("first_name", "first name", "text", column="first_name"),
    FieldSpec("last_name", "last name", "text", column="last_name"),
    FieldSpec("email", "email address", "text", column="email"),
    FieldSpec("reference", "reference number", "text", column="reference"),
    FieldSpec("phone", "phone", "text", column="phone"),
    FieldSpec("town", "town", "text", column="town"),
    FieldSpec("language", "language", "text", column="language"),
    FieldSpec("timezone", "time zone", "text", column="timezone"),
    FieldSpec("company.name", "company’s name", "text", column="name"),
)


@dataclasses.dataclass(frozen=True)
class Dictionary:
    """All fields and event kinds that exist, by what definitions call them."""

    fields: Mapping[str, FieldSpec]
    events: Mapping[str, EventSpec]

    @classmethod
    def of(cls, own: Iterable[FieldSpec], events: Iterable[EventSpec]) -> "Dictionary":
        return cls({f.ref: f for f in (*STANDARD, *own)}, {e.key: e for e in events})
