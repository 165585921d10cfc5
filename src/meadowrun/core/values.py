"""Typed values from what people write: numbers, dates, yes and no, addresses, phones."""

import datetime as dt
import functools
import json
import re
import zoneinfo
from typing import Any

import email_validator
import phonenumbers

from meadowrun.core import wording
from meadowrun.core.language import Problem, Wording


class ValueProblem(Problem):
    """What is wrong with a value, in words that quote it."""


def read_json(text: str | bytes) -> Any:
    """JSON that somebody else wrote. Raises ValueError, also for what is nested so deep that
    reading it would end the program."""
    try:
        return json.loads(text)
    except RecursionError:
        raise ValueError("lists and objects are nested too deeply") from None


_YES = {"yes", "y", "true", "1", "ja", "j", "oui", "si", "sí", "x", "on"}
_NO = {"no", "n", "false", "0", "nein", "non", "off"}
_MONTHS = {
    name: i
    for i, names in enumerate(
        (
            ("jan", "january", "januar", "janvier"),
            ("feb", "february", "februar", "février"),
            ("mar", "march", "märz", "mars"),
            ("apr", "april", "avril"),
            ("may", "mai"),
            ("jun", "june", "juni", "juin"),
            ("jul", "july", "juli", "juillet"),
            ("aug", "august", "août"),
            ("sep", "sept", "september", "septembre"),
            ("oct", "october", "oktober", "octobre"),
            ("nov", "november", "novembre"),
            ("dec", "december", "dezember", "décembre"),
        ),
        1,
    )
    for name in names
}
_SPREADSHEET_EPOCH = dt.date(1899, 12, 30)


def text_or_none(value: Any) -> str | None:
    """Trimmed text without control characters; blank is None."""
    if value is None:
        return None
    text = value if isinstance(value, str) else str(value)
    if not text.isprintable():
        text = "".join(c for c in text if c >= " " or c in "\t\n")
    return " ".join(text.split()) or None


def number(text: str) -> float | int:
    """1234.5, "1,234.5", "1.234,5", "12,5", "£ 30" → a number. Raises ValueProblem."""
    bare = re.sub(r"[\s\u00a0\u202f'’£$€]", "", text).replace("−", "-")
    if not bare.isascii():
        raise ValueProblem(Wording("“%(short)s” is not a number", short=_short(text)))
    if re.fullmatch(r"-?\d{1,3}(,\d{3})+(\.\d+)?", bare):
        bare = bare.replace(",", "")
    elif re.fullmatch(r"-?\d{1,3}(\.\d{3})+,\d+", bare) or re.fullmatch(r"-?\d+,\d+", bare):
        bare = bare.replace(".", "").replace(",", ".")
    if not re.fullmatch(r"-?\d+(\.\d+)?", bare) or len(bare) > 30:
        raise ValueProblem(Wording("“%(short)s” is not a number", short=_short(text)))
    value = float(bare)
    return int(value) if value.is_integer() and abs(value) < 2**53 else value


@functools.lru_cache(maxsize=20_000)
def date(text: str, day_first: bool = True) -> dt.date:
    """ISO, "3.5.2024", "03/05/2024" (day first unless said otherwise), "3 May 2024", a
    spreadsheet's day number.

    Raises ValueProblem.
    """
    bare = text.strip()
    problem = ValueProblem(Wording("“%(short)s” is not a date", short=_short(text)))
    try:
        if match := re.match(r"(\d{4})-(\d{1,2})-(\d{1,2})(?:[T ].*)?$", bare):
            return dt.date(int(match[1]), int(match[2]), int(match[3]))
        if match := re.match(r"(\d{1,2})[./-](\d{1,2})[./-](\d{4}|\d{2})$", bare):
            first, second, year = int(match[1]), int(match[2]), int(match[3])
            year += 0 if year > 99 else 2000 if year < 50 else 1900
            day, month = (first, second) if day_first or "." in bare else (second, first)
            return dt.date(year, month, day)
        if match := re.match(r"(\d{1,2})\.? ([^\W\d]+)\.?,? (\d{4})$", bare):
            return dt.date(int(match[3]), _MONTHS[match[2].lower()], int(match[1]))
        if match := re.match(r"([^\W\d]+)\.? (\d{1,2}),? (\d{4})$", bare):
            return dt.date(int(match[3]), _MONTHS[match[1].lower()], int(match[2]))
        if re.fullmatch(r"\d{5}(\.\d+)?", bare):
            return _SPREADSHEET_EPOCH + dt.timedelta(days=int(float(bare)))
    except (ValueError, KeyError, OverflowError):
        raise problem from None
    raise problem


def moment(text: str, day_first: bool = True) -> dt.datetime:
    """A date as `date` reads it with a time behind it: "2026-11-23 14:05", "23.11.2026, 14:05", "3
    May 2024 9:30 pm".

    On the organisation's clock, without a zone. Raises ValueProblem.
    """
    found = re.fullmatch(
        r"(.+?)[T,\s]+(\d{1,2})[:.](\d\d)(?:[:.]\d\d(?:\.\d+)?)?\s*([ap]\.?m\.?)?",
        text.strip(),
        re.IGNORECASE,
    )
    problem = ValueProblem(
        Wording("“%(short)s” is not a date and time like 2026-11-23 14:05", short=_short(text))
    )
    if re.search(r"\d(Z|[+-]\d\d:?\d\d)$", text.strip()):
        raise ValueProblem(
            Wording(
                "“%(short)s” names a zone; write it on the organisation’s own clock, without one",
                short=_short(text),
            )
        )
    if not found:
        raise problem
    hour, minute, half = int(found[2]), int(found[3]), (found[4] or "").lower()[:1]
    if half and not 1 <= hour <= 12:
        raise problem
    try:
        return dt.datetime.combine(
            date(found[1], day_first),
            dt.time(hour % 12 + 12 * (half == "p") if half else hour, minute),
        )
    except ValueError:
        raise problem from None


def yes_no(text: str) -> bool:
    word = text.strip().lower()
    if word in _YES:
        return True
    if word in _NO:
        return False
    raise ValueProblem(Wording("“%(short)s” is neither yes nor no", short=_short(text)))


def typed(kind: str, value: Any, options: tuple[str, ...] = (), day_first: bool = True) -> Any:
    """A value in the form it is stored in, from text or a spreadsheet's own type; None when blank.

    A choice must be among `options` where there are any, compared without case. Raises
    ValueProblem.
    """
    if isinstance(value, dt.datetime):
        if kind == "datetime":
            return value.isoformat(timespec="minutes")[:16]
        value = value.date()
    if isinstance(value, dt.date):
        if kind == "date":
            return value.isoformat()
        value = value.isoformat()
    if kind == "number" and isinstance(value, int | float) and not isinstance(value, bool):
        return value
    if kind == "yes_no" and isinstance(value, bool):
        return value
    if kind == "choices" and isinstance(value, list):
        value = ";".join(map(str, value))
    if isinstance(value, float) and value.is_integer():
        value = int(value)
    text = text_or_none(value)
    if text is None:
        return None
    if len(text) > 5000:
        raise ValueProblem(
            Wording("“%(short)s” is longer than 5,000 characters", short=_short(text))
        )
    if kind == "number":
        return number(text)
    if kind == "date":
        return date(text, day_first).isoformat()
    if kind == "datetime":
        return moment(text, day_first).isoformat(timespec="minutes")
    if kind == "yes_no":
        return yes_no(text)
    if kind == "choice":
        return _choice(text, options)
    if kind == "choices":
        return sorted({_choice(t.strip(), options) for t in re.split(r"[;|,]", text) if t.strip()})
    return text


def _choice(text: str, options: tuple[str, ...]) -> str:
    if not options:
        return text
    for option in options:
        if option.lower() == text.lower():
            return option
    raise ValueProblem(
        Wording(
            "“%(short)s” is not one of %(list)s",
            short=_short(text),
            list=wording.joined(list(options[:8])),
        )
    )


def _short(text: str) -> str:
    return text if len(text) <= 40 else text[:37] + "…"


def email_key(text: str) -> str:
    """What an address is compared by."""
    return text.strip().lower()


@functools.lru_cache(maxsize=50_000)
def _domain_problem(domain: str) -> str | None:
    try:
        email_validator.validate_email(
            f"x@{domain}", check_deliverability=False, globally_deliverable=False
        )
    except email_validator.EmailNotValidError:
        return Wording("“%(short)s” is not a domain", short=_short(domain))
    return (
        None
        if "." in domain
        else Wording("“%(short)s” is not a complete domain", short=_short(domain))
    )


_PLAIN_LOCAL = re.compile(r"[a-z0-9_+-]+(\.[a-z0-9_+-]+)*\Z")


def email_problem(text: str) -> str | None:
    """What is wrong with an address, or None when mail can be sent to it."""
    address = email_key(text)
    local, at, domain = address.rpartition("@")
    if not at:
        return Wording("“%(short)s” has no @", short=_short(text))
    if not local or not domain:
        return Wording("“%(short)s” is not a complete address", short=_short(text))
    if "@" in local and not local.startswith('"'):
        return Wording("“%(short)s” has more than one @", short=_short(text))
    problem = _domain_problem(domain)
    if problem:
        return problem
    if len(local.encode()) > 64:
        return Wording(
            "“%(short)s” is not an address: its first part is longer than 64 characters",
            short=_short(text),
        )
    if _PLAIN_LOCAL.match(local):
        return None
    try:
        email_validator.validate_email(
            address, check_deliverability=False, globally_deliverable=False
        )
    except email_validator.EmailNotValidError:
        return Wording("“%(short)s” is not an address", short=_short(text))
    return None


#: Numbers that are set aside for stories and examples (Ofcom: numbers for drama; NANP: 555-0100 to
#: 0199): nobody has them, and
#: whoever tries something out writes them.
_SET_ASIDE = re.compile(
    r"\+44(?:7700900\d{3}|1632960\d{3}|20794609?\d{2,3}|1[1-9]\d4960\d{3}|3069990\d{3}|8081570\d{3})|\+1\d{3}55501\d\d"
)


def is_number_of(parsed: phonenumbers.PhoneNumber, region: str) -> bool:
    """Whether a number can be one of a country."""
    if phonenumbers.is_valid_number_for_region(parsed, region):
        return True
    written = phonenumbers.format_number(parsed, phonenumbers.PhoneNumberFormat.E164)
    return (
        parsed.country_code == phonenumbers.country_code_for_region(region)
        and _SET_ASIDE.fullmatch(written) is not None
    )


def phone(text: str, region: str = "") -> str:
    """A phone number in international form. One that does not name its country is read as one of
    `region` (ISO 3166-1), of which it must be a number that can be dialled; without a region it is
    refused, rather than guessed at. Raises ValueProblem."""
    bare = re.sub(r"^\s*00(?=[1-9])", "+", text)
    if not bare.lstrip(" (").startswith("+") and not region:
        raise ValueProblem(
            Wording("“%(short)s” does not say its country; begin it like +44", short=_short(text))
        )
    try:
        parsed = phonenumbers.parse(bare, region or None)
    except phonenumbers.NumberParseException:
        raise ValueProblem(
            Wording("“%(short)s” is not a phone number", short=_short(text))
        ) from None
    if not phonenumbers.is_possible_number(parsed):
        raise ValueProblem(Wording("“%(short)s” is not a phone number", short=_short(text)))
    if not bare.lstrip(" (").startswith("+") and not is_number_of(parsed, region):
        raise ValueProblem(
            Wording(
                "“%(short)s” is not a number of %(region)s; begin it with its country, like +44",
                short=_short(text),
                region=region,
            )
        )
    return str(phonenumbers.format_number(parsed, phonenumbers.PhoneNumberFormat.INTERNATIONAL))


@functools.lru_cache(maxsize=2_000)
def timezone(text: str) -> str:
    try:
        return zoneinfo.ZoneInfo(text.strip()).key
    except (zoneinfo.ZoneInfoNotFoundError, ValueError, OSError):
        raise ValueProblem(
            Wording("“%(short)s” is not a time zone like Europe/London", short=_short(text))
        ) from None


def is_whole(text: str) -> bool:
    """Whether a text is a whole number, 0 or more, in plain digits that the database can hold: “²”
    and “٣” are digits, too, and no such number."""
    return text.isascii() and text.isdigit() and len(text) <= 18
