"""Reading a message as somebody, and who of an audience reads which version of it."""

import dataclasses
import datetime as dt
import json
import re
from collections.abc import Mapping, Sequence
from typing import Any

import sqlalchemy as sa
from pyroaring import BitMap
from sqlalchemy import orm

from meadowrun.base import signing
from meadowrun.base.errors import Invalid
from meadowrun.base.kept import Kept
from meadowrun.base.manifest import going
from meadowrun.base.settings import Settings
from meadowrun.core.audience import definition as d
from meadowrun.core.audience import english
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.content import fillins
from meadowrun.core.content.compiled import Compiled, CompileError, placed
from meadowrun.core.content.document import texts
from meadowrun.core.content.filling import CannotRender
from meadowrun.core.content.lines import Json, places, walk
from meadowrun.core.content.rendering import Rendered, Renderer
from meadowrun.messages import asking, compiling, queries
from meadowrun.messages.models import Message
from meadowrun.messages.values import (
    Needs,
    as_nobody,
    condition,
    fill_sql,
    group_sql,
    known_refs,
    nested,
    of_people,
)
from meadowrun.people.models import Contact
from meadowrun.people.moment import Moment
from meadowrun.segments.compile import Compiler
from meadowrun.segments.fetching import compiler_for, id_sets

_sets: Kept[list[BitMap]] = Kept()
_groups: Kept[list[tuple[dict[str, Any], int, int]]] = Kept()
#: Different values of what words ask for, above which their readers are not counted while writing.
MOST_GROUPS = 3000


@dataclasses.dataclass(frozen=True)
class Version:
    """One version of an “only if” line: how many read it, and somebody who does."""

    name: str
    count: int
    someone: int | None
    case: str


@dataclasses.dataclass(frozen=True)
class Readers:
    """Who sees what of one “only if” line. `nothing` says that everyone else reads nothing
    there."""

    line: str
    place: str
    versions: tuple[Version, ...]
    others: Version
    nothing: bool


def facts(session: orm.Session, message_id: int) -> dict[str, Any] | None:
    """The facts that are filled in where a message goes; None when it goes nowhere."""
    goes = going(session, message_id)
    return dict(goes.facts) if goes else None


def read_as(
    moment: Moment,
    message: Message,
    document: Json,
    person: Contact | None,
    public_url: str,
) -> tuple[Rendered, str]:
    """What a person would get now, and the line beside its subject. Raises CompileError,
    CannotRender."""
    compiled = compiling.compiled(moment.session, document, public_url, tracked=False)
    flat = of_people(moment, [person.id], Needs.of(compiled)).get(person.id) if person else None
    renderer, values = (
        Renderer(compiled),
        as_nobody_in(compiled, flat, facts(moment.session, message.id) or {}, moment.words),
    )
    return renderer.render(values), renderer.preheader(values)


def proof(
    moment: Moment,
    sealed: str,
    settings: Settings,
) -> tuple[Message, Rendered] | None:
    """A message and what its newest draft is for somebody, by the sealed numbers of a proof's
    address; None where we made no such. Raises Invalid."""
    message_id, person = signing.unseal(settings.secret, "proof", sealed) or (0, 0)
    message = moment.session.get(Message, message_id)
    if message is None:
        return None
    try:
        mail, _ = read_as(
            moment,
            message,
            message.document,
            moment.session.get(Contact, person),
            settings.public_url,
        )
    except (CompileError, CannotRender) as problem:
        raise Invalid(str(problem)) from None
    return message, mail


def as_nobody_in(
    compiled: Compiled, flat: dict[str, Any] | None, known: Mapping[str, Any], words: Dictionary
) -> dict[str, Any]:
    """Values for a message or for all that it chooses from."""
    made = as_nobody(compiled, flat, known, words)
    for member in compiled.members.values():
        more = as_nobody(member, flat, known, words)
        for root, values in more.items():
            if isinstance(values, dict) and isinstance(made.get(root), dict):
                made[root] = more[root] | made[root]
    return made


def hours(session: orm.Session, message_id: int) -> tuple[int, int] | None:
    """The hours in which a message will go; None where nothing is planned."""
    goes = going(session, message_id)
    return goes.hours if goes else None


def audience_of(
    moment: Moment,
    message_id: int,
) -> tuple[BitMap | None, str]:
    """The people a message goes to, and what they are called; None and “everyone” where that is not
    said."""
    goes = going(moment.session, message_id)
    try:
        who = goes.audience(moment.words, moment.now, moment.zone) if goes else None
    except Invalid:
        who = None
    if goes is None or who is None:
        return None, "everyone"
    predicate, values = who
    key = json.dumps([predicate, {k: str(v) for k, v in values.items()}], sort_keys=True)
    (people,), _ = _sets.get(
        moment.session, key, moment.now, lambda: id_sets(moment.session, [predicate], values)
    )
    return people, goes.whose


def whose(case: Json, grouping: int, words: Dictionary, today: dt.date) -> str:
    """Who reads a version, in words: a group of a grouping, or the sentences it asks."""
    if grouping:
        group = next(
            (p["name"] for p in words.grouping(grouping) or [] if p["key"] == case["group"]), None
        )
        return (
            f"group “{group}”"
            if group
            else "everyone else"
            if case["group"] == "else"
            else "no group was chosen"
        )
    try:
        definition = d.parse({"lines": case["lines"]}, words)
    except d.DefinitionError as problem:
        return f"has an error: {problem}"
    if not definition.lines:
        return "nobody was chosen yet"
    return "; ".join(
        english.text(english.sentence(line, words, today)) for line in definition.lines
    )


def who_reads(
    moment: Moment,
    document: Json,
    among: BitMap | None = None,
) -> tuple[list[Readers], int]:
    """For each “only if” line who reads which version, among some or everyone; and how many these
    are.

    Versions are asked in order; somebody who matches two reads the first. Inside another version
    only its readers count.
    """
    found, _, base = _read(moment, document, among)
    return found, base


def readers_inside(
    moment: Moment,
    document: Json,
    among: BitMap | None,
) -> dict[str, BitMap]:
    """Who reads each line that stands inside an “only if” line, by the line's id, among some or
    everyone."""
    return _read(moment, document, among)[1]


def _read(
    moment: Moment,
    document: Json,
    among: BitMap | None,
) -> tuple[list[Readers], dict[str, BitMap], int]:
    """Readers of each “only if” line, of each line inside one, and how many people there are."""
    lines = placed(document, queries.shared_of(moment.session, document))
    asked: dict[str, str] = {"": "TRUE"}
    called: dict[str, str] = {}
    compiler = compiler_for(moment)
    for line in walk(lines):
        if line["type"] == "only":
            for case in line["cases"]:
                asked[case["id"]] = (
                    f"({group_sql(line['grouping'], compiler)}) = {compiler.bind(case['group'])}"
                    if line["grouping"]
                    else condition(case["lines"], compiler)
                )
                called[case["id"]] = case["name"] or whose(
                    case, line["grouping"], moment.words, moment.now.astimezone(moment.zone).date()
                )
    if len(asked) == 1:
        return [], {}, 0
    sets = _fetched(moment.session, asked, compiler, moment.now)
    found: list[Readers] = []
    inside: dict[str, BitMap] = {}
    base = sets[""] if among is None else among
    _count(lines, base, sets, called, places(lines), found, inside)
    return found, inside, len(base)


def _fetched(
    session: orm.Session, asked: Mapping[str, str], compiler: Compiler, now: dt.datetime
) -> dict[str, BitMap]:
    """The people of each of some predicates, by its key."""
    key = json.dumps([asked, {k: str(v) for k, v in compiler.values.items()}], sort_keys=True)
    fetched, _ = _sets.get(
        session, key, now, lambda: id_sets(session, list(asked.values()), compiler.values)
    )
    return dict(zip(asked, fetched, strict=True))


def who_reads_words(
    moment: Moment,
    document: Json,
    among: BitMap | None = None,
) -> list[Readers]:
    """For words by condition inside texts who reads which, among some or everyone. What feeds and
    facts decide is not counted. People are asked by groups of equal answers, or of equal values,
    with the very tests that sending asks."""
    lines = placed(document, queries.shared_of(moment.session, document))
    asked = {
        f"when.{key}": said
        for key, said in asking.of_document(moment.session, document, lines).items()
    }
    where = places(lines) | {"": ""}
    found: list[Readers] = []
    for ident, slot, text in texts(document | {"lines": lines}):
        for node in fillins.tree(text) if "{%" in text else ():
            if not isinstance(node, fillins.When):
                continue
            groups = _groups_of(moment, node, asked, among)
            if groups is None or len(groups) > MOST_GROUPS:
                continue
            read, others = _versions(node, groups)
            place = where.get(ident) or {"plain": "text"}.get(slot, slot)
            found.append(Readers(ident, place, read, others, not node.otherwise))
    return found


def _groups_of(
    moment: Moment, node: fillins.When, asked: Mapping[str, Any], among: BitMap | None
) -> list[tuple[Any, int, int]] | None:
    """People in groups that read the same by a condition: their values, how many, and one of them.
    None where it goes by what is not counted."""
    refs = {ref for test, _ in node.branches for ref in test.refs}
    if not refs or not refs <= known_refs(moment.words).keys() | asked.keys():
        return None
    conditions = {ref.removeprefix("when."): asked[ref] for ref in sorted(refs & asked.keys())}
    if refs <= asked.keys():
        return _answers(moment, conditions, among)
    return _values_of(moment, Needs(frozenset(refs), conditions), among)


def _versions(
    node: fillins.When, groups: Sequence[tuple[Any, int, int]]
) -> tuple[tuple[Version, ...], Version]:
    """How many read each branch, and what everyone else reads."""
    last = len(node.branches)
    counts, someone = [0] * (last + 1), [0] * (last + 1)
    for flat, count, person in groups:
        values = nested(flat, {})
        chosen = next((n for n, (test, _) in enumerate(node.branches) if test.ask(values)), last)
        counts[chosen] += count
        someone[chosen] = someone[chosen] or person
    read = tuple(
        Version(_bare(body), counts[n], someone[n] or None, "")
        for n, (_, body) in enumerate(node.branches)
    )
    return read, Version("everyone else", counts[-1], someone[-1] or None, "")


def _answers(
    moment: Moment,
    conditions: Mapping[str, list[Json]],
    among: BitMap | None,
) -> list[tuple[dict[str, Any], int, int]]:
    """The different answers to some conditions, each with how many people give them and the first
    of these."""
    return [
        (flat, len(people), people.min()) for flat, people in answers(moment, conditions, among)
    ]


def answers(
    moment: Moment,
    conditions: Mapping[str, list[Json]],
    among: BitMap | None,
) -> list[tuple[dict[str, Any], BitMap]]:
    """The different answers to some conditions, as `when.<key>` → yes or no, each with the people
    who give them."""
    compiler = compiler_for(moment)
    sets = _fetched(
        moment.session,
        {"": "TRUE"} | {key: condition(lines, compiler) for key, lines in conditions.items()},
        compiler,
        moment.now,
    )
    groups: list[tuple[dict[str, Any], BitMap]] = [({}, sets[""] if among is None else among)]
    for key in conditions:
        split = [
            (flat | {f"when.{key}": yes}, people & sets[key] if yes else people - sets[key])
            for flat, people in groups
            for yes in (True, False)
        ]
        groups = [(flat, people) for flat, people in split if people]
    return groups


def _values_of(
    moment: Moment,
    needs: Needs,
    among: BitMap | None,
) -> list[tuple[dict[str, Any], int, int]]:
    """The different values of some fields, each with how many people have them and the first of
    these."""
    compiler = compiler_for(moment)
    expression = fill_sql(needs, compiler, {})
    where = "" if among is None else "WHERE c.id = ANY(:ids)"
    values = compiler.values | ({} if among is None else {"ids": list(among)})
    key = json.dumps(
        [
            expression,
            {k: str(v) for k, v in compiler.values.items()},
            None if among is None else hash(among.serialize()),
        ]
    )
    rows, _ = _groups.get(
        moment.session,
        key,
        moment.now,
        lambda: [
            tuple(row)
            for row in moment.session.execute(
                sa.text(
                    f"SELECT {expression}, count(*), min(c.id) FROM contacts c LEFT JOIN "
                    f"companies k ON k.id = c.company_id {where} "
                    f"GROUP BY 1 LIMIT {MOST_GROUPS + 1}"
                ),
                values,
            )
        ],
    )
    return rows


def _bare(nodes: Sequence[fillins.Node]) -> str:
    """Words of a branch, as its readers' name."""
    text = " ".join(
        re.sub(r"<[^>]*>", " ", "".join(n if isinstance(n, str) else "…" for n in nodes)).split()
    )
    return f"“{text if len(text) <= 40 else text[:39] + '…'}”" if text else "nothing"


def _count(
    lines: list[Json],
    among: BitMap,
    sets: Mapping[str, BitMap],
    called: Mapping[str, str],
    where: Mapping[str, str],
    found: list[Readers],
    inside: dict[str, BitMap],
) -> None:
    for line in lines:
        if line["type"] == "columns":
            for held in line["columns"]:
                _count(held, among, sets, called, where, found, inside)
        elif line["type"] == "only":
            left, versions, read = among, [], []
            for case in line["cases"]:
                readers = left & sets[case["id"]]
                left = left - readers
                versions.append(
                    Version(
                        called[case["id"]],
                        len(readers),
                        readers.min() if readers else None,
                        case["id"],
                    )
                )
                read.append((case["content"], readers))
            others = Version("everyone else", len(left), left.min() if left else None, "")
            found.append(
                Readers(
                    line["id"], where[line["id"]], tuple(versions), others, not line["otherwise"]
                )
            )
            for content, readers in [*read, (line["otherwise"], left)]:
                inside |= {held["id"]: readers for held in walk(content)}
                _count(content, readers, sets, called, where, found, inside)
