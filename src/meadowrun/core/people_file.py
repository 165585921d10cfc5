"""Reading a file of people: what its columns hold, and each row as clean values or a reason why
not."""

import contextlib
import dataclasses
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from meadowrun.core import countries, tags, values
from meadowrun.core.audience.fields import FieldSpec
from meadowrun.core.channels import CHANNEL_WORDS
from meadowrun.core.language import Wording
from meadowrun.core.table_file import FileProblem, Reading, rows, shown

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
    """A row that is not taken, with the column and the reason. `who` is what its person is known
    by, empty if it does not have that; `declined` are the channels that it says no to,
    which counts all the same."""

    number: int
    column: str
    reason: str
    cells: list[str]
    who: str = ""
    declined: tuple[str, ...] = ()


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
                "A column says who agreed. Fill in “How and when they agreed”, so that it can be "
                "shown later, or leave the column out.",
                "consent",
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
    """Every row as clean values, or the reason why it is refused, with what it says no to. A
    later row of somebody met before is refused."""
    seen: dict[str, int] = {}
    lines = rows(content, reading)
    next(lines, None)
    matched = [(i, t) for i, t in enumerate(plan.targets) if t]
    for number, cells in lines:
        try:
            row = _row(number, cells, matched, plan, own, columns)
            key = _who(row.standard, plan)
            if key in seen:
                what = "address" if plan.identify == "email" else "reference number"
                yield Refusal(
                    number,
                    columns[plan.targets.index(plan.identify)],
                    Wording(
                        "the same %(what)s is in row %(seen)s already",
                        what=what,
                        seen=seen[key],
                    ),
                    [shown(c) for c in cells[: len(columns)]],
                    key,
                    _declined(row.said),
                )
                continue
            seen[key] = number
            yield row
        except _Refused as refused:
            index = plan.targets.index(refused.target) if refused.target in plan.targets else 0
            yield Refusal(
                number,
                columns[index],
                refused.reason,
                [shown(c) for c in cells[: len(columns)]],
                refused.who,
                refused.declined,
            )


class _Refused(Exception):
    """Why a row is not taken, and what is known of its person all the same."""

    def __init__(self, target: str, reason: str):
        self.target, self.reason = target, reason
        self.who = ""
        self.declined: tuple[str, ...] = ()


def _who(standard: Mapping[str, str], plan: Plan) -> str:
    """What a row's person is known by, as contacts are; empty if the row does not have it."""
    value = standard.get(plan.identify, "")
    return values.email_key(value) if plan.identify == "email" else value


def _declined(said: Mapping[str, bool]) -> tuple[str, ...]:
    return tuple(channel for channel, agreed in said.items() if not agreed)


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
    try:
        usable = _take_all(held, cells, matched, columns)
    except _Refused as refused:
        refused.who = _who(held.standard, plan)
        refused.declined = _declined(held.said)
        raise
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


def _take_all(
    held: "_Held", cells: list[Any], matched: Sequence[tuple[int, str]], columns: Sequence[str]
) -> bool:
    """Takes every cell of a row; whether mail can go to its address. Raises the first reason to
    refuse it when all of it is read, so that a no in a later cell is known."""
    plan = held.plan
    refused: _Refused | None = None
    for index, target in matched:
        cell = cells[index] if index < len(cells) else None
        if cell is None or cell == "":
            continue
        try:
            held.take(target, cell)
        except (values.ValueProblem, tags.TagProblem) as problem:
            if plan.bad_cells != "leave_out" or target in (plan.identify, *SAID):
                # Without these nobody would know who it is, or what they said.
                refused = refused or _Refused(target, str(problem))
                continue
            held.left_out.append((columns[index], str(problem)))
    if refused:
        with contextlib.suppress(_Refused):
            # Cleaned all the same: it says whose no this is.
            held.address_usable(columns)
        raise refused
    usable = held.address_usable(columns)
    if plan.identify not in held.standard:
        raise _Refused(
            plan.identify,
            "has no address" if plan.identify == "email" else "has no reference number",
        )
    return usable


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
        address = address.replace(" ", "").strip("<>;,").removeprefix("mailto:").strip("<>;,")
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
