"""Pre-flight: one list of everything that is looked at before a message goes, each passed, failed,
or still open."""

import dataclasses
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence

from sqlalchemy import orm

from meadowrun.core import wording
from meadowrun.core.content import fillins, spam
from meadowrun.core.content.code import PHONE, width_on_phone
from meadowrun.core.content.compiled import CompileError
from meadowrun.core.content.document import Json, texts
from meadowrun.core.content.findings import MUST, SHOULD, Check
from meadowrun.core.content.rendering import NoVersion, Rendered
from meadowrun.core.language import Wording
from meadowrun.gateways.filters import Judgement
from meadowrun.messages import queries
from meadowrun.messages.models import Message, Review
from meadowrun.messages.reading import Readers

PASSED, FAILED, OPEN = "passed", "failed", "open"
#: Pixels that a page of code may take without shrinking: the widest a desk's reading pane usually
#: is.
WIDEST = 640


@dataclasses.dataclass(frozen=True, slots=True)
class Item:
    """One thing that was looked at. `someone` is a person to read the message as."""

    state: str
    what: str
    said: str
    someone: int | None = None


def read_all(
    people: Collection[int], read: Callable[[int], Rendered]
) -> dict[int, Rendered | Exception]:
    """What each of some people gets, or why nothing: `read` is asked with their numbers, 0 for
    nobody in particular."""
    made: dict[int, Rendered | Exception] = {}
    for person in people:
        try:
            made[person] = read(person)
        except (CompileError, NoVersion, KeyError, ValueError) as problem:
            made[person] = problem
    return made


def checked(found: Sequence[Check]) -> list[Item]:
    """The findings of writing, as two items."""
    must, should = ([c.text for c in found if c.level == level] for level in (MUST, SHOULD))
    return [
        Item(
            FAILED if must else PASSED, Wording("What must be fixed"), " ".join(must) or "Nothing."
        ),
        Item(
            OPEN if should else PASSED,
            Wording("What should be fixed"),
            " ".join(should) or "Nothing.",
        ),
    ]


def alternatives(
    readers: Sequence[Readers], read: Mapping[int, Rendered | Exception]
) -> list[Item]:
    """Every version of everything that only some read, read as one of those who do. `read` holds
    what each got, by person."""
    made = []
    for place in readers:
        for version in (*place.versions, place.others):
            numbered = place.place[:1].isdigit()
            where = (
                Wording("Line %(place)s", place=place.place)
                if numbered
                else place.place.capitalize()
            )
            name = f"{where}: {version.name}"
            if not version.count:
                # Nobody left over is how it should be; a version that nobody reads was written for
                # nobody.
                made.append(
                    Item(
                        PASSED if version is place.others else OPEN,
                        name,
                        Wording("Nobody reads it."),
                    )
                )
            else:
                got = read.get(version.someone or 0)
                failed = isinstance(got, Exception)
                made.append(
                    Item(
                        FAILED if failed else PASSED,
                        name,
                        wording.people(version.count)
                        + "; "
                        + (
                            Wording("it cannot be filled in: %(got)s", got=got)
                            if failed
                            else Wording("read as one of them.")
                        ),
                        version.someone,
                    )
                )
    return made


def gaps(document: Json) -> set[str]:
    """The names without a fallback that somebody reads of whom nothing is known: who matches no
    condition."""

    def others(lines: Sequence[Json]) -> list[Json]:
        made: list[Json] = []
        for line in lines:
            if line["type"] == "only":
                made += others(line["otherwise"])
            elif line["type"] == "columns":
                made.append(line | {"columns": [others(held) for held in line["columns"]]})
            else:
                made.append(line)
        return made

    def read(nodes: Sequence[fillins.Node]) -> Iterator[str]:
        for node in nodes:
            if isinstance(node, fillins.FillIn) and node.fallback is None:
                yield node.ref
            elif isinstance(node, fillins.When):
                yield from read(node.otherwise)

    return {
        ref
        for _, _, text in texts(document | {"lines": others(document["lines"])})
        for ref in read(fillins.tree(text))
    }


def default(got: Rendered | Exception, gaps: Collection[str]) -> Item:
    """The message as somebody of whom nothing is known; `gaps` are the fields that would leave
    one."""
    name = Wording("Somebody you know nothing about")
    if isinstance(got, NoVersion):
        return Item(OPEN, name, Wording("Gets nothing: %(got)s.", got=got))
    if isinstance(got, Exception):
        return Item(FAILED, name, Wording("It cannot be filled in: %(got)s", got=got))
    return Item(
        OPEN if gaps else PASSED,
        name,
        Wording("Reads a gap for %(gaps)s; add a fallback.", gaps=", ".join(sorted(gaps)))
        if gaps
        else Wording("Reads it without a gap."),
    )


def devices(html: str, code: bool) -> Item:
    """Whether it fits a phone: our lines stack by themselves, foreign code may not."""
    wide = width_on_phone(html) if code else PHONE
    if wide <= PHONE + 25:
        return Item(
            PASSED, Wording("Desktop and phone"), Wording("It fits both; columns stack on phones.")
        )
    return Item(
        FAILED if wide > WIDEST else OPEN,
        Wording("Desktop and phone"),
        Wording(
            "Something in the code is %(wide)s pixels wide and does not shrink to a "
            "phone’s %(phone)s: phones cut it off, or show it small.",
            wide=wide,
            phone=PHONE,
        ),
    )


def readers_of_mail(losses: Mapping[str, Collection[str]], known: int) -> Item:
    names = {name for those in losses.values() for name in those}
    return Item(
        OPEN if names else PASSED,
        Wording("%(known)s mail apps", known=known),
        Wording(
            "%(names)s of them change something: %(losses)s.",
            names=len(names),
            losses=", ".join(losses),
        )
        if names
        else Wording("None of them removes anything that matters."),
    )


def filters(found: Sequence[spam.Finding], judged: Judgement | None) -> list[Item]:
    """Our own rules for both kinds of mailbox, and SpamAssassin where it is installed."""
    score = spam.score(found)
    made = [
        Item(
            FAILED if points >= spam.LIMIT else PASSED,
            Wording("Filters of %(whose)s", whose=whose),
            Wording(
                "%(points)s points, the line is at %(limit)s",
                points=points,
                limit=f"{spam.LIMIT:g}",
            )
            + (f": {', '.join(f.rule for f in found[:3])}." if found else "."),
        )
        for whose, points in (("businesses", score[0]), (Wording("private mailboxes"), score[1]))
    ]
    said = (
        Wording("%(points)s of %(limit)s points.", points=judged.points, limit=judged.limit)
        if judged
        else Wording("Not installed here.")
    )
    return [
        *made,
        Item(
            OPEN if judged is None else FAILED if judged.points >= judged.limit else PASSED,
            "SpamAssassin",
            said,
        ),
    ]


def spelling(misspelt: Collection[str], avoided: Collection[str]) -> Item:
    if avoided:
        return Item(
            FAILED,
            Wording("Words"),
            Wording("Agreed not to be used: %(avoided)s.", avoided=", ".join(avoided)),
        )
    some = ", ".join(list(misspelt)[:6])
    return Item(
        OPEN if misspelt else PASSED,
        Wording("Words"),
        Wording(
            "Not in the dictionary: %(some)s%(value)s.",
            some=some,
            value=" …" if len(misspelt) > 6 else "",
        )
        if misspelt
        else Wording("Every word is known."),
    )


def proofed(session: orm.Session, message: Message) -> Item:
    """Whether proofs of this very draft went to somebody, and what became of them."""
    rows = queries.proofs(session, message)
    arrived = [proof for proof in rows if proof.outcome == "delivered"]
    if arrived:
        to = ", ".join(dict.fromkeys(proof.sent_to for proof in arrived))
        by = ", ".join(dict.fromkeys(proof.by for proof in arrived))
        return Item(
            PASSED, Wording("A proof"), Wording("%(by)s sent this draft to %(to)s.", by=by, to=to)
        )
    unheard = [proof.sent_to for proof in rows if proof.outcome == "in_hand"]
    if unheard:
        return Item(
            OPEN,
            Wording("A proof"),
            Wording(
                "It is not known whether a proof reached %(unheard)s.", unheard=", ".join(unheard)
            ),
        )
    if rows:
        said = ", ".join(f"{proof.sent_to} ({proof.note})" for proof in rows)
        return Item(
            OPEN,
            Wording("A proof"),
            Wording("No proof of this draft was accepted: %(said)s.", said=said),
        )
    return Item(OPEN, Wording("A proof"), Wording("This draft was not sent to anybody yet."))


def reviewed(session: orm.Session, message: Message, wanted: bool) -> list[Item]:
    """The review, where the house asks for one or somebody asked."""
    asked: list[Review] = queries.reviews(session, message.id)
    approved = queries.approved(session, message.id)
    if approved is not None and approved.document == message.document:
        return [
            Item(
                PASSED,
                Wording("Review"),
                Wording("%(approved_by)s approved this draft.", approved_by=approved.approved_by),
            )
        ]
    if not wanted and not asked:
        return []
    waiting = next((r for r in asked if r.state == "asked"), None)
    return [
        Item(
            OPEN if waiting or not wanted else FAILED,
            Wording("Review"),
            Wording("Asked for by %(asked_by)s, not answered yet.", asked_by=waiting.asked_by)
            if waiting
            else Wording("Nobody has approved this draft."),
        )
    ]


def counted(items: Sequence[Item]) -> dict[str, int]:
    return {state: sum(item.state == state for item in items) for state in (PASSED, FAILED, OPEN)}
