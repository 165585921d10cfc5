"""Which field each column of a file of people is, guessed from its name and from what stands in
it."""

import re
from collections.abc import Sequence

from meadowrun.core import countries, values
from meadowrun.core.audience.fields import FieldSpec
from meadowrun.core.people_file import COUNTRY, TAGS
from meadowrun.core.wording import fold

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


#: Names of columns that say the same as the label of an own field may, folded; whole names only.
_SAME = (
    frozenset(
        {
            "birthday",
            "date of birth",
            "birth date",
            "birthdate",
            "born",
            "dob",
            "geburtstag",
            "geburtsdatum",
            "date de naissance",
            "data di nascita",
            "fecha de nacimiento",
            "geboortedatum",
            "data urodzenia",
        }
    ),
    frozenset({"member since", "mitglied seit", "membre depuis", "socio dal", "lid sinds"}),
    frozenset({"region", "county", "district", "bezirk", "regio", "provincia"}),
)


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
#: What a column of who agreed to email is often called; it counts where each of its cells is a yes
#: or a no.
_OFTEN_SAID = ("newsletter", "mailing", "email marketing", "marketing", "subscribed", "subscriber")


def guess(
    columns: Sequence[str], sample: Sequence[Sequence[str]], own: Sequence[FieldSpec]
) -> tuple[str, ...]:
    """A target for each column, from its name first and from what stands in it second; each used
    once."""
    found = [""] * len(columns)
    names = [re.sub(r"[^a-z0-9]+", " ", fold(c)).strip() for c in columns]
    for exact in (True, False):
        for index, name in enumerate(names):
            if name and not found[index]:
                found[index] = _called(name, exact, found, own)
    for index in range(len(columns)):
        values_in = {r[index] for r in sample if index < len(r) and r[index]}
        if not found[index] and len(values_in) >= _TELLING:
            found[index] = _holding({fold(v) for v in values_in}, found, own)
        if not found[index] and names[index] in _OFTEN_SAID and "agreed:email" not in found:
            answered = values_in and all(_readable("yes_no", value) for value in values_in)
            found[index] = "agreed:email" if answered else ""
    if "email" not in found:
        for index in range(len(columns)):
            cells = [r[index] for r in sample if index < len(r) and r[index]]
            if cells and sum("@" in c for c in cells) * 2 > len(cells):
                found[index] = "email"
                break
    return tuple(found)


def _called(name: str, exact: bool, found: Sequence[str], own: Sequence[FieldSpec]) -> str:
    """The target that a column of a name is for, none that is `found` already; "" for none."""
    for target, hints in _SAID_HINTS.items():
        if name in hints and target not in found:
            return target
    for target, hints in _HINTS.items():
        hit = name in hints if exact else any(len(h) > 4 and h in name for h in hints)
        if hit and target not in found:
            return target
    for spec in _free(own, found):
        if name in _names(spec, every=not exact):
            return f"own:{spec.key}"
    return ""


def _holding(cells: set[str], found: Sequence[str], own: Sequence[FieldSpec]) -> str:
    """The one own field that has all values of a column among its choices; "" for several."""
    fitting = [s for s in _free(own, found) if cells <= {fold(o) for o in s.options}]
    return f"own:{fitting[0].key}" if len(fitting) == 1 else ""


#: So many different values of a column, all of them choices of one field, tell that it is this
#: field.
_TELLING = 2


def _free(own: Sequence[FieldSpec], found: Sequence[str]) -> list[FieldSpec]:
    """The own fields of contacts that no column is matched to yet."""
    return [s for s in own if s.owner == "contact" and f"own:{s.key}" not in found]


def _names(spec: FieldSpec, every: bool) -> set[str]:
    """What a column of an own field may be called: its label and key, with `every` also what says
    the same."""
    names = {fold(spec.label), spec.key.replace("_", " ")}
    same = [words for words in _SAME if every and words & names]
    return names.union(*same)


#: The share of a new column's cells that a type must read.
_MOSTLY = 0.8


def _readable(kind: str, cell: str) -> bool:
    try:
        values.typed(kind, cell)
    except values.ValueProblem:
        return False
    return True


#: A column with so few different values, each of them so often on the average, is one to choose
#: from.
_FEW, _OFTEN = 12, 3


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
