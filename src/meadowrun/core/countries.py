"""Countries: their names, the one of a time zone, and which one a file's telephone numbers are
of."""

import functools
import importlib.resources
import re
from collections.abc import Iterable, Sequence

import phonenumbers

from meadowrun.core.values import is_number_of
from meadowrun.core.wording import fold

#: What a language says of where its speakers are, the likeliest first.
_OF_LANGUAGE = {
    "de": ("DE", "AT", "CH"),
    "fr": ("FR", "BE", "CH"),
    "es": ("ES", "MX", "AR"),
    "it": ("IT",),
    "nl": ("NL", "BE"),
    "pl": ("PL",),
    "pt": ("PT", "BR"),
    "sv": ("SE",),
    "da": ("DK",),
    "nb": ("NO",),
    "no": ("NO",),
    "fi": ("FI",),
    "cs": ("CZ",),
    "hu": ("HU",),
    "ja": ("JP",),
    "el": ("GR",),
    "tr": ("TR",),
    "en": ("GB", "US", "IE", "AU", "CA"),
}
#: Headings by which a file shows its language.
_HEADINGS = {
    "de": ("vorname", "nachname", "telefon", "ort", "strasse", "firma"),
    "fr": ("prenom", "nom", "ville", "courriel"),
    "es": ("nombre", "apellido", "telefono", "ciudad"),
    "it": ("cognome", "nome", "citta"),
    "nl": ("voornaam", "achternaam", "plaats"),
    "pl": ("imie", "nazwisko", "miasto"),
}
_OWN_NAMES = {
    "deutschland": "DE",
    "osterreich": "AT",
    "schweiz": "CH",
    "suisse": "CH",
    "espana": "ES",
    "italia": "IT",
    "nederland": "NL",
    "polska": "PL",
    "uk": "GB",
    "england": "GB",
    "scotland": "GB",
    "wales": "GB",
    "great britain": "GB",
    "united kingdom": "GB",
    "usa": "US",
    "united states of america": "US",
    "belgie": "BE",
    "belgique": "BE",
    "sverige": "SE",
    "danmark": "DK",
    "norge": "NO",
    "suomi": "FI",
}
#: So many of the numbers must be numbers of a country, for it to be a good guess.
_ENOUGH = 0.8


def _table(name: str) -> list[list[str]]:
    text = (
        importlib.resources.files("tzdata").joinpath("zoneinfo", name).read_text(encoding="utf-8")
    )
    return [line.split("\t") for line in text.splitlines() if line and not line.startswith("#")]


@functools.cache
def names() -> dict[str, str]:
    """Code (ISO 3166-1) → name, of every country whose telephone numbers can be read; by name."""
    found = {
        row[0]: row[1].replace("Britain (UK)", "United Kingdom") for row in _table("iso3166.tab")
    }
    return dict(
        sorted(
            (
                (code, name)
                for code, name in found.items()
                if code in phonenumbers.SUPPORTED_REGIONS
            ),
            key=lambda item: fold(item[1]),
        )
    )


@functools.cache
def of_zone(zone: str) -> str:
    """The country of a time zone, "" for none."""
    return next((row[0] for row in _table("zone.tab") if row[2] == zone), "")


def called(text: str) -> str:
    """The code of a country by its code or name, "" for none."""
    bare = text.strip()
    if bare.upper() in names():
        return bare.upper()
    return _OWN_NAMES.get(fold(bare)) or next(
        (code for code, name in names().items() if fold(name) == fold(bare)), ""
    )


def is_international(number: str) -> bool:
    """Whether a number says its country itself: +44…, 0044…"""
    return re.match(r"\s*(?:\+|\(\+|00[1-9])", number) is not None


def guessed(
    numbers: Iterable[str],
    zones: Iterable[str],
    languages: Iterable[str],
    headings: Sequence[str],
    home: str,
) -> str:
    """The country of a file's national numbers: the one that most of them are numbers of, among
    those that its time zones, its languages, its headings and the organisation's own country
    suggest. "" where none of them fits, or none is needed."""
    national = [n for n in dict.fromkeys(numbers) if n and not is_international(n)][:300]
    if not national:
        return ""
    folded = {fold(h) for h in headings}
    spoken = [
        *(language[:2].lower() for language in languages if language),
        *(k for k, words in _HEADINGS.items() if folded & set(words)),
    ]
    likely = [
        *(of_zone(zone) for zone in zones if zone),
        *(code for language in spoken for code in _OF_LANGUAGE.get(language, ())),
        home,
    ]
    shares = {
        code: sum(map(functools.partial(_is_of, code), national)) / len(national)
        for code in dict.fromkeys(filter(None, likely))
    }
    # Of several that fit as well, the one that more speaks for.
    best = max(shares, key=lambda code: (round(shares[code], 2), likely.count(code)), default="")
    return best if best and shares[best] >= _ENOUGH else ""


def _is_of(code: str, number: str) -> bool:
    try:
        return is_number_of(phonenumbers.parse(number, code), code)
    except phonenumbers.NumberParseException:
        return False
