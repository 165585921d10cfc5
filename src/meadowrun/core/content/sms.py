"""Text messages: which alphabet they need, how many parts they are sent in, and what is wrong with
one."""

import dataclasses
import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from meadowrun.core import wording
from meadowrun.core.content import fillins
from meadowrun.core.content.addresses import addresses
from meadowrun.core.content.checks import checks_of_words, sorted_checks
from meadowrun.core.content.drawn import drawn
from meadowrun.core.content.findings import COULD, MUST, SHOULD, About, Check
from meadowrun.core.language import Wording

#: The basic alphabet of GSM 03.38 (3GPP TS 23.038, 6.2.1); each takes seven bits.
GSM_7 = frozenset(
    "@£$¥èéùìòÇ\nØø\rÅåΔ_ΦΓΛΩΠΨΣΘΞÆæßÉ "
    "!\"#¤%&'()*+,-./0123456789:;<=>?¡ABCDEFGHIJKLMNOPQRSTUVWXYZÄÖÑÜ§¿"
    "abcdefghijklmnopqrstuvwxyzäöñüà"
)
#: The extension (6.2.1.1): each takes two places.
GSM_7_EXTENDED = frozenset("\f^{}\\[~]|€")
#: What writing programs put in, and what the basic alphabet has for it.
PLAIN = {
    "’": "'",
    "‘": "'",
    "“": '"',
    "”": '"',
    "–": "-",
    "—": "-",
    "…": "...",
    "\u00a0": " ",
    "•": "-",
}
#: Characters of a short link of ours after the address of the installation: /s/, a code of eight,
#: and the link's sign.
SHORT_LINK = 12
MOST_PARTS = 8
#: what somebody answers to get no more
STOP_WORD = "STOP"


@dataclasses.dataclass(frozen=True, slots=True)
class Size:
    """`alphabet` is GSM-7 or UCS-2; `units` are septets or 16-bit units, of which the last part
    leaves `left` free."""

    alphabet: str
    units: int
    parts: int
    left: int
    #: characters that force the wide alphabet
    wide: tuple[str, ...] = ()


def size(text: str) -> Size:
    """How a text is sent: 160 septets or 70 units alone, 153 or 67 a part when there are several
    (3GPP TS 23.040, 9.2.3.24.1).

    A character of two septets, or a pair of surrogates, is never cut in two by the end of a part.
    """
    wide = tuple(dict.fromkeys(c for c in text if c not in GSM_7 and c not in GSM_7_EXTENDED))
    if wide:
        widths, alone, several, alphabet = (
            [2 if ord(c) > 0xFFFF else 1 for c in text],
            70,
            67,
            "UCS-2",
        )
    else:
        widths, alone, several, alphabet = (
            [2 if c in GSM_7_EXTENDED else 1 for c in text],
            160,
            153,
            "GSM-7",
        )
    units = sum(widths)
    if units <= alone:
        return Size(alphabet, units, 1, alone - units, wide)
    parts, used = 1, 0
    for width in widths:
        if used + width > several:
            parts, used = parts + 1, 0
        used += width
    return Size(alphabet, units, parts, several - used, wide)


def plainer(text: str) -> str:
    """The text with typographic signs as the basic alphabet has them; fill-ins are left alone."""
    return "".join(
        p if fillins.PART.fullmatch(p) else "".join(PLAIN.get(c, c) for c in p)
        for p in re.split(f"({fillins.PART.pattern})", text, flags=re.DOTALL)
        if p
    )


def longest(text: str, values: Mapping[str, Sequence[str]], public_url: str) -> str:
    """The text in the form that takes the most parts: every fill-in as one of the values it really
    has, links as our short ones, the longest branch taken.

    `values` are, by ref, the longest value among the people it goes to and the longest that needs
    the wide alphabet: one such letter makes every part of the text hold less, whatever stands in it
    otherwise.
    """
    made, place = [], 0
    for found in addresses(text):
        made += [text[place : found.start], "x" * (len(public_url) + SHORT_LINK)]
        place = found.end
    whole = "".join([*made, text[place:]])
    return max((drawn(whole, values, _weight, needs) for needs in (None, _needs_wide)), key=_weight)


def _weight(text: str) -> tuple[int, int]:
    made = size(text)
    return made.parts, made.units


def _needs_wide(text: str) -> bool:
    return bool(size(text).wide)


def sms_checks(
    document: Mapping[str, Any], about: About, longest_text: str, stop_word: str = STOP_WORD
) -> list[Check]:
    """What is wrong with a text message, the gravest first."""
    text = str(document.get("plain") or "")
    made = size(longest_text)
    found = [
        *_says_something(text, stop_word),
        *_length(made),
        *_alphabet(made),
        *_stop_and_links(text, stop_word),
    ]
    return sorted_checks(
        [
            *(Check(level, words, slot="plain") for level, words in found),
            *checks_of_words(text, document["settings"], about),
        ]
    )


def _says_something(text: str, stop_word: str) -> Iterator[tuple[str, str]]:
    """The level and the words of what is found; so do those below."""
    only_who_and_stop = rf"([^:\n{{}},.!?]{{1,40}}:)?\s*({re.escape(stop_word)} ends these\.?)?"
    if not text.strip():
        yield MUST, Wording("The text is empty.")
    elif re.fullmatch(only_who_and_stop, text.strip(), re.IGNORECASE):
        yield SHOULD, Wording("It says nothing yet but who it is from and how to stop.")


def _length(made: Size) -> Iterator[tuple[str, str]]:
    takes = Wording("For the longest values it takes %(parts)s parts", parts=made.parts)
    if made.parts > MOST_PARTS:
        yield (
            MUST,
            Wording(
                "%(takes)s; %(most_parts)s are the most that phones put together.",
                takes=takes,
                most_parts=MOST_PARTS,
            ),
        )
    elif made.parts > 2:
        yield COULD, Wording("%(takes)s, each of which is paid for.", takes=takes)


def _alphabet(made: Size) -> Iterator[tuple[str, str]]:
    if made.wide and all(c in PLAIN for c in made.wide):
        yield (
            SHOULD,
            Wording(
                "%(wide)s make each part hold 67 characters instead of 153. Plain characters "
                "would do.",
                wide=" ".join(made.wide),
            ),
        )
    elif made.wide:
        yield (
            COULD,
            Wording(
                "%(wide)s %(value)s Unicode: 67 characters a part instead of 153.",
                wide=" ".join(made.wide[:6]),
                value="needs" if len(made.wide) == 1 else "need",
            ),
        )


def _stop_and_links(text: str, stop_word: str) -> Iterator[tuple[str, str]]:
    if stop_word.lower() not in text.lower():
        yield (
            SHOULD,
            Wording("It does not say how to stop: “%(stop_word)s ends this”.", stop_word=stop_word),
        )
    if re.search(r"https?://(?!127\.0\.0\.1|localhost)[^\s/]{1,7}/", text):
        yield (
            COULD,
            Wording(
                "A link shortened elsewhere is neither tracked nor trusted; the full address is "
                "shortened here."
            ),
        )


def cost_words(parts: int, people: int, price: float, sign: str) -> str:
    """What a send would cost at most, in words."""
    return Wording(
        "%(people)s people × %(parts)s × %(sign)s%(price)s = %(sign)s%(value)s at most",
        people=wording.number(people),
        parts=wording.count_of(parts, "part"),
        sign=sign,
        price=wording.decimal(price, 3),
        value=wording.decimal(people * parts * price, 2),
    )
