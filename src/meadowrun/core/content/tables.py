"""Tables to look things up in: a CSV read, its columns named, each row under what it is looked up
by."""

import csv
import dataclasses
import io
import re

from meadowrun.core import wording
from meadowrun.core.formulas import plain
from meadowrun.core.language import Problem, Wording

#: What a table, and a column of one, is called.
KEY = re.compile(r"[a-z][a-z0-9_]{0,39}\Z")
MOST_ROWS = 20_000


class TableProblem(Problem):
    """What is wrong with a table; `place` is "file" or "key_column"."""

    def __init__(self, words: str, place: str = "file") -> None:
        super().__init__(words)
        self.place = place


@dataclasses.dataclass(frozen=True)
class Table:
    """`rows` are {column: value} by the case-folded value in the column `by`."""

    columns: list[str]
    by: str
    rows: dict[str, dict[str, str]]


def read_table(content: bytes, key_column: str) -> Table:
    """A table from a CSV in UTF-8; it is looked up by `key_column`, the first column where that is
    blank. Raises TableProblem naming the place and, for a row, its number."""
    names, *rows = _cells(content)
    columns = [_column(name) for name in names]
    for place, column in enumerate(columns):
        if not KEY.match(column) or columns.index(column) != place:
            raise TableProblem(
                Wording(
                    "The column “%(names)s” has no usable name, or one that is there twice.",
                    names=names[place],
                )
            )
    by = _column(key_column) or columns[0]
    if by not in columns:
        raise TableProblem(
            Wording(
                "There is no column “%(key_column)s”; there are %(columns)s.",
                key_column=key_column,
                columns=", ".join(columns),
            ),
            "key_column",
        )
    found: dict[str, dict[str, str]] = {}
    for number, row in enumerate(rows, 2):
        if len(row) != len(columns):
            raise TableProblem(
                Wording(
                    "Row %(number)s has %(row)s cells, the first row %(columns)s.",
                    number=number,
                    row=len(row),
                    columns=len(columns),
                )
            )
        values = dict(zip(columns, (cell.strip() for cell in row), strict=True))
        key = values[by].casefold()
        if key in found:
            raise TableProblem(
                Wording(
                    "Row %(number)s: “%(value)s” is there twice in the column “%(by)s”.",
                    number=number,
                    value=values[by],
                    by=by,
                )
            )
        found[key] = values
    return Table(columns, by, found)


def _cells(content: bytes) -> list[list[str]]:
    """The row of names and those below it; blank ones are left out."""
    try:
        rows = [
            [plain(cell) for cell in row]
            for row in csv.reader(io.StringIO(content.decode("utf-8-sig")))
        ]
    except (UnicodeDecodeError, csv.Error) as problem:
        raise TableProblem(
            Wording("This is not CSV in UTF-8: %(problem)s.", problem=problem)
        ) from None
    rows = [row for row in rows if any(cell.strip() for cell in row)]
    if not 2 <= len(rows) <= MOST_ROWS:
        raise TableProblem(
            Wording(
                "The file must have a row of names and 1 to %(most_rows)s rows below it.",
                most_rows=wording.number(MOST_ROWS),
            )
        )
    return rows


def _column(name: str) -> str:
    return re.sub(r"\W+", "_", name.strip().lower()).strip("_")
