"""What is wrong with a message, before anyone else notices."""

import dataclasses
import re
from collections.abc import Callable, Iterable, Iterator, Sequence

from meadowrun.core import wording
from meadowrun.core.content import fillins
from meadowrun.core.content.closer import close_look
from meadowrun.core.content.colour import contrast
from meadowrun.core.content.document import address_problem, texts
from meadowrun.core.content.findings import COULD, MUST, SHOULD, About, Check, could, must, should
from meadowrun.core.content.lines import LINE_TYPES, Json, live, places, walk
from meadowrun.core.content.markup import elements
from meadowrun.core.content.plain import mark_of
from meadowrun.core.language import Wording

#: Characters that phones show.
SUBJECT_ON_PHONES, PREHEADER_ON_PHONES = 45, 90
PHONES = {"subject": SUBJECT_ON_PHONES, "preheader": PREHEADER_ON_PHONES}
#: Bytes of HTML after which many mail apps cut a mail off.
CUT_OFF = 100_000
#: Bytes of one picture that load late on phones.
HEAVY = 300_000
_ORDER = {MUST: 0, SHOULD: 1, COULD: 2}
#: WCAG 2.1, 1.4.3: text against its ground
_READABLE = 4.5
#: Words of the day, and the hours in which they are true.
_GREETINGS = {
    "good morning": (0, 12),
    "good afternoon": (12, 18),
    "good evening": (17, 24),
    "tonight": (6, 24),
}


def checks(document: Json, about: About) -> list[Check]:
    """All findings, the gravest first."""
    lines = live(document["lines"]) if not document.get("code") else []
    document = document | {"lines": lines}
    found = [*_head(document), *_body(document, lines), *_looks(document["settings"], lines)]
    numbers = places(document["lines"])
    said: set[str] = set()
    for ident, slot, text in texts(document):
        for ref, fallback in _names(text):
            found += _fill_in(ref, fallback, ident, slot, about, said)
        found += list(_hours(text, ident, slot, about.hours))
    for line in walk(lines):
        name = Wording(
            "%(line_types)s in line %(id)s",
            line_types=LINE_TYPES[line["type"]][0],
            id=numbers.get(line["id"], "?"),
        )
        if line["type"] in _LINE:
            found += list(_LINE[line["type"]](line, name, about))
    found += close_look(document, lines, about)
    if about.html_bytes > CUT_OFF:
        found.append(
            should(
                "The email weighs %(weight)s kB; many mail apps cut it off at %(most)s kB, "
                "including the unsubscribe link.",
                weight=about.html_bytes // 1000,
                most=CUT_OFF // 1000,
            )
        )
    return sorted_checks(found)


def checks_of_words(text: str, settings: Json, about: About) -> list[Check]:
    """What is wrong with words alone: those of a channel that has neither subject nor lines. All
    that is found leads to the field "plain"."""
    words_alone: Json = {
        "subject": "x",
        "preheader": "x",
        "plain": text,
        "code": None,
        "text_only": True,
        "lines": [],
        "settings": settings,
    }
    found = checks(words_alone, about)
    return [dataclasses.replace(c, line="") for c in found if c.slot == "plain"]


def sorted_checks(found: Iterable[Check]) -> list[Check]:
    """Each finding once, the gravest first."""
    return sorted(dict.fromkeys(found), key=lambda c: _ORDER[c.level])


def shown_length(text: str) -> int:
    """About how many characters a text is as it is read: a fill-in counts as a short name."""
    return len(fillins.PART.sub("xxxxxx", text))


def _head(document: Json) -> Iterator[Check]:
    if not document["subject"]:
        yield must("There is no subject.", "", "subject")
    elif shown_length(document["subject"]) > SUBJECT_ON_PHONES:
        yield could(
            "Phones show about %(subject_on_phones)s characters of a subject; this one is longer.",
            "",
            "subject",
            subject_on_phones=SUBJECT_ON_PHONES,
        )
    if not document["preheader"]:
        yield should(
            "There is no preheader, so the first words of the body stand beside the subject.",
            "",
            "preheader",
        )
    elif shown_length(document["preheader"]) > PREHEADER_ON_PHONES:
        yield could(
            "Phones cut a preheader at about %(preheader_on_phones)s characters.",
            "",
            "preheader",
            preheader_on_phones=PREHEADER_ON_PHONES,
        )


def _body(document: Json, lines: Sequence[Json]) -> Iterator[Check]:
    code = document.get("code") or ""
    if code:
        if "unsubscribe" not in fillins.refs(code):
            yield must(
                "There is no unsubscribe link. Put a link to {{ unsubscribe }} into the code.",
                "",
                "code",
            )
        if re.search(r"<img(?![^>]*\balt=)", code):
            yield should("A picture in the code has no alternative text.", "", "code")
        for href in _hrefs(code):
            problem = address_problem(href)
            if problem and not href.startswith("#"):
                yield must("A link in the code %(problem)s.", "", "code", problem=problem)
    elif document.get("text_only"):
        if not document.get("plain") and not lines:
            yield must("The text is empty.", "", "plain")
    elif not any(line["type"] == "shared" for line in walk(lines)) and not any(
        _unsubscribes(line) for line in _for_all(lines)
    ):
        yield must("There is no unsubscribe link. Add a footer.", "", "add")
    if (
        document.get("plain")
        and document.get("plain_of")
        and document["plain_of"] != mark_of(document, lines)
    ):
        yield should(
            "The lines have changed since you wrote the plain text; it may say something else now.",
            "",
            "plain",
        )


def _for_all(lines: Sequence[Json]) -> Iterator[Json]:
    """The lines that everybody gets, those in columns among them."""
    for line in lines:
        yield line
        if line["type"] == "columns":
            for column in line["columns"]:
                yield from _for_all(column)


def _unsubscribes(line: Json) -> bool:
    """Whether a line has a link to unsubscribe."""
    return bool(line.get("unsubscribe")) or any(
        "unsubscribe" in fillins.refs(href)
        for href in (line.get("href", ""), *_hrefs(line.get("html", "")))
    )


def _hrefs(source: str) -> list[str]:
    """Where the links of some HTML lead."""
    return [
        e.attributes["href"] for e in elements(source) if e.tag == "a" and "href" in e.attributes
    ]


def _looks(looks: Json, lines: Sequence[Json]) -> Iterator[Check]:
    for name, ground, words in (
        ("text", "sheet", "ink"),
        (Wording("button texts"), "accent", "on_accent"),
        ("links", "sheet", "accent"),
    ):
        ratio = contrast(looks[ground], looks[words])
        if ratio < _READABLE:
            yield should(
                "The %(name)s can hardly be read: contrast %(ratio)s to 1, wanted %(readable)s.",
                "",
                "looks",
                name=name,
                ratio=wording.decimal(ratio, 1),
                readable=_READABLE,
            )
    for line in walk(lines):
        if line["type"] == "button" and (line["fill"] or line["colour"]):
            ratio = contrast(line["fill"] or looks["accent"], line["colour"] or looks["on_accent"])
        elif line.get("colour") and line["type"] in ("heading", "text"):
            ratio = contrast(looks["sheet"], line["colour"])
        else:
            continue
        if ratio < _READABLE:
            yield should(
                "%(line_types)s: the words can hardly be read, contrast %(ratio)s to 1.",
                line["id"],
                "colour",
                line_types=LINE_TYPES[line["type"]][0],
                ratio=wording.decimal(ratio, 1),
            )


def _names(text: str) -> Iterator[tuple[str, str | None]]:
    """Each name of a text with its fallback; a name asked in a condition needs none."""
    for fill in fillins.used(text):
        yield fill.ref, fill.fallback
    for ref in fillins.refs(text) - {fill.ref for fill in fillins.used(text)}:
        yield ref, ""


def _fill_in(
    ref: str, fallback: str | None, ident: str, slot: str, about: About, said: set[str]
) -> list[Check]:
    """What is wrong with one fill-in; a gap is said once for all places of a ref."""
    unknown = _unknown(ref, fallback, ident, slot, about)
    if unknown is not None:
        return unknown
    if fallback is not None or ref in said:
        return []
    found = _gap(ref, ident, slot, about)
    if found:
        said.add(ref)
    return found


def _unknown(
    ref: str, fallback: str | None, ident: str, slot: str, about: About
) -> list[Check] | None:
    """What is wrong with what a fill-in names; None where it is a field, or a column of a table,
    that exists."""
    root, _, name = ref.partition(".")
    if root == "when" and name in about.broken:
        text = "Who reads these words cannot be worked out: %(broken)s"
        return [must(text, ident, slot, broken=about.broken[name])]
    if root in (*fillins.BARE, "when", "group", "item", "sender"):
        return []
    if root == "event":
        if about.details is None or name in about.details or fallback is not None:
            return []
        if not about.details:
            return [must("No event says “%(name)s” where this is sent.", ident, slot, name=name)]
        text = "What this is sent for does not always say “%(name)s”. Add a fallback."
        return [must(text, ident, slot, name=name)]
    if root == "fact":
        if about.facts is None or name in about.facts or fallback is not None:
            return []
        return [must("The campaign has no fact “%(name)s”.", ident, slot, name=name)]
    if root == "feed":
        feed = name.split(".")[0]
        if feed in about.feeds:
            return []
        return [must("There is no feed “%(name)s”.", ident, slot, name=feed)]
    if ref not in about.known:
        what = Wording("table or column") if root == "table" else Wording("field")
        return [must("There is no %(what)s “%(name)s”.", ident, slot, what=what, name=name)]
    return None


def _gap(ref: str, ident: str, slot: str, about: About) -> list[Check]:
    """For whom a fill-in without a fallback leaves a gap."""
    root, _, name = ref.partition(".")
    table, column = name.split(".")[0], name.split(".")[-1]
    if ref in about.dated:
        return [
            should(
                "“%(column)s” from %(table)s is known for %(dated)s. On any other day people would "
                "read a gap. Add a fallback.",
                ident,
                slot,
                column=column,
                table=table,
                dated=about.dated[ref],
            )
        ]
    count, readers = about.blanks.get((ident, slot, ref), (0, 0))
    if not count:
        return []
    what = (
        Wording("%(column)s from %(table)s", column=column, table=table)
        if root == "table"
        else name.replace("_", " ")
    )
    return [
        Check(
            SHOULD,
            Wording.counted(
                "%(count)s of %(readers)s has no %(what)s and would read a gap. Add a fallback.",
                "%(count)s of %(readers)s have no %(what)s and would read a gap. Add a fallback.",
                count,
                count=wording.people(count),
                readers=wording.number(readers),
                what=what,
            ),
            ident,
            slot,
        )
    ]


def greeting_clashes(document: Json, hours: tuple[int, int]) -> list[Check]:
    """Words of the day that stand against the hours of sending, as (first, last)."""
    shown = document | {"lines": live(document["lines"])}
    return list(
        dict.fromkeys(
            c for ident, slot, text in texts(shown) for c in _hours(text, ident, slot, hours)
        )
    )


def _hours(text: str, ident: str, slot: str, hours: tuple[int, int] | None) -> Iterator[Check]:
    """Words of the day against the hours of sending."""
    if hours is None:
        return
    bare = re.sub(r"<[^>]*>|\s+", " ", text).lower()
    for words, (first, last) in _GREETINGS.items():
        if re.search(rf"\b{words}\b", bare) and not (first <= hours[0] and hours[1] <= last):
            yield should(
                "“%(capitalize)s” is used here, but it goes out between %(hours)s:00 and "
                "%(hours_2)s:00. The fill-in “greeting” always fits.",
                ident,
                slot,
                capitalize=words.capitalize(),
                hours=hours[0],
                hours_2=hours[1],
            )


def _button(line: Json, name: str, about: About) -> Iterator[Check]:
    problem = address_problem(line["href"])
    if problem:
        yield Check(MUST, f"{name} {problem}.", line["id"], "href")
    if not line["label"]:
        yield must("%(name)s has no text.", line["id"], "label", name=name)


def _picture(line: Json, name: str, about: About) -> Iterator[Check]:
    ident = line["id"]
    if not line["src"]:
        yield must("%(name)s has no picture yet.", ident, "src", name=name)
    elif not line["src"].startswith("/f/") and address_problem(line["src"]):
        yield Check(MUST, f"{name} {address_problem(line['src'])}.", ident, "src")
    else:
        if not line["alt"]:
            yield should(
                "%(name)s has no alternative text for people who do not see it.",
                ident,
                "alt",
                name=name,
            )
        if about.weights.get(line["src"], 0) > HEAVY:
            yield should(
                "%(name)s weighs %(weight)s kB and loads late on phones; %(most)s kB are plenty.",
                ident,
                "src",
                name=name,
                weight=about.weights[line["src"]] // 1000,
                most=HEAVY // 1000,
            )
    if line["link"] and address_problem(line["link"]):
        yield Check(MUST, f"{name} {address_problem(line['link'])}.", ident, "link")


def _heading(line: Json, name: str, about: About) -> Iterator[Check]:
    if not line["text"]:
        yield must("%(name)s is empty.", line["id"], "text", name=name)


def _rich(line: Json, name: str, about: About) -> Iterator[Check]:
    bare = re.sub(r"<[^>]*>", "", line["html"]).strip()
    if line["type"] != "footer" and not bare:
        yield must("%(name)s is empty.", line["id"], "html", name=name)
    for href in _hrefs(line["html"]):
        problem = address_problem(href)
        if problem:
            yield must(
                "A link in %(name)s %(problem)s.",
                line["id"],
                "html",
                name=name.lower(),
                problem=problem,
            )
    if "<a>" in line["html"]:
        yield must(
            "A link in %(name)s has no usable address.", line["id"], "html", name=name.lower()
        )


def _only(line: Json, name: str, about: About) -> Iterator[Check]:
    if not line["cases"]:
        yield must("%(name)s has no version yet.", line["id"], "cases", name=name)
    for case in line["cases"]:
        title = f"“{case['name']}”" if case["name"] else Wording("a version")
        if case["id"] in about.broken:
            yield must(
                "%(name)s: who reads %(title)s cannot be worked out: %(broken)s",
                case["id"],
                "lines",
                name=name,
                title=title,
                broken=about.broken[case["id"]],
            )
        elif not line["grouping"] and not case["lines"]:
            yield must(
                "%(name)s: nobody was chosen yet to read %(title)s.",
                case["id"],
                "lines",
                name=name,
                title=title,
            )
        if not case["content"]:
            yield could(
                "%(name)s: %(title)s is empty, so those people read nothing there.",
                case["id"],
                "content",
                name=name,
                title=title,
            )


def _feed(line: Json, name: str, about: About) -> Iterator[Check]:
    if line["feed"].split(".")[0] not in about.feeds:
        yield must("%(name)s has no feed that exists.", line["id"], "feed", name=name)
    yield from _rich(line, name, about)


def _icons(line: Json, name: str, about: About) -> Iterator[Check]:
    if not any(icon["href"] for icon in line["icons"]):
        yield must("%(name)s has no address yet.", line["id"], "icons", name=name)
    for place, icon in enumerate(line["icons"]):
        if icon["href"] and address_problem(icon["href"]):
            yield Check(
                MUST,
                f"{name}: {icon['icon']} {address_problem(icon['href'])}.",
                line["id"],
                f"icons.{place}.href",
            )


def _shared(line: Json, name: str, about: About) -> Iterator[Check]:
    if (line["part"], line["version"]) not in about.shared:
        yield must(
            "%(name)s: no shared part was chosen, or it is gone.", line["id"], "part", name=name
        )


_LINE: dict[str, Callable[[Json, str, About], Iterator[Check]]] = {
    "button": _button,
    "picture": _picture,
    "heading": _heading,
    "text": _rich,
    "footer": _rich,
    "quote": _rich,
    "only": _only,
    "feed": _feed,
    "icons": _icons,
    "shared": _shared,
}
