"""A look at a definition: its whole sieve, from one set of contact numbers for each line, so that
an edit costs one line.

In a large world what is not kept is estimated from a sample first, where the caller takes that, and
made exact afterwards.
"""

import contextlib
import dataclasses
import datetime as dt
import re
from collections.abc import Mapping, Sequence
from typing import Any

import sqlalchemy as sa
from pyroaring import BitMap
from sqlalchemy import orm

from meadowrun.base import own_writes
from meadowrun.base.clock import machine_now
from meadowrun.base.large import is_large
from meadowrun.core.audience import definition as d
from meadowrun.core.audience.definition import dump_node
from meadowrun.core.audience.estimate import Sample, scaled
from meadowrun.core.audience.nodes import Definition, Group, Node
from meadowrun.core.audience.sieve import Sieve, sieve
from meadowrun.people import sampling
from meadowrun.people.moment import Moment
from meadowrun.segments import sets
from meadowrun.segments.compile import COLLEAGUES, Compiler
from meadowrun.segments.facts import facts_sql
from meadowrun.segments.fetching import channels_used, compiler_for, id_sets, one_pass, outcome_sets
from meadowrun.segments.sets import KEEP as KEEP
from meadowrun.segments.sets import Kept, Wanted

#: A page that shows older numbers than this makes itself exact.
EXACT_AGAIN = dt.timedelta(minutes=2)
#: The compiler's names of values.
_NAME = re.compile(r":(v[0-9]+)\b")


class NoEstimate(Exception):
    """What is missing cannot be told from a sample: there is none, or a line asks about people of
    the same company."""


@dataclasses.dataclass(frozen=True)
class Looking:
    """What one look at a definition found; `as_of` is when the oldest set in it was fetched."""

    sieve: Sieve
    #: channel → outcome of a message there, “go” or why not → how many of them
    reach: dict[str, dict[str, int]]
    as_of: dt.datetime
    seconds: float
    #: the set of each line, by its id, and everyone
    sets: dict[str, BitMap]
    everyone: BitMap
    #: where the numbers are estimated: what they are estimated from
    sample: Sample | None = None

    @property
    def settled(self) -> bool:
        """Whether these numbers may stay as they are: exact, and of nearly now."""
        return self.sample is None and self.age < EXACT_AGAIN

    @property
    def age(self) -> dt.timedelta:
        """How old the oldest of the numbers is."""
        return machine_now() - self.as_of

    @property
    def between(self) -> tuple[int, int]:
        """The range in which the size lies, where it is estimated."""
        return (
            self.sample.between(len(self.sieve.members))
            if self.sample
            else (self.sieve.size, self.sieve.size)
        )


def look(
    moment: Moment,
    definition: Definition,
    most_old: dt.timedelta | None = None,
    estimate: bool = False,
) -> Looking:
    """The whole sieve of a definition, from kept sets; in a large world they may be as old as
    `most_old`.

    With `estimate`, what is not kept in a large world is estimated. Raises NoEstimate where that
    cannot be.
    """
    started = machine_now()
    compiler = compiler_for(moment)
    asked = _Asked(moment.session, definition, compiler, moment.now.astimezone(moment.zone).date())
    large = is_large(moment.session)
    oldest = max(
        started - (most_old if most_old and large else KEEP), own_writes.last(moment.session)
    )
    kept = sets.known(moment.session, asked.everything(), oldest, started)
    missing = [w for w in asked.everything() if w.key not in kept]
    if missing and estimate and large:
        return _estimated(moment.session, definition, asked, kept, started)
    kept |= _fetched(moment.session, asked, missing, kept, started)
    lines = {ident: kept[w.key].sets[""] for ident, w in asked.lines.items()}
    everyone = kept[asked.everyone.key].sets[""]
    found = sieve(definition, lines, everyone)
    reach = {channel: _sizes(found.members, kept[w.key].sets) for channel, w in asked.reach.items()}
    return Looking(
        found, reach, min(k.as_of for k in kept.values()), _since(started), lines, everyone
    )


class _Asked:
    """What a look at a definition needs: a set for each line, everyone, and whom each channel
    reaches."""

    def __init__(
        self, session: orm.Session, definition: Definition, compiler: Compiler, day: dt.date
    ):
        self.values = compiler.values
        self.predicates: dict[str, str] = {}
        self.everyone = self._wanted({"what": "everyone"}, day, "TRUE")
        self.lines = {
            node.id: self._line(node, day, compiler)
            for node in definition.walk()
            if not isinstance(node, Group) or node.match == "colleagues"
        }
        self.reach = {
            channel: Wanted(
                {"what": "reach", "channel": channel}, day, facts_sql(None, channel=channel)
            )
            for channel in channels_used(session)
        }

    def _line(self, node: Node, day: dt.date, compiler: Compiler) -> Wanted:
        content = dump_node(node)
        content.pop("id"), content.pop("off", None)
        return self._wanted({"what": "line", "line": content}, day, compiler.node(node))

    def _wanted(self, about: Mapping[str, object], day: dt.date, predicate: str) -> Wanted:
        wanted = Wanted(about, day, _written(predicate, self.values))
        self.predicates[wanted.key] = predicate
        return wanted

    def everything(self) -> list[Wanted]:
        """All of it, each once, in a steady order."""
        found = {w.key: w for w in (self.everyone, *self.lines.values(), *self.reach.values())}
        return [found[key] for key in sorted(found)]


def _written(predicate: str, values: Mapping[str, object]) -> str:
    """A predicate with its values written into it: to be told apart from others, never to be
    run."""
    return _NAME.sub(lambda name: repr(values[name[1]]), predicate)


def _fetched(
    session: orm.Session,
    asked: _Asked,
    missing: list[Wanted],
    kept: Mapping[str, Kept],
    now: dt.datetime,
) -> dict[str, Kept]:
    """Fetches what is missing, and keeps it."""
    counted = {tables: sets.changes_of(session, tables) for tables in {w.tables for w in missing}}
    changes = {w.key: counted[w.tables] for w in missing}
    simple = [w for w in missing if w.key in asked.predicates]
    found: dict[str, Kept] = {}
    if simple:
        began = machine_now()
        fetched = id_sets(session, [asked.predicates[w.key] for w in simple], asked.values)
        each = _since(began) / len(simple)
        for wanted, members in zip(simple, fetched, strict=True):
            found[wanted.key] = sets.put(
                session, wanted, Kept(now, {"": members}), changes[wanted.key], each
            )
    everyone = {**kept, **found}[asked.everyone.key].sets[""]
    for wanted in missing:
        if wanted.key not in found:
            began = machine_now()
            outcomes = outcome_sets(session, str(wanted.about["channel"]), everyone)
            found[wanted.key] = sets.put(
                session, wanted, Kept(now, outcomes), changes[wanted.key], _since(began)
            )
    return found


def renew(
    moment: Moment,
    abouts: Sequence[Mapping[str, Any]],
) -> int:
    """Works kept sets out again, by what each is asked for; the number of those that were asked of
    the database anew.

    One that nothing has touched since is only said to be newer.
    """
    started, day = machine_now(), moment.now.astimezone(moment.zone).date()
    lines: list[Node] = []
    for about in abouts:
        # A line that names what is gone is not renewed, and goes in time.
        with contextlib.suppress(d.DefinitionError):
            lines += (
                d.parse({"lines": [{**about["line"], "id": f"n{len(lines)}"}]}, moment.words).lines
                if about["what"] == "line"
                else ()
            )
    asked = _Asked(moment.session, Definition(tuple(lines)), compiler_for(moment), day)
    wanted = {Wanted(about, day, "").key for about in abouts}
    touched = sets.touched(
        moment.session, [w for w in asked.everything() if w.key in wanted], started
    )
    if not touched:
        return 0
    everyone = sets.known(moment.session, [asked.everyone], started - sets.STALE, started)
    if not everyone and asked.everyone not in touched:
        touched.append(asked.everyone)
    _fetched(moment.session, asked, touched, everyone, started)
    return len(touched)


def _estimated(
    session: orm.Session,
    definition: Definition,
    asked: _Asked,
    kept: Mapping[str, Kept],
    started: dt.datetime,
) -> Looking:
    """The sieve as the sample says it: kept sets are cut down to the sample, the others are asked
    of the sample."""
    made = sampling.made(session)
    missing = [w for w in asked.everything() if w.key not in kept]
    if made is None or any(COLLEAGUES in w.statement for w in missing):
        raise NoEstimate
    simple = [w for w in missing if w.key in asked.predicates]
    with session.get_bind().engine.connect() as connection:
        connection.execute(sa.text(sampling.SEARCH_PATH))
        people, *fetched = one_pass(
            connection, ["TRUE", *(asked.predicates[w.key] for w in simple)], asked.values
        )
        found = dict(zip((w.key for w in simple), fetched, strict=True))
        outcomes = {
            w.key: outcome_sets(connection, str(w.about["channel"]), people)
            for w in missing
            if w.key not in found
        }
    as_of = min([started, *(k.as_of for k in kept.values())])
    sample = dataclasses.replace(made[1], sampled=len(people))
    lines = {
        ident: found[w.key] if w.key in found else kept[w.key].sets[""] & people
        for ident, w in asked.lines.items()
    }
    guessed = scaled(sieve(definition, lines, people), sample)
    reach = {
        channel: _sizes(guessed.members, outcomes[w.key] if w.key in outcomes else kept[w.key].sets)
        for channel, w in asked.reach.items()
    }
    about = {
        channel: {name: sample.about(size) for name, size in sizes.items()}
        for channel, sizes in reach.items()
    }
    return Looking(guessed, about, as_of, _since(started), lines, people, sample)


def _sizes(members: BitMap, outcomes: Mapping[str, BitMap]) -> dict[str, int]:
    sizes = {name: len(members & reached) for name, reached in outcomes.items()}
    return {name: size for name, size in sizes.items() if size}


def _since(began: dt.datetime) -> float:
    return (machine_now() - began).total_seconds()
