"""Reading a file of people: what its columns hold, and each row as clean values or a reason why
not."""

import dataclasses
import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from meadowrun.core import countries, tags, values
from meadowrun.core.audience.fields import FieldSpec
from meadowrun.core.channels import CHANNEL_WORDS
from meadowrun.core.language import Wording
from meadowrun.core.table_file import FileProblem, Reading, rows, shown
from meadowrun.core.wording import fold

STANDARD = (
    "email",
    "reference",
    "first_name",
    "last_name",
    "phone",
    "town",
    "language",
    "timezone",
    "company",
)
#: A column that says of which country a row's telephone number is; it becomes no field.
COUNTRY = "phone_country"
#: Columns that say yes or no to a channel, for each person.
SAID = {"agreed:email": "email", "agreed:sms": "sms"}
#: A column of tags, separated by commas or semicolons.
TAGS = "tags"
#: what a header may say for each standard field, folded
_HINTS: dict[str, tuple[str, ...]] = {
    "email": (
        "email",
        "e mail",
        "mail",
        "email address",
        "e mail address",
        "mailadresse",
        "e mail adresse",
        "courriel",
        "address email",
        "emailaddress",
    ),
    "reference": (
        "reference",
        "customer number",
        "member number",
        "membership number",
        "kundennummer",
        "ref",
        "customer id",
        "member id",
        "mitgliedsnummer",
        "reference number",
    ),
    "first_name": (
        "first name",
        "first",
        "firstname",
        "given name",
        "forename",
        "vorname",
        "prenom",
        "christian name",
    ),
    "last_name": (
        "last name",
        "last",
        "lastname",
        "surname",
        "family name",
        "nachname",
        "nom",
        "name",
    ),
    "phone": ("phone", "telephone", "mobile", "phone number", "telefon", "tel", "mobile number"),
    "town": ("town", "city", "place", "ort", "stadt", "ville"),
    "language": ("language", "sprache", "langue", "lang"),
    "timezone": ("time zone", "timezone", "zeitzone"),
    COUNTRY: ("country", "country code", "land", "pays", "paese", "pais"),
    "company": ("company", "organisation", "organization", "firma", "school", "club", "employer"),
    TAGS: ("tags", "tag"),
}
#: The same for what people said; only the whole header counts, since a wrong guess would be about
#: consent.
_SAID_HINTS = {
    "agreed:email": (
        "agreed",
        "agreed to email",
        "email consent",
        "consent",
        "opt in",
        "opted in",
        "email opt in",
        "einwilligung",
    ),
    "agreed:sms": (
        "agreed to texts",
        "agreed to text messages",
        "text consent",
        "sms consent",
        "sms opt in",
    ),
}


@dataclasses.dataclass(frozen=True)
class Plan:
    """How columns become fields: for each column a standard field, `own:<key>`, or "" to leave it
    out."""

    targets: tuple[str, ...]
    #: email or reference: what tells that a row is somebody we know
    identify: str = "email"
    #: update: the file wins; fill: only blanks are filled; keep: known people stay as they are
    known: str = "fill"
    #: 03/05 is 3 May
    day_first: bool = True
    #: the country of telephone numbers that do not name theirs; empty: such numbers are not taken
    country: str = ""
    #: what a cell that cannot be read does: its whole row is refused, or the person is taken and
    #: the cell left_out
    bad_cells: str = "refuse"
    #: fields that are made when the import is carried out: label, type and key
    new: tuple[tuple[str, str, str], ...] = ()
    #: evidence of consent, in words; empty: there is none
    consent: str = ""
    #: channels that every newcomer agreed to, if there is evidence
    channels: tuple[str, ...] = ("email",)
    #: topics that who agreed to email agreed to, 0 for all email
    topics: tuple[int, ...] = (0,)
    #: name of a list to put everybody from the file on; empty: none
    list_name: str = ""
    #: tags for everybody from the file, as paths
    tags: tuple[str, ...] = ()

    def to_json(self) -> dict[str, Any]:
        return {
            **dataclasses.asdict(self),
            "targets": list(self.targets),
            "topics": list(self.topics),
            "channels": list(self.channels),
            "tags": list(self.tags),
            "new": [list(field) for field in self.new],
        }

    @classmethod
    def from_json(cls, data: Mapping[str, Any]) -> "Plan":
        return cls(
            **{
                **data,
                "targets": tuple(data["targets"]),
                "topics": tuple(data["topics"]),
                "channels": tuple(data.get("channels", ("email",))),
                "tags": tuple(data.get("tags", ())),
                "new": tuple((label, kind, key) for label, kind, key in data.get("new", ())),
            }
        )

    def agreeing(self, channel: str) -> str:
        """Who agrees to a channel: “column” where one says so, “newcomers” all of them, or nobody
        (“”)."""
        if not self.consent:
            return ""
        return (
            "column"
            if f"agreed:{channel}" in self.targets
            else "newcomers"
            if channel in self.channels
            else ""
        )


@dataclasses.dataclass(frozen=True, slots=True)
class Row:
    """A usable row: `number` as a person counts lines of the file, the header being 1."""

    number: int
    standard: dict[str, str]
    own: dict[str, Any]
    email_usable: bool
    #: channel → what the row says they said
    said: dict[str, bool]
    tags: tuple[str, ...] = ()
    #: cells that were left out, as (column, why)
    left_out: tuple[tuple[str, str], ...] = ()
    #: the row as it was read, where something was left out
    cells: tuple[str, ...] = ()


@dataclasses.dataclass(frozen=True, slots=True)
class Refusal:
    number: int
    column: str
    reason: str
    cells: list[str]


def guess(
    columns: Sequence[str], sample: Sequence[Sequence[str]], own: Sequence[FieldSpec]
) -> tuple[str, ...]:
    """A target for each column, from its name first and from what stands in it second; each used
    once."""
    taken: set[str] = set()
    found = [""] * len(columns)
    names = [re.sub(r"[^a-z0-9]+", " ", fold(c)).strip() for c in columns]
    for exact in (True, False):
        for index, name in enumerate(names):
            if found[index] or not name:
                continue
            if target := next(
                (t for t, hints in _SAID_HINTS.items() if name in hints and t not in taken), ""
            ):
                found[index] = target
                taken.add(target)
                continue
            for target, hints in _HINTS.items():
                hit = name in hints if exact else any(len(h) > 4 and h in name for h in hints)
                if target not in taken and hit:
                    found[index] = target
                    taken.add(target)
                    break
            else:
                for spec in own:
                    labels = (fold(spec.label), spec.key.replace("_", " "))
                    if (
                        f"own:{spec.key}" not in taken
                        and spec.owner == "contact"
                        and name in labels
                    ):
                        found[index] = f"own:{spec.key}"
                        taken.add(found[index])
                        break
    if "email" not in taken:
        for index in range(len(columns)):
            cells = [r[index] for r in sample if index < len(r) and r[index]]
            if cells and sum("@" in c for c in cells) * 2 > len(cells):
                found[index] = "email"
                break
    return tuple(found)


#: A column with so few different values, each of them so often on the average, is one to choose
#: from.
_FEW, _OFTEN = 12, 3
#: The share of a new column's cells that a type must read.
_MOSTLY = 0.8


def _readable(kind: str, cell: str) -> bool:
    try:
        values.typed(kind, cell)
    except values.ValueProblem:
        return False
    return True


def guess_type(cells: Sequence[str]) -> str:
    """What sort of field a new column would be, from the cells of its first rows. A few that do not
    fit are what bad cells are for."""
    filled = [c for c in cells if c]
    coded = any(len(c) > 1 and c.isdecimal() and c[0] == "0" for c in filled)
    for kind in ("number", "datetime", "date", "yes_no"):
        if kind != "yes_no" and coded:
            # A postcode or a key: as a number it would lose the zeros it begins with, and it is no
            # spreadsheet's date.
            continue
        if filled and sum(_readable(kind, c) for c in filled) >= _MOSTLY * len(filled):
            return kind
    different = {fold(c) for c in filled}
    if (
        different
        and len(different) <= _FEW
        and len(filled) >= _OFTEN * len(different)
        and all(len(c) <= 40 for c in filled)
    ):
        return "choice"
    return "text"


def guess_country(
    columns: Sequence[str], sample: Sequence[Sequence[str]], targets: Sequence[str], home: str
) -> str:
    """The country of the file's telephone numbers, "" where none is needed or nothing speaks for
    one."""

    def cells(target: str) -> list[str]:
        if target not in targets:
            return []
        place = targets.index(target)
        return [row[place] for row in sample if place < len(row)]

    return countries.guessed(cells("phone"), cells("timezone"), cells("language"), columns, home)


def check(plan: Plan, columns: Sequence[str]) -> None:
    """Raises FileProblem when a plan cannot work."""
    used = [t for t in plan.targets if t]
    if plan.identify not in used:
        name = "address" if plan.identify == "email" else "reference number"
        raise FileProblem(
            Wording(
                "No column is matched to the %(name)s, so nobody could be recognised. Choose one.",
                name=name,
            )
        )
    for target in used:
        if used.count(target) > 1:
            raise FileProblem(
                Wording(
                    "Two columns are matched to %(target)s. Keep one.",
                    target=target.removeprefix("own:").replace("_", " ").replace(":", " to "),
                )
            )
        if target in SAID and not plan.consent:
            raise FileProblem(
                "A column says who agreed. Say how and when they did, so that it can be shown "
                "later; or leave the column out."
            )
        if target in SAID and SAID[target] in plan.channels:
            raise FileProblem(
                Wording(
                    "Either every newcomer agreed to %(channel_words)s, or a column says who did. "
                    "Untick the one, or leave the other out.",
                    channel_words=CHANNEL_WORDS[SAID[target]],
                )
            )
    if len(plan.targets) != len(columns):
        raise FileProblem("The file's columns have changed. Choose the file again.")


def read(
    content: bytes,
    reading: Reading,
    plan: Plan,
    own: Mapping[str, FieldSpec],
    columns: Sequence[str],
) -> Iterator[Row | Refusal]:
    """Every row as clean values, or the reason why it is refused. A later row of somebody met
    before is refused."""
    seen: dict[str, int] = {}
    lines = rows(content, reading)
    next(lines, None)
    matched = [(i, t) for i, t in enumerate(plan.targets) if t]
    for number, cells in lines:
        try:
            row = _row(number, cells, matched, plan, own, columns)
            key = row.standard.get(plan.identify, "").lower()
            if key in seen:
                what = "address" if plan.identify == "email" else "reference number"
                raise _Refused(
                    plan.identify,
                    Wording(
                        "the same %(what)s is in row %(seen)s already",
                        what=what,
                        seen=seen[key],
                    ),
                )
            seen[key] = number
            yield row
        except _Refused as refused:
            index = plan.targets.index(refused.target) if refused.target in plan.targets else 0
            yield Refusal(
                number, columns[index], refused.reason, [shown(c) for c in cells[: len(columns)]]
            )


class _Refused(Exception):
    def __init__(self, target: str, reason: str):
        self.target, self.reason = target, reason


def _row(
    number: int,
    cells: list[Any],
    matched: Sequence[tuple[int, str]],
    plan: Plan,
    own: Mapping[str, FieldSpec],
    columns: Sequence[str],
) -> Row:
    if len(cells) > len(columns) and any(shown(c) for c in cells[len(columns) :]):
        raise _Refused(
            "",
            Wording(
                "has %(cells)s cells where the header has %(columns)s; is a separator unquoted?",
                cells=len(cells),
                columns=len(columns),
            ),
        )
    held = _Held(plan, own, _region(cells, matched, plan), set(plan.tags))
    for index, target in matched:
        cell = cells[index] if index < len(cells) else None
        if cell is None or cell == "":
            continue
        try:
            held.take(target, cell)
        except (values.ValueProblem, tags.TagProblem) as problem:
            if plan.bad_cells != "leave_out" or target in (plan.identify, *SAID):
                # Without these nobody would know who it is, or what they said.
                raise _Refused(target, str(problem)) from None
            held.left_out.append((columns[index], str(problem)))
    usable = held.address_usable(columns)
    if plan.identify not in held.standard:
        raise _Refused(
            plan.identify,
            "has no address" if plan.identify == "email" else "has no reference number",
        )
    return Row(
        number,
        held.standard,
        held.attributes,
        usable,
        held.said,
        tuple(sorted(held.tags)),
        tuple(held.left_out),
        tuple(shown(c) for c in cells[: len(columns)]) if held.left_out else (),
    )


def _region(cells: list[Any], matched: Sequence[tuple[int, str]], plan: Plan) -> str:
    """The country of a row's telephone number: that of its own column, else the file's."""
    for index, target in matched:
        if target == COUNTRY and index < len(cells):
            code = countries.called(shown(cells[index]))
            if code:
                return code
    return plan.country


@dataclasses.dataclass(slots=True)
class _Held:
    """What the cells of one row come to; `left_out` are (column, reason)."""

    plan: Plan
    own: Mapping[str, FieldSpec]
    region: str
    tags: set[str]
    standard: dict[str, str] = dataclasses.field(default_factory=dict)
    attributes: dict[str, Any] = dataclasses.field(default_factory=dict)
    said: dict[str, bool] = dataclasses.field(default_factory=dict)
    left_out: list[tuple[str, str]] = dataclasses.field(default_factory=list)

    def take(self, target: str, cell: Any) -> None:
        """One cell, which is not blank. Raises ValueProblem or TagProblem."""
        if target.startswith("own:"):
            self._own(self.own[target[4:]], cell)
        elif target in SAID:
            answer = values.typed("yes_no", cell)
            if answer is not None:
                self.said[SAID[target]] = answer
        else:
            text = values.text_or_none(cell if isinstance(cell, str) else shown(cell))
            if text is not None and target != COUNTRY:
                self._text(target, text)

    def _own(self, spec: FieldSpec, cell: Any) -> None:
        value = values.typed(spec.type, cell, spec.options, self.plan.day_first)
        if value is not None:
            self.attributes[spec.key] = value

    def _text(self, target: str, text: str) -> None:
        if target == TAGS:
            self.tags |= set(tags.typed(text))
            return
        if len(text) > 500:
            raise values.ValueProblem("is longer than 500 characters")
        if target == "phone":
            text = values.phone(text, self.region)
        elif target == "timezone":
            text = values.timezone(text)
        self.standard[target] = text

    def address_usable(self, columns: Sequence[str]) -> bool:
        """Whether mail can go to the row's address, which is cleaned. One that is no address is
        left out where the plan says so; else raises _Refused."""
        address = self.standard.get("email")
        if address is None:
            return False
        typed = address
        address = address.replace(" ", "").removeprefix("mailto:").strip("<>;,")
        self.standard["email"] = address
        reason = values.email_problem(address)
        if reason and " " in typed:
            # Said of the cell as it stands in the file.
            reason = values.email_problem(typed) or reason
        if not reason:
            return True
        if self.plan.bad_cells != "leave_out" or self.plan.identify == "email":
            raise _Refused("email", reason)
        del self.standard["email"]
        self.left_out.append((columns[self.plan.targets.index("email")], reason))
        return False
