"""What follows from a document, for the right column of its editor: checks, weight, who reads which
variant or a fallback, and what the lines are drawn with."""

import json
import re
from collections.abc import Sequence
from typing import Any

from pyroaring import BitMap

from meadowrun.core.channels import USUAL, checks_of
from meadowrun.core.content import document as doc
from meadowrun.core.content import in_app
from meadowrun.core.content.checks import PHONES, shown_length
from meadowrun.core.content.compiled import Compiled, CompileError, placed
from meadowrun.core.content.findings import About, Check
from meadowrun.core.content.lines import ICONS, MADE_UP, SPLITS, walk
from meadowrun.messages import asking, compiling, editable, queries, readership, reading
from meadowrun.messages.gaps import Gap, counted, gaps_of
from meadowrun.messages.models import Message
from meadowrun.people.asked import moment, words
from meadowrun.people.queries import file_weights
from meadowrun.shell.request import db, settings, today

#: Files of the store, wherever a message names them.
_STORED = re.compile(r"/f/[A-Za-z0-9_-]+")


def shown(document: doc.Json, message: Message | None = None) -> dict[str, Any]:
    """The parts of the page that follow from a document: checks, weight, who reads which version or
    a fallback."""
    facts = reading.facts(db(), message.id) if message else None
    shared = queries.shared_of(db(), document)
    compiled, trouble = _compiled(document)
    total = readership.everyone(db())
    among, whose = _among(message)
    gaps = gaps_of(moment(), document, doc.texts(document), among) if compiled else []
    known = queries.known(db(), words())
    fallbacks = [
        (known.get(gap.ref, gap.ref), gap.blank, gap.readers, gap.fallback)
        for gap in gaps
        if gap.fallback is not None
    ]
    return {
        "document": document,
        "labels": labels_of(document),
        "checks": _found(document, message, compiled, gaps),
        "weight": len(compiled.html) if compiled else 0,
        "trouble": trouble,
        "fallbacks": list(dict.fromkeys(fallbacks)),
        "total": total,
        "editable": editable,
        "facts": facts,
        "plain_made": not document.get("plain"),
        "in_app": document.get("in_app"),
        "acts": in_app.ACTS,
        "shapes": in_app.SHAPES,
        "events": words().events,
        "lengths": [(name, shown_length(document[name]), most) for name, most in PHONES.items()],
        "readers": _who_reads(document, placed(document, shared), among),
        "among": len(among) if among is not None else total,
        "whose": whose,
        "shared": {part.id: part for part in queries.shared_parts(db())},
        "condition": condition_english,
        "groupings": words().named.get("grouping", {}),
        "line_types": doc.LINE_TYPES,
        "splits": SPLITS,
        "feeds": queries.feeds(db()),
        "fonts": doc.FONTS,
        "design": doc.DESIGN,
        "icons": {
            key: name for key, name in ICONS.items() if settings().demo or key not in MADE_UP
        },
        "comments": queries.comments(db(), message.id) if message else [],
    }


def _compiled(document: doc.Json) -> tuple[Compiled | None, str]:
    """A document as templates; None, and why, where it cannot be laid out."""
    try:
        return compiling.compiled(db(), document, settings().public_url), ""
    except CompileError as problem:
        return None, str(problem)


def _among(message: Message | None) -> tuple[BitMap | None, str]:
    """The people that a message is for so far, None for everyone, and who they are in words."""
    if message is None:
        return None, "everyone"
    return reading.audience_of(moment(), message.id)


def _found(
    document: doc.Json, message: Message | None, compiled: Compiled | None, gaps: Sequence[Gap]
) -> list[Check]:
    """What is wrong with a document, the gravest first."""
    facts = reading.facts(db(), message.id) if message else None
    stored = sorted({m.group() for m in _STORED.finditer(json.dumps(document))})
    weights = file_weights(db(), stored)
    about = About(
        known=queries.known(db(), words()),
        facts=None if facts is None else list(facts),
        blanks=counted(gaps),
        html_bytes=len(compiled.html) if compiled else 0,
        feeds=[f.key for f in queries.feeds(db())],
        dated=readership.dated(db(), compiled.refs if compiled else ()),
        broken=queries.broken(db(), document, words()),
        shared=queries.shared_of(db(), document).keys(),
        hours=reading.hours(db(), message.id) if message else None,
        events=words().events.keys(),
        weights=weights,
        stored=weights.keys(),
        today=today(),
        postal_address=settings().postal_address if message else "",
    )
    found = checks_of(message.channel if message else USUAL, document, about)
    if message is not None:
        return found
    # A shared part has no head of its own, and its message's footer counts.
    return [c for c in found if c.slot not in ("subject", "preheader", "add", "looks", "")]


def _who_reads(
    document: doc.Json, lines: Sequence[doc.Json], among: BitMap | None
) -> list[reading.Readers]:
    """Who reads which variant, in the order in which they are written."""
    order = {line["id"]: n for n, line in enumerate(walk(lines))}
    of_lines, _ = reading.who_reads(moment(), document, among)
    of_words = reading.who_reads_words(moment(), document, among)
    return sorted(of_lines + of_words, key=lambda r: order.get(r.line, -1))


def labels_of(document: doc.Json) -> dict[str, str]:
    """What the names in a document's texts are called: fields, and the conditions of words as
    sentences."""
    lines = placed(document, queries.shared_of(db(), document))
    said = {
        f"when.{key}": condition_english({"lines": asked}, 0)
        for key, asked in asking.of_document(db(), document, lines).items()
    }
    return queries.known(db(), words()) | said


def condition_english(case: doc.Json, grouping: int) -> str:
    """Who reads a version, in words."""
    return reading.whose(case, grouping, words(), today())
