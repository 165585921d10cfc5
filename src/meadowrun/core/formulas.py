"""Cells of files that a spreadsheet would run as a formula: how they are kept from it, and back."""

import re
from typing import Any

#: What a spreadsheet would run, behind any number of quotes.
_FORMULA = re.compile(r"'*[=+\-@\t\r]")
#: A number with its sign, or a telephone number: no formula, though it begins like one.
_SIGNED = re.compile(r"[+-]\d[\d .,()/]*(-[\d .()/]+)*")


def harmless(cell: str) -> str:
    """A cell for a file of ours that a spreadsheet would run as a formula, kept as text by a quote
    before it. So that `plain` gives back exactly what was there, a cell that looks like one made so
    gets a quote, too."""
    return "'" + cell if _FORMULA.match(cell) and not _SIGNED.fullmatch(cell) else cell


def plain(cell: Any) -> Any:
    """A cell without the quote that `harmless` or a spreadsheet put before it; anything else as it
    is."""
    return cell[1:] if isinstance(cell, str) and cell[:1] == "'" and _FORMULA.match(cell) else cell
