"""What the page of a segment, or of a grouping's group, shows of a definition."""

from typing import Any

from meadowrun.core.audience import definition as d
from meadowrun.core.audience import english
from meadowrun.core.audience.dates import shaded
from meadowrun.core.channels import CHANNEL_WORDS
from meadowrun.core.guardrails.outcomes import lack_words
from meadowrun.people.asked import moment, words
from meadowrun.segments import insight, queries
from meadowrun.segments.looking import look
from meadowrun.segments.models import Segment
from meadowrun.segments.sets import STALE
from meadowrun.shell.request import db, today, uses_of


def looked_at(
    data: dict[str, Any], segment: Segment | None = None, exact: bool = False
) -> dict[str, Any]:
    """Everything the page shows of a definition; a broken one is shown with what is wrong and
    without numbers.

    Unless it is to be exact, a large world is shown as it was some minutes ago, or as a sample says
    it: raises NoEstimate.
    """
    shown: dict[str, Any] = {
        "data": data,
        "problem": None,
        "looked": None,
        "english": english,
        "words": words(),
        "channel_words": CHANNEL_WORDS,
        "lack_words": lack_words,
        "today": today(),
        "shaded": shaded,
        "alike": [],
        "growth": [],
        "sample": [],
        "definition": None,
        "uses": uses_of("segment", segment.id) if segment else [],
        "users": queries.users(db(), segment.id) if segment else [],
    }
    try:
        definition = d.parse(data, words(), (segment.id,) if segment else ())
    except d.DefinitionError as problem:
        return shown | {"problem": problem}
    looked = look(moment(), definition, None if exact else STALE, estimate=not exact)
    sample = queries.members(db(), looked.sieve.members, 4)
    members = looked.sieve.members
    return shown | {
        "definition": definition,
        "looked": looked,
        "sample": sample,
        "aloud": english.read_aloud(definition, words(), today()),
        "alike": insight.alike(db(), members, segment.id if segment else None)
        if definition.lines and not looked.sample
        else [],
        "growth": insight.growth(db(), segment.id, today()) if segment else [],
    }


def users(ident: int) -> list[str]:
    """What is made of a segment, in words."""
    return [
        *(f"the {use.what} “{use.name}”" for use in uses_of("segment", ident)),
        *queries.users(db(), ident),
    ]
