"""What is wrong with a message, before anyone else notices."""

import dataclasses
import re
from collections.abc import Collection, Mapping

from meadowrun.core import wording
from meadowrun.core.content import fillins
from meadowrun.core.content.document import LINE_TYPES, Json, address_problem, texts

MUST, SHOULD, COULD = "must", "should", "could"
SUBJECT_ON_PHONES = 45
_ORDER = {MUST: 0, SHOULD: 1, COULD: 2}


@dataclasses.dataclass(frozen=True, slots=True)
class Check:
    """A finding; `line` and `slot` say where a click on it leads."""

    level: str
    text: str
    line: str = ""
    slot: str = ""


def checks(document: Json, known: Collection[str], facts: Collection[str] | None, blanks: Mapping[str, int],
           audience: int, html_bytes: int) -> list[Check]:
    """All findings, the gravest first.

    `known` are the refs that exist (`contact.town`); `facts` those of the campaign, None when no campaign is known yet;
    `blanks` counts people of the `audience` for whom a ref is blank.
    """
    found: list[Check] = []
    if not document["subject"]:
        found.append(Check(MUST, "There is no subject.", "", "subject"))
    elif len(fillins.PART.sub("xxxxxx", document["subject"])) > SUBJECT_ON_PHONES:
        found.append(Check(COULD, f"Phones show about {SUBJECT_ON_PHONES} characters of a subject; this one is longer.",
                           "", "subject"))
    if not document["preheader"]:
        found.append(Check(SHOULD, "There is no preheader, so the first words of the body stand beside the subject.",
                           "", "preheader"))
    if not any(line["type"] == "footer" and line["unsubscribe"] for line in document["lines"]):
        found.append(Check(MUST, "There is no way to unsubscribe. Add a footer.", "", "add"))
    numbers = {line["id"]: n for n, line in enumerate(document["lines"], 1)}
    said: set[str] = set()
    for ident, slot, text in texts(document):
        for fill in fillins.used(text):
            found += _fill_in(fill, ident, slot, known, facts, blanks, audience, said)
    for line in document["lines"]:
        found += _line(line, numbers[line["id"]])
    if html_bytes > 100_000:
        found.append(Check(SHOULD, f"The mail weighs {html_bytes // 1000} kB; many mail readers cut it off at 100 kB."))
    return sorted(found, key=lambda c: _ORDER[c.level])


def _fill_in(fill: fillins.FillIn, ident: str, slot: str, known: Collection[str], facts: Collection[str] | None,
             blanks: Mapping[str, int], audience: int, said: set[str]) -> list[Check]:
    root, _, name = fill.ref.partition(".")
    if root == "fact":
        if facts is not None and name not in facts and fill.fallback is None:
            return [Check(MUST, f"The campaign has no fact “{name}”.", ident, slot)]
        return []
    if fill.ref not in known:
        return [Check(MUST, f"There is no field “{name}”.", ident, slot)]
    if fill.fallback is None and blanks.get(fill.ref) and fill.ref not in said:
        said.add(fill.ref)
        count = blanks[fill.ref]
        return [Check(SHOULD, f"{wording.people(count)} of {wording.number(audience)} "
                              f"{'has' if count == 1 else 'have'} no {name.replace('_', ' ')} and would read a gap. "
                              "Add a fallback.", ident, slot)]
    return []


def _line(line: Json, number: int) -> list[Check]:
    kind, ident = line["type"], line["id"]
    name = f"{LINE_TYPES[kind][0]} in line {number}"
    found = []
    if kind == "button":
        problem = address_problem(line["href"])
        if problem:
            found.append(Check(MUST, f"{name} {problem}.", ident, "href"))
        if not line["label"]:
            found.append(Check(MUST, f"{name} has no words on it.", ident, "label"))
    elif kind == "picture":
        if not line["src"]:
            found.append(Check(MUST, f"{name} has no picture yet.", ident, "src"))
        elif not line["src"].startswith("/f/") and address_problem(line["src"]):
            found.append(Check(MUST, f"{name} {address_problem(line['src'])}.", ident, "src"))
        elif not line["alt"]:
            found.append(Check(SHOULD, f"{name} has no alternative text for people who do not see it.", ident, "alt"))
        if line["link"] and address_problem(line["link"]):
            found.append(Check(MUST, f"{name} {address_problem(line['link'])}.", ident, "link"))
    elif kind == "heading" and not line["text"]:
        found.append(Check(MUST, f"{name} is empty.", ident, "text"))
    elif kind in ("text", "footer"):
        bare = re.sub(r"<[^>]*>", "", line["html"]).strip()
        if kind == "text" and not bare:
            found.append(Check(MUST, f"{name} is empty.", ident, "html"))
        for href in re.findall(r'<a[^>]*href="([^"]*)"', line["html"]):
            problem = address_problem(href.replace("&amp;", "&"))
            if problem:
                found.append(Check(MUST, f"A link in line {number} {problem}.", ident, "html"))
        if "<a>" in line["html"]:
            found.append(Check(MUST, f"A link in line {number} has no usable address.", ident, "html"))
    return found
