"""What a few typed words may mean as a line about a field: “renewal date in March”, “Patron or
Single”, “older than 60”."""

import datetime as dt
import re
from typing import Any

from meadowrun.core.audience.alike import alike, likeness, stem, tokens
from meadowrun.core.audience.fields import Dictionary, FieldSpec
from meadowrun.core.audience.said import Said
from meadowrun.core.wording import fold

Json = dict[str, Any]
Scored = tuple[float, Json]
#: Fields whose day comes round every year; days that are rather still to come.
_YEARLY = re.compile(r"birth|anniversar|name day|turn|come.? round|every year")
_AHEAD = re.compile(r"renew|due|end|expir|next|until|valid|deadline")
_NEAR = re.compile(r"\b(?:this|next|last) (?:month|week|weekend)\b|tomorrow|yesterday")
#: what a comparison of numbers becomes under a “not”
OTHERWISE = {
    "is": "is_not",
    "more_than": "at_most",
    "at_least": "less_than",
    "less_than": "at_least",
    "at_most": "more_than",
}
_NOTHING = ("blank", "empty", "missing", "unknown")
#: languages by their names, as two letters (ISO 639-1)
LANGUAGES = {
    "english": "en",
    "german": "de",
    "french": "fr",
    "spanish": "es",
    "italian": "it",
    "portuguese": "pt",
    "dutch": "nl",
    "polish": "pl",
    "turkish": "tr",
    "welsh": "cy",
    "ukrainian": "uk",
    "greek": "el",
    "arabic": "ar",
    "hindi": "hi",
    "swedish": "sv",
    "danish": "da",
}
_PARTED = re.compile(r"\s*(?:,| or | and )\s*")


def field_lines(said: Said, words: Dictionary, text: str, today: dt.date) -> list[Scored]:
    """Lines about fields that what was said may mean, each with how likely it is."""
    found: list[Scored] = []
    for spec in words.fields.values():
        if not spec.retired:
            found += _choices(said, spec)
            score, after = _names(said, spec, text)
            if score >= 0.4:
                # Half of a name among other words does not ask whether the field is filled.
                found += [
                    (score - 0.05 * place, line)
                    for place, line in enumerate(_lines(said, spec, after, text))
                    if score >= 0.5 or line["op"] != "not_blank"
                ]
            if spec.is_day and _YEARLY.search(fold(spec.label)):
                found += _aged(said, spec, today)
    return found + _address(said) + _language(said, words) + _town(said, words, text, bool(found))


def _choices(said: Said, spec: FieldSpec) -> list[Scored]:
    """The values of a field say the field as well: “patrons”, “Student or Patron”."""
    ops = {"choice": ("is", "is_not"), "choices": ("has", "has_not")}.get(spec.type)
    if ops is None:
        return []
    place = re.sub(
        r"^(?:lives? |living |comes? |based )?(?:in |from |at )?(?:the )?", "", said.rest
    )
    # “Household or Patron members”: the field's own name may follow.
    name = tokens(spec.label)
    parts = [
        re.sub(
            r"^(?:an?|the|in|from) ",
            "",
            " ".join(w for w in part.split() if not any(alike(stem(w), t) for t in name)),
        )
        for part in _PARTED.split(place)
    ]
    several = [next((o for o in spec.options if _same_words(part, o)), None) for part in parts]
    if all(several) and len(several) > 1:
        if spec.type == "choices" and " and " in place and " or " not in place and not said.not_:
            each = [
                {"kind": "field", "field": spec.ref, "op": "has", "value": [one]} for one in several
            ]
            return [(1.0, {"kind": "group", "match": "all", "lines": each})]
        return [(1.0, {"kind": "field", "field": spec.ref, "op": ops[said.not_], "value": several})]
    found = []
    spoken = tokens(said.rest)
    for option in spec.options:
        whole = all(any(alike(t, o) for t in spoken) for o in tokens(option))
        if spoken and len(spoken) <= 3 and any(alike(t, o) for t in spoken for o in tokens(option)):
            score = 0.75 * likeness(spoken, f"{option} {spec.label}") + (0.2 if whole else 0.0)
            # Half a name is less likely than a place of that name.
            found.append(
                (
                    score if whole else min(score, 0.5),
                    {"kind": "field", "field": spec.ref, "op": ops[said.not_], "value": [option]},
                )
            )
    return found


def _same_words(said: str, option: str) -> bool:
    mine, theirs = tokens(said), tokens(option)
    return (
        bool(mine)
        and len(mine) == len(theirs)
        and all(alike(a, b) for a, b in zip(mine, theirs, strict=True))
    )


def _names(said: Said, spec: FieldSpec, text: str) -> tuple[float, str]:
    """How surely what was said names a field, and what stands after the name."""
    label = fold(spec.label.removeprefix("company’s "))
    score = likeness(tokens(said.rest), label)
    if m := re.search(rf"\b{re.escape(label)}\b", said.rest):
        return max(score, 0.9), said.rest[m.end() :].strip()
    if " " in label and label in fold(text):
        # A name of which a word was read as a time: “member since 2015”.
        score = max(score, 0.95)
    first = re.escape(label.split(" ")[0])
    if m := re.match(
        (
            rf"{first} (?=is |contains |begins |starts |ends |ending |includes "
            rf"|known|blank|empty|missing)"
        ),
        said.rest,
    ):
        return max(score, 0.8), said.rest[m.end() :].strip()
    return score, ""


def _lines(said: Said, spec: FieldSpec, after: str, text: str) -> list[Json]:
    """The lines a field's name and what stands after it may mean, the likeliest first."""
    bare = re.sub(
        r"^(is|are|equals?|=|as|number|address|on file|on record) ", "", after + " "
    ).strip(" “”\"'")
    return [
        {"kind": "field", "field": spec.ref} | said_of_it
        for said_of_it in _said_of(said, spec, after, bare, text)
    ]


def _said_of(said: Said, spec: FieldSpec, after: str, bare: str, text: str) -> list[Json]:
    """What a sentence may say of a field: operators with their values. `after` stands behind the
    field's name, `bare` is that without the verb."""
    if spec.type == "yes_no":
        return [{"op": "no" if said.not_ else "yes"}]
    if re.fullmatch(r"(is |are )?(blank|empty|missing|unknown)", after) or (
        said.not_ and not bare and not said.when.kind and not said.amount
    ):
        filled = after.endswith(_NOTHING) and said.not_
        return [{"op": "not_blank" if filled else "blank"}]
    if re.fullmatch(r"(is |are )?(known|filled|given|there|set)", after):
        return [{"op": "blank" if said.not_ else "not_blank"}]
    if spec.is_day:
        return _date_lines(said, spec) or [{"op": "not_blank"}]
    if spec.type == "number":
        if not said.amount:
            return [{"op": "not_blank"}]
        op = OTHERWISE.get(said.amount[0]) if said.not_ else said.amount[0]
        return [{"op": op, "value": said.amount[1]}] if op else []
    if not bare and spec.type == "text" and said.amount and said.amount[0] == "is":
        number = said.taken["amount"].split()[-1]
        return [{"op": "is_not" if said.not_ else "is", "value": [number]}]
    if not bare:
        return [{"op": "blank" if said.not_ else "not_blank"}]
    if re.match(r"(and|or|but|who|whose)\b", bare):
        # What follows is a sentence of its own.
        return []
    if spec.type in ("choice", "choices"):
        return [_chosen(said, spec, bare, text)]
    return _of_text(said, bare, text)


def _chosen(said: Said, spec: FieldSpec, bare: str, text: str) -> Json:
    """Which choices of a field are named; what is none of them is kept as it was typed."""
    bare = re.sub(r"^in (?=\w)", "", bare) if spec.type == "choices" else bare
    values = [v for v in _PARTED.split(bare) if v]
    known = [
        next((o for o in spec.options if fold(o) == v or alike(stem(v), stem(fold(o)))), None)
        for v in values
    ]
    ops = ("is", "is_not") if spec.type == "choice" else ("has", "has_not")
    chosen = [k for k in known if k] or [as_typed(v, text) for v in values]
    return {"op": ops[said.not_], "value": chosen}


#: A part of a text that is named by how it stands there.
_PART = re.compile(
    r"(contains?|includes?|has|begins? with|starts? with|ends? (?:with|in)|ending (?:with|in)) (.+)"
)


def _of_text(said: Said, bare: str, text: str) -> list[Json]:
    """What is said of a text: a part of it, or what it is."""
    part = _PART.match(bare)
    if part is None:
        values = [as_typed(v, text) for v in _PARTED.split(bare) if v]
        return [{"op": "is_not" if said.not_ else "is", "value": values}]
    if part[1].startswith("end"):
        op = "ends"
    elif part[1][0] in "bs":
        op = "begins"
    else:
        op = "not_contains" if said.not_ else "contains"
    if said.not_ and op in ("ends", "begins"):
        return []
    return [{"op": op, "value": as_typed(part[2].strip(" “”\"'"), text)}]


def _date_lines(said: Said, spec: FieldSpec) -> list[Json]:
    when, yearly = said.when, bool(_YEARLY.search(fold(spec.label)) or _YEARLY.search(said.rest))
    ahead = when.floating and not yearly and _AHEAD.search(f"{fold(spec.label)} {said.rest}")
    if said.not_ and when.kind:
        # Of a day there is no “not within”: both sides of it would be meant.
        return []
    if when.kind in ("next", "within"):
        near: list[Json] = [
            {"op": "in_next", "value": when.days},
            {"op": "yearly_next", "value": when.days},
        ]
        if yearly:
            near.reverse()
        return near + ([{"op": "in_last", "value": when.days}] if when.kind == "within" else [])
    if when.kind == "last" and when.days == 0:
        return (
            [{"op": "yearly_next", "value": 0}, {"op": "in_last", "value": 0}]
            if yearly
            else [{"op": "in_last", "value": 0}]
        )
    if when.kind == "last":
        return [{"op": "in_last", "value": when.days}, {"op": "yearly_last", "value": when.days}]
    if when.kind in ("ago", "ahead"):
        return [{"op": when.kind, "value": when.days}]
    if when.first and when.last and when.kind in ("between", "since"):
        first, last = when.first, when.last
        if ahead:
            first, last = _next_year(first), _next_year(last)
        exact = (
            {"op": "on", "value": first.isoformat()}
            if first == last
            else {"op": "between", "value": [first.isoformat(), last.isoformat()]}
        )
        each = {"op": "day_month", "value": [f"{when.first:%m-%d}", f"{when.last:%m-%d}"]}
        # A year that was said is meant.
        return (
            [each, exact]
            if yearly and (when.floating or _NEAR.search(when.words))
            else [exact, each]
        )
    if when.kind in ("since", "after") and when.first:
        day = (_next_year(when.first) if ahead else when.first) - dt.timedelta(
            days=when.kind == "since"
        )
        return [{"op": "after", "value": day.isoformat()}]
    if when.kind in ("before", "until") and when.last:
        day = (_next_year(when.last) if ahead else when.last) + dt.timedelta(
            days=when.kind == "until"
        )
        return [{"op": "before", "value": day.isoformat()}]
    return []


def _next_year(day: dt.date) -> dt.date:
    return day.replace(year=day.year + 1, day=28 if (day.month, day.day) == (2, 29) else day.day)


def _aged(said: Said, spec: FieldSpec, today: dt.date) -> list[Scored]:
    """“older than 60”, “aged 30 to 40”: by the day somebody was born."""
    if not said.amount or not said.aged or said.not_:
        return []
    op, value = said.amount
    base: Json = {"kind": "field", "field": spec.ref}
    if op == "between":
        # Who is 40 was born after the day 41 years ago.
        return [
            (
                1.0,
                base
                | {
                    "op": "between",
                    "value": [
                        (_years(today, int(value[1]) + 1) + dt.timedelta(days=1)).isoformat(),
                        _years(today, int(value[0])).isoformat(),
                    ],
                },
            )
        ]
    years = int(value) + (op in ("more_than", "at_most"))
    if op in ("more_than", "at_least"):
        return [
            (
                1.0,
                base
                | {
                    "op": "before",
                    "value": (_years(today, years) + dt.timedelta(days=1)).isoformat(),
                },
            )
        ]
    return (
        [(1.0, base | {"op": "after", "value": _years(today, years).isoformat()})]
        if op in ("less_than", "at_most")
        else []
    )


def _years(today: dt.date, many: int) -> dt.date:
    return today.replace(
        year=today.year - many, day=28 if (today.month, today.day) == (2, 29) else today.day
    )


def _address(said: Said) -> list[Scored]:
    """“addresses at mail.example”."""
    host = re.search(
        (
            r"\b(?:address(?:es)?|e?mails?) (?:is |are )?(?:at|from|ending (?:in|with)|ends "
            r"(?:in|with)|with) @?([\w-]+(?:\.[\w-]+)+)$"
        ),
        said.rest,
    )
    if host is None:
        return []
    return [
        (
            1.0,
            {
                "kind": "field",
                "field": "email",
                "op": "not_contains" if said.not_ else "contains",
                "value": f"@{host[1]}",
            },
        )
    ]


def _language(said: Said, words: Dictionary) -> list[Scored]:
    """“speaks German”: languages are kept by their two letters."""
    m = re.fullmatch(r"(?:speaks?|reads?|writes?|language(?: is)?|in) ([a-z]+)", said.rest)
    if m is None or m[1] not in LANGUAGES or "language" not in words.fields:
        return []
    return [
        (
            1.2,
            {
                "kind": "field",
                "field": "language",
                "op": "is_not" if said.not_ else "is",
                "value": [LANGUAGES[m[1]]],
            },
        )
    ]


def _town(said: Said, words: Dictionary, text: str, found: bool) -> list[Scored]:
    """“lives in Farrow”: a place that is no choice of a field."""
    place = re.search(
        r"\b(lives?|living|comes?|from|in|based) (?:in |from )?([a-z][a-z’' -]+)$", said.rest
    )
    if (
        place is None
        or "town" not in words.fields
        or re.match(r"(the|an?|this|that) |(list|segment|steady)\b", place[2])
    ):
        return []
    lives = place[1] in ("live", "lives", "living", "based")
    loose = (
        lives and not re.match(rf"{place[1]} (?:in|from) ", place[0]) and len(place[2].split()) > 2
    )
    if found and not lives or loose:
        return []
    return [
        (
            0.75 if lives else 0.6,
            {
                "kind": "field",
                "field": "town",
                "op": "is_not" if said.not_ else "is",
                "value": [as_typed(part, text) for part in _PARTED.split(place[2].strip())],
            },
        )
    ]


def as_typed(folded: str, text: str) -> str:
    """A value as it was typed, with its capitals."""
    at = fold(text).find(folded)
    return (
        text.strip()[at : at + len(folded)]
        if at >= 0 and len(fold(text)) == len(text.strip())
        else folded
    )
