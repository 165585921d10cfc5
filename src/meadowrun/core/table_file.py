"""Reading a table from a CSV or XLSX file: its encoding and separator, its columns and its rows."""

import contextlib
import csv
import dataclasses
import io
import re
import zipfile
from collections.abc import Iterator
from typing import Any

import charset_normalizer
import openpyxl

from meadowrun.core import values, wording
from meadowrun.core.formulas import plain
from meadowrun.core.language import Problem, Wording

MOST_COLUMNS = 300
MOST_CELL = 100_000
SEPARATORS = {",": "comma", ";": "semicolon", "\t": "tab", "|": "bar"}
#: Signs that no table holds but by accident; many of them are no text.
_STRANGE = re.compile(r"[\x00-\x08\x0e-\x1f]")
#: What a workbook may unpack to, in bytes and files; how many times more than it takes packed, once
#: that is more than a little.
MOST_UNPACKED, MOST_PARTS, _DENSEST, _SMALL = 500_000_000, 2_000, 100, 20_000_000
#: Cells of a row below the first, which says how many there are; what is wider holds mostly
#: nothing.
_WIDEST = 1_000


class FileProblem(Problem):
    """The file as a whole cannot be used; the text says why and what to do. `where` names the field
    that it is about, if it is one."""

    def __init__(self, message: str, where: str | None = None):
        super().__init__(message)
        self.where = where


@dataclasses.dataclass(frozen=True)
class Reading:
    """How a file is read: an encoding and separator for text, or a workbook's first sheet."""

    kind: str
    encoding: str = ""
    separator: str = ""
    sheet: str = ""

    def words(self) -> str:
        if self.kind == "xlsx":
            return f"spreadsheet, sheet “{self.sheet}”"
        return f"text in {self.encoding.upper()}, cells separated by {SEPARATORS[self.separator]}s"


def recognise(content: bytes) -> Reading:
    """Finds out how a file is to be read. Raises FileProblem for what is neither text nor a
    workbook."""
    if not content.strip():
        raise FileProblem("The file is empty.")
    if content[:4] == b"PK\x03\x04":
        _measured(content)
        try:
            book = openpyxl.load_workbook(io.BytesIO(content), read_only=True, data_only=True)
        except Exception:
            raise FileProblem(
                "This looks like a spreadsheet but cannot be opened. Save it again as .xlsx or "
                ".csv."
            ) from None
        if not book.worksheets:
            raise FileProblem("The spreadsheet has no sheet with cells.")
        return Reading("xlsx", sheet=book.worksheets[0].title)
    if content[:8] == b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1":
        raise FileProblem(
            "This is a spreadsheet in an old format. Save it as .xlsx or .csv and choose it again."
        )
    encoding = _encoding(content)
    sample = content[:200_000].decode(encoding, errors="replace")
    strange = len(_STRANGE.findall(sample))
    if strange > max(5, len(sample) // 1000) or strange * 10 > len(sample):
        raise FileProblem(
            "This is not a text file. Save your table as .csv or .xlsx and choose it again."
        )
    return Reading("csv", encoding, _separator(sample))


def _measured(content: bytes) -> None:
    """Holds a workbook to what it unpacks to, before anything of it is unpacked. Raises
    FileProblem."""
    try:
        parts = zipfile.ZipFile(io.BytesIO(content)).infolist()
    except (zipfile.BadZipFile, ValueError, NotImplementedError):
        raise FileProblem(
            "This looks like a spreadsheet but cannot be opened. Save it again as .xlsx or .csv."
        ) from None
    whole = sum(part.file_size for part in parts)
    if (
        len(parts) > MOST_PARTS
        or whole > MOST_UNPACKED
        or whole > _SMALL
        and whole > _DENSEST * len(content)
    ):
        raise FileProblem(
            "This spreadsheet unpacks to far more than it holds. Save the table alone as .csv "
            "and choose it again."
        )


def _encoding(content: bytes) -> str:
    for mark, name in (
        (b"\xef\xbb\xbf", "utf-8-sig"),
        (b"\xff\xfe", "utf-16"),
        (b"\xfe\xff", "utf-16"),
    ):
        if content.startswith(mark):
            return name
    try:
        content.decode("utf-8")
        return "utf-8"
    except UnicodeDecodeError:
        # Western tables that are not UTF-8 are nearly always Windows-1252; ask the detector only
        # when that fails.
        try:
            content.decode("cp1252")
            return "cp1252"
        except UnicodeDecodeError:
            best = charset_normalizer.from_bytes(content[:100_000]).best()
            return best.encoding if best else "latin-1"


def _separator(sample: str) -> str:
    """The separator that cuts the first lines into the same number of cells, more than one."""
    best, best_score = ",", -1.0
    for candidate in SEPARATORS:
        rows: list[list[str]] = []
        # What can be read before it breaks still tells; reading the rows will say where it breaks.
        with contextlib.suppress(csv.Error):
            for _, row in zip(
                range(30), csv.reader(io.StringIO(sample), delimiter=candidate), strict=False
            ):
                if any(row):
                    rows.append(row)
        if not rows:
            continue
        width = len(rows[0])
        same = sum(1 for r in rows if len(r) == width) / len(rows)
        score = same * width if width > 1 else 0.5
        if score > best_score:
            best, best_score = candidate, score
    return best


def rows(content: bytes, reading: Reading) -> Iterator[tuple[int, list[Any]]]:
    """(line number, cells) of every row that is not blank, the header among them. Raises
    FileProblem."""
    if reading.kind == "xlsx":
        book = openpyxl.load_workbook(io.BytesIO(content), read_only=True, data_only=True)
        sheet = book[reading.sheet]
        # What the sheet says of its own size may be anything.
        sheet.reset_dimensions()
        for number, cells in enumerate(sheet.iter_rows(values_only=True), 1):
            # What the first row names is counted by who reads it.
            if number > 1 and len(cells) > _WIDEST:
                raise FileProblem(
                    Wording(
                        "Row %(number)s has %(cells)s cells, %(widest)s are the most. Delete the "
                        "columns that hold nothing and save it again.",
                        number=number,
                        cells=wording.number(len(cells)),
                        widest=wording.number(_WIDEST),
                    )
                )
            if any(c is not None and str(c).strip() for c in cells):
                yield number, [plain(cell) for cell in cells]
        return
    csv.field_size_limit(MOST_CELL)
    text = io.TextIOWrapper(
        io.BytesIO(content), encoding=reading.encoding, errors="replace", newline=""
    )
    # A sign that no text in the database can hold is dirt, and left out.
    lines = csv.reader(
        (line.replace("\0", "") for line in text) if b"\0" in content else text,
        delimiter=reading.separator,
    )
    begins = 1
    while True:
        try:
            line = next(lines)
        except StopIteration:
            return
        except csv.Error as problem:
            raise FileProblem(
                Wording(
                    "Line %(begins)s cannot be read (%(problem)s). Look for a quote that is never "
                    "closed.",
                    begins=begins,
                    problem=problem,
                )
            ) from None
        if any(c.strip() for c in line):
            yield begins, [plain(cell) for cell in line]
        begins = lines.line_num + 1


def header(content: bytes, reading: Reading, sample: int = 8) -> tuple[list[str], list[list[str]]]:
    """The columns' names and the first rows as text. Raises FileProblem."""
    found: list[str] | None = None
    first: list[list[str]] = []
    for _, cells in rows(content, reading):
        if found is None:
            if len(cells) > MOST_COLUMNS:
                raise FileProblem(
                    Wording(
                        "The file has %(cells)s columns; at most %(most_columns)s can be taken.",
                        cells=wording.number(len(cells)),
                        most_columns=MOST_COLUMNS,
                    )
                )
            found = [shown(c) or f"Column {i}" for i, c in enumerate(cells, 1)]
        else:
            first.append([shown(c) for c in cells[: len(found)]])
            if len(first) == sample:
                break
    if found is None:
        raise FileProblem("The file is empty.")
    if any(values.email_problem(name) is None for name in found):
        raise FileProblem(
            "The first row holds an address, so the names of the columns are missing. "
            "Add a first row that names them."
        )
    if not first:
        raise FileProblem("The file has only its header; there is nobody in it.")
    return found, first


def shown(cell: Any) -> str:
    """A cell as text for people."""
    if cell is None:
        return ""
    if isinstance(cell, float) and cell.is_integer():
        return str(int(cell))
    return str(cell)[:300].strip()
