"""A closer look at a message: what is small, pale, disguised, out of date or left over from
writing."""

import datetime as dt
import re
from collections.abc import Iterator, Sequence
from urllib.parse import urlsplit

from meadowrun.core.content import fillins
from meadowrun.core.content.colour import contrast
from meadowrun.core.content.findings import About, Check, could, must, should
from meadowrun.core.content.lines import Json, walk
from meadowrun.core.content.markup import Element, elements
from meadowrun.core.content.plain import html_text
from meadowrun.core.language import Wording
from meadowrun.core.wording import MONTH_NAMES, decimal

#: Pixels under which text is hard to read on phones.
SMALL = 12
_READABLE = 4.5
#: Words that a message with pictures should say at least, so that it can be read before these are
#: loaded.
_FEW_WORDS = 20
_NAMED_COLOURS = {
    "white": "#ffffff",
    "black": "#000000",
    "red": "#ff0000",
    "green": "#008000",
    "blue": "#0000ff",
    "yellow": "#ffff00",
    "gray": "#808080",
    "grey": "#808080",
    "silver": "#c0c0c0",
    "lightgray": "#d3d3d3",
    "lightgrey": "#d3d3d3",
    "orange": "#ffa500",
}
_MONTH = "|".join(f"{m[:3]}(?:{m[3:]})?" for m in MONTH_NAMES)
_WEEKDAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
_WEEKDAY = rf"(?P<weekday>{'|'.join(f'{d[:3]}(?:{d[3:]})?' for d in _WEEKDAYS)})[.,]?\s+"
#: 27 November 2026, November 27, 2026, 2026-11-27, 27.11.2026 and 27/11/2026, with or without a
#: weekday before them.
_DATES = (
    re.compile(
        (
            rf"\b(?:{_WEEKDAY})?(?:the )?(?P<day>\d{{1,2}})(?:st|nd|rd|th)?(?: "
            rf"of)?\s+(?P<month>{_MONTH})\.?,?\s+(?P<year>20\d\d)\b"
        ),
        re.IGNORECASE,
    ),
    re.compile(
        rf"\b(?:{_WEEKDAY})?(?P<month>{_MONTH})\.?\s+(?P<day>\d{{1,2}})(?:st|nd|rd|th)?,?\s+(?P<year>20\d\d)\b",
        re.IGNORECASE,
    ),
    re.compile(r"\b(?P<year>20\d\d)-(?P<month>\d\d)-(?P<day>\d\d)\b"),
    re.compile(r"\b(?P<day>\d{1,2})[./](?P<month>\d{1,2})[./](?P<year>20\d\d)\b"),
)
_LEFT_OVER = re.compile(
    r"lorem ipsum|\bTODO\b|\bTBC\b|\bTBD\b|\bFIXME\b|\bXXX+\b"
    r"|\[(?:first ?name|name|date|link|venue|insert[^\]]*|your [^\]]*|placeholder)\]"
    r"|%%\w+%%|<<\w+>>|\[\[\w+\]\]|\bclick here to edit\b|\bplaceholder\b",
    re.IGNORECASE,
)
_TWICE = re.compile(r"\b(the|a|an|and|to|of|in|is|for|we|you|at|on|with)\s+\1\b", re.IGNORECASE)
_PRETENDS = re.compile(r"\s*(?:re|fw|fwd|aw|wg|sv|antw)\s*:", re.IGNORECASE)
_SEEN_HOST = re.compile(r"\b(?:https?://)?((?:[a-z0-9-]+\.)+[a-z]{2,})(?:[/?#]\S*)?", re.IGNORECASE)


def close_look(document: Json, lines: Sequence[Json], about: About) -> Iterator[Check]:
    """Findings in the words, the links and the looks of a message, wherever they stand."""
    yield from _subject(document)
    for ident, slot, source, ground in _sources(document, lines):
        found = elements(source)
        yield from _links(found, ident, slot)
        yield from _pictures(found, ident, slot, about)
        yield from _looks(found, ident, slot, ground)
        yield from _words(html_text(source), ident, slot, about)
    for line in walk(lines):
        yield from _line(line, about)
    if document.get("text_only") and document.get("plain"):
        yield from _words(str(document["plain"]), "", "plain", about)
        yield from _insecure(re.findall(r"http://[^\s<>\"]+", str(document["plain"])), "", "plain")
    yield from _whole(document, lines, about)


def _sources(document: Json, lines: Sequence[Json]) -> Iterator[tuple[str, str, str, str]]:
    """Every piece of HTML: line, slot, the HTML, and the colour behind it."""
    sheet = str(document["settings"]["sheet"])
    if document.get("code"):
        yield "", "code", str(document["code"]), "#ffffff"
    for line in walk(lines):
        for slot in ("html", "code"):
            if isinstance(line.get(slot), str) and line[slot]:
                yield line["id"], slot, line[slot], sheet


def _subject(document: Json) -> Iterator[Check]:
    subject = fillins.PART.sub("", document["subject"])
    letters = [c for c in subject if c.isalpha()]
    if _PRETENDS.match(subject):
        yield should(
            "The subject pretends to be a reply or a forwarded email. Remove the “Re:” or “Fwd:”.",
            "",
            "subject",
        )
    if len(letters) >= 8 and sum(c.isupper() for c in letters) / len(letters) > 0.7:
        yield should(
            "The subject is written in capitals, which reads as shouting and is filtered.",
            "",
            "subject",
        )
    if re.search(r"[!?]{2,}|[$£€]{2,}", subject) or subject.count("!") > 1:
        yield should(
            "The subject has several exclamation or question marks; one is the most.", "", "subject"
        )
    if (
        document["subject"]
        and document["subject"].strip().lower() == document["preheader"].strip().lower()
    ):
        yield should(
            "The preheader repeats the subject; say something more there.", "", "preheader"
        )
    yield from _left_over(subject, "", "subject")
    yield from _left_over(document["preheader"], "", "preheader")


def _left_over(text: str, ident: str, slot: str) -> Iterator[Check]:
    if found := _LEFT_OVER.search(text):
        yield should(
            "“%(found)s” seems to be left over from writing.", ident, slot, found=found.group()
        )


def _words(text: str, ident: str, slot: str, about: About) -> Iterator[Check]:
    bare = fillins.PART.sub(" ", text)
    yield from _left_over(bare, ident, slot)
    if found := _TWICE.search(bare):
        yield could(
            "“%(words)s”: the same word twice.", ident, slot, words=" ".join(found.group().split())
        )
    if about.today is not None:
        yield from _dates(bare, ident, slot, about.today)


def _dates(text: str, ident: str, slot: str, today: dt.date) -> Iterator[Check]:
    """Whole dates that have passed, or that fall on another weekday than they say."""
    for pattern in _DATES:
        for match in pattern.finditer(text):
            month = match["month"]
            number = (
                int(month)
                if month.isdigit()
                else next(
                    i for i, m in enumerate(MONTH_NAMES, 1) if m.startswith(month[:3].lower())
                )
            )
            try:
                day = dt.date(int(match["year"]), number, int(match["day"]))
            except ValueError:
                yield should(
                    "“%(found)s” is not a date that exists.", ident, slot, found=match.group()
                )
                continue
            said = match.groupdict().get("weekday")
            if said and not _WEEKDAYS[day.weekday()].startswith(said[:3].lower()):
                yield should(
                    "“%(found)s” is a %(weekday)s.",
                    ident,
                    slot,
                    found=match.group(),
                    weekday=_WEEKDAYS[day.weekday()].capitalize(),
                )
            elif day < today:
                yield should("“%(found)s” has passed.", ident, slot, found=match.group().strip())


def _links(found: Sequence[Element], ident: str, slot: str) -> Iterator[Check]:
    links = [e for e in found if e.tag == "a" and "href" in e.attributes]
    for lost in found:
        # What browsers cannot follow was taken out of it when it was imported.
        if lost.tag == "a" and not lost.attributes.keys() & {"href", "name", "id"} and lost.words:
            yield should(
                "“%(words)s” is written as a link but has no address that can be followed.",
                ident,
                slot,
                words=lost.words[:40],
            )
    yield from _insecure([e.attributes["href"] for e in links], ident, slot)
    for link in links:
        href = link.attributes["href"].strip()
        if href in ("#", ""):
            yield should(
                "The link “%(words)s” leads nowhere.",
                ident,
                slot,
                words=link.words[:40] or "without words",
            )
        seen, host = (
            _SEEN_HOST.fullmatch(link.words.strip().rstrip(".,")),
            urlsplit(fillins.PART.sub("x", href)).hostname or "",
        )
        if (
            seen
            and host
            and "@" not in link.words
            and not _same_site(seen.group(1).lower(), host.lower())
        ):
            yield should(
                "A link says %(says)s and leads to %(host)s. Filters and people take that for "
                "a trick.",
                ident,
                slot,
                says=seen.group(1),
                host=host,
            )
        pictured = any(
            e.tag == "img"
            and any(outer.attributes.get("href") == link.attributes["href"] for outer in e.inside)
            for e in found
        )
        if not link.words and not pictured and not fillins.PART.search(href):
            yield should(
                "A link to %(href)s has no words, so nobody can follow it.",
                ident,
                slot,
                href=href[:60],
            )


def _same_site(one: str, other: str) -> bool:
    one, other = one.removeprefix("www."), other.removeprefix("www.")
    return one == other or one.endswith(f".{other}") or other.endswith(f".{one}")


def _insecure(hrefs: Sequence[str], ident: str, slot: str) -> Iterator[Check]:
    """Addresses that are not encrypted, or that only one's own network reaches; 127.0.0.1 is for
    trying things out."""
    for href in hrefs:
        host = (urlsplit(fillins.PART.sub("x", href.strip())).hostname or "").lower()
        if host == "localhost" or host.endswith((".localhost", ".local", ".internal", ".lan")):
            yield should(
                "%(href)s can be reached from inside your own network only.",
                ident,
                slot,
                href=href[:60],
            )
            return
        if href.strip().lower().startswith("http://") and host not in ("localhost", "127.0.0.1"):
            yield should(
                "%(href)s is not encrypted: begin it with https://, or browsers warn of it.",
                ident,
                slot,
                href=href[:60],
            )
            return


def _pictures(found: Sequence[Element], ident: str, slot: str, about: About) -> Iterator[Check]:
    pictures = [e for e in found if e.tag == "img"]
    yield from _insecure([e.attributes.get("src", "") for e in pictures], ident, slot)
    for picture in pictures:
        source, alt = picture.attributes.get("src", "").strip(), picture.attributes.get("alt")
        if not source:
            yield must("A picture in the code has no source.", ident, slot)
        elif not fillins.PART.search(source) and not re.match(
            r"https?://|/f/", source, re.IGNORECASE
        ):
            yield must(
                "The picture “%(source)s” is on your own computer, or inside an email: "
                "upload it and use its address.",
                ident,
                slot,
                source=source[:60],
            )
        elif _gone(source, about):
            yield must(
                "The picture %(source)s is not in the store any more.",
                ident,
                slot,
                source=source[:60],
            )
        if alt and re.search(
            r"\.(?:png|jpe?g|gif|webp|svg)$|^(?:image|img|picture|photo)\d*$",
            alt.strip(),
            re.IGNORECASE,
        ):
            yield could(
                "The alternative text “%(alt)s” does not say what the picture shows.",
                ident,
                slot,
                alt=alt,
            )


def _gone(source: str, about: About) -> bool:
    return (
        source.startswith("/f/")
        and about.stored is not None
        and source.split("?")[0] not in about.stored
    )


def _looks(found: Sequence[Element], ident: str, slot: str, ground: str) -> Iterator[Check]:
    pale, small, hidden = "", "", ""
    for element in found:
        if not element.words:
            continue
        style = element.style()
        size = _pixels(style.get("font-size", ""))
        if (
            size is not None
            and size < SMALL
            and size > 1
            or element.attributes.get("size") in ("1", "-2", "-3")
        ):
            small = small or element.words
        if (
            size is not None
            and size <= 1
            or style.get("visibility") == "hidden"
            or style.get("display") == "none"
            and len(element.words) > 150
        ):
            hidden = hidden or element.words
        colour = _colour(
            style.get("color", "") or element.attributes.get("color", "")
            if element.tag == "font"
            else style.get("color", "")
        )
        behind = _ground((*element.inside, element), ground)
        if colour and behind and contrast(colour, behind) < _READABLE:
            if colour == behind:
                hidden = hidden or element.words
            else:
                pale = pale or Wording(
                    "“%(words)s”: contrast %(contrast)s to 1, wanted %(readable)s",
                    words=element.words[:40],
                    contrast=decimal(contrast(colour, behind), 1),
                    readable=_READABLE,
                )
    if pale:
        yield should("Words can hardly be read. %(pale)s.", ident, slot, pale=pale)
    if small:
        yield should(
            "“%(words)s” is smaller than %(least)s pixels and hard to read on a phone.",
            ident,
            slot,
            words=small[:40],
            least=SMALL,
        )
    if hidden:
        yield should(
            "“%(words)s” cannot be seen. Spam filters distrust hidden words.",
            ident,
            slot,
            words=hidden[:40],
        )


def _pixels(size: str) -> float | None:
    found = re.fullmatch(r"([\d.]+)(px|pt|em|rem|%)?", size.strip())
    if not found or found.group(1).count(".") > 1:
        return None
    return float(found.group(1)) * {"px": 1, "pt": 4 / 3, "em": 16, "rem": 16, "%": 0.16}.get(
        found.group(2) or "px", 1
    )


def _colour(text: str) -> str | None:
    text = text.strip().lower()
    if re.fullmatch(r"#[0-9a-f]{3}", text):
        text = "#" + "".join(2 * c for c in text[1:])
    if found := re.fullmatch(r"rgb\(\s*(\d{1,3})\s*,\s*(\d{1,3})\s*,\s*(\d{1,3})\s*\)", text):
        text = "#" + "".join(f"{min(255, int(n)):02x}" for n in found.groups())
    return text if re.fullmatch(r"#[0-9a-f]{6}", text) else _NAMED_COLOURS.get(text)


def _ground(inside: Sequence[Element], ground: str) -> str | None:
    """The colour behind an element; None behind a picture."""
    for element in inside:
        style = element.style()
        if (
            "background-image" in style
            or "url(" in style.get("background", "")
            or "background" in element.attributes
        ):
            return None
        named = (
            style.get("background-color")
            or style.get("background", "").split(" ")[0]
            or element.attributes.get("bgcolor", "")
        )
        ground = _colour(named) or ground
    return ground.lower()


def _line(line: Json, about: About) -> Iterator[Check]:
    hrefs = [str(line[slot]) for slot in ("href", "link") if line.get(slot)] + [
        i["href"] for i in line.get("icons", ())
    ]
    yield from _insecure(hrefs, line["id"], "href" if line.get("href") else "link")
    if line["type"] == "picture" and line["src"]:
        yield from _insecure([line["src"]], line["id"], "src")
        if _gone(line["src"], about):
            yield must("This picture is not in the store any more.", line["id"], "src")
    for slot in ("text", "label"):
        if isinstance(line.get(slot), str):
            yield from _words(line[slot], line["id"], slot, about)
    heading = (
        [c for c in fillins.PART.sub("", line.get("text") or "") if c.isalpha()]
        if line["type"] == "heading"
        else []
    )
    if len(heading) >= 20 and all(c.isupper() for c in heading):
        yield could("A heading in capitals reads as shouting.", line["id"], "text")


def _whole(document: Json, lines: Sequence[Json], about: About) -> Iterator[Check]:
    """What only shows in the message as a whole."""
    if document.get("one_of") or any(line["type"] == "shared" for line in walk(lines)):
        return
    source = str(document["code"]) if document.get("code") else ""
    said = (
        html_text(source)
        if source
        else " ".join(
            html_text(str(line[slot])) if slot in ("html", "code") else str(line[slot])
            for line in walk(lines)
            for slot in ("text", "html", "label", "code", "by")
            if isinstance(line.get(slot), str)
        )
    )
    if document.get("text_only"):
        said = str(document.get("plain") or said)
    pictures = source.count("<img") + sum(
        line["type"] == "picture" and bool(line["src"]) for line in walk(lines)
    )
    footer = sum(
        len(html_text(line["html"]).split()) for line in walk(lines) if line["type"] == "footer"
    )
    if pictures and len(re.findall(r"\w+", fillins.PART.sub("x", said))) - footer < _FEW_WORDS:
        yield should(
            "Nearly everything is a picture: people who do not load pictures see nothing, "
            "and spam filters count it. Say in words what the pictures show."
        )
    if about.postal_address and not _holds(said, about.postal_address):
        yield should(
            "Your postal address is missing; many countries require it.",
            "",
            "code" if source else "add",
        )
    if source:
        way_out = [
            e
            for e in elements(source)
            if e.tag == "a" and "unsubscribe" in fillins.refs(e.attributes.get("href", ""))
        ]
        if "unsubscribe" in fillins.refs(source) and not way_out:
            yield must(
                "{{ unsubscribe }} is in the code, but not in a link that can be followed.",
                "",
                "code",
            )
        if any(
            e.style().get("display") == "none" for link in way_out for e in (*link.inside, link)
        ):
            yield must("The link to unsubscribe cannot be seen.", "", "code")


def _holds(text: str, address: str) -> bool:
    """Whether a text holds an address, however its lines are broken: most of its words."""
    words = re.findall(r"\w+", address.casefold())
    there = set(re.findall(r"\w+", text.casefold()))
    return not words or sum(word in there for word in words) / len(words) >= 0.7
