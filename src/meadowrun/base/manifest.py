"""What a feature adds to the application, said in one place: its folder's `feature.py` holds
FEATURE.

What lies below a feature learns of it from here alone, so that adding one is adding a folder and
its name to `features.py`.
"""

import dataclasses
import datetime as dt
import importlib
import zoneinfo
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

from sqlalchemy import orm

from meadowrun.base.audit import Actor
from meadowrun.base.db import called
from meadowrun.base.settings import Settings
from meadowrun.core.content.past import Past


@dataclasses.dataclass(frozen=True)
class Found:
    """Something the one box found: what it is in a word, its name, and the number of its page."""

    kind: str
    name: str
    ident: int


@dataclasses.dataclass(frozen=True)
class Find:
    """How the one box finds things of one kind: the endpoint of their pages (with `ident`), and the
    search for words in small letters."""

    endpoint: str
    search: Callable[[orm.Session, str], Iterable[Found]]


def named(endpoint: str, model: Any, kind: str) -> Find:
    """Finds the newest rows of a table with names."""
    return Find(
        endpoint,
        lambda session, words: (
            Found(kind, name, ident) for ident, name in called(session, model, words, 5)
        ),
    )


@dataclasses.dataclass(frozen=True)
class Way:
    """A page or an action that the one box finds: what it is called, its endpoint, and other words
    by which people look for it. What is done most is offered before anything is typed."""

    name: str
    endpoint: str
    also: str = ""
    often: bool = False

    def fits(self, words: list[str]) -> int:
        """How many of some words begin one of its own, in the singular or the plural."""
        own = f"{self.name} {self.also}".lower().split()
        own += [f"{one[:-3]}y" for one in own if one.endswith("ies")]
        return sum(any(one.startswith(word) for one in own) for word in words)


@dataclasses.dataclass(frozen=True)
class Thing:
    """One thing that waits for somebody: what is asked in words, of what, where it is done, and
    what was said about it."""

    what: str
    name: str
    to: str
    note: str = ""


@dataclasses.dataclass(frozen=True, slots=True)
class Dated:
    """Something that happened, or is to come, at a moment: what it is called, where it is, and
    whether it is still to come."""

    at: dt.datetime
    name: str
    to: str
    ahead: bool


@dataclasses.dataclass(frozen=True)
class Use:
    """Something that names another thing, so that neither is changed or deleted unseen: what it is,
    its name, how it stands, its page."""

    what: str
    name: str
    state: str
    to: str


@dataclasses.dataclass(frozen=True)
class Going:
    """Where a message goes next, as one feature has it."""

    #: what its people are called: “the people of …”
    whose: str
    #: facts that are filled in, and the hours of the day in which it goes, where that is known
    facts: Mapping[str, Any]
    hours: tuple[int, int] | None
    #: its people as a condition over contacts `c` with bind values, by the dictionary, at a moment,
    #: on a clock; None where nobody is named
    audience: Callable[[Any, dt.datetime, zoneinfo.ZoneInfo], tuple[str, dict[str, Any]] | None]


@dataclasses.dataclass(frozen=True)
class Owner:
    """What sends dispatches."""

    #: told in the same transaction that a dispatch of the owner with this number is in another
    #: state since a moment
    moved: Callable[[orm.Session, int, str, dt.datetime], None]
    #: the path of the owner's page, which needs no request, and the address of the people of it in
    #: doubt
    path: Callable[[int], str]
    doubts: Callable[[int], str]
    #: who of some contacts is still in the audience of that number, at a moment, on a clock; None:
    #: it has no audience that anybody could leave
    still_in: (
        Callable[[orm.Session, int, Sequence[int], dt.datetime, zoneinfo.ZoneInfo], set[int]] | None
    ) = None


@dataclasses.dataclass(frozen=True, slots=True)
class Tried:
    """What came of trying whether something is set up: whether it is, and what was found."""

    ok: bool
    said: str


@dataclasses.dataclass(frozen=True, kw_only=True)
class Probe:
    """Something that has to be set up before messages leave as they should, and how it is tried."""

    #: the same for as long as it is about the same thing
    key: str
    #: what it belongs to, such as a channel
    area: str
    #: an installation can do without it, as with a channel that nobody uses
    optional: bool = False
    #: what holds when it is set up
    name: str
    #: how it is set up
    fix: str
    #: tries it; takes seconds, and stands on nothing of the database session that made it
    run: Callable[[], Tried]
    #: the path of the page where it is set up, if any
    to: str = ""


@dataclasses.dataclass(frozen=True, kw_only=True)
class Feature:
    """What one folder adds. Modules are named as they are called inside the folder."""

    #: modules that hold `pages`, a blueprint → the station of the header that their pages stand
    #: under; empty: none
    pages: Mapping[str, str] = dataclasses.field(default_factory=dict)
    #: modules that register background tasks
    tasks: tuple[str, ...] = ()
    #: pages and actions that the one box finds
    does: tuple[Way, ...] = ()
    finds: tuple[Find, ...] = ()
    #: what waits for somebody, the oldest first
    waits: Callable[[orm.Session, Actor], Iterable[Thing]] | None = None
    #: kind of thing (“segment”) → what of this feature names one of that number
    uses: Mapping[str, Callable[[orm.Session, int], Iterable[Use]]] = dataclasses.field(
        default_factory=dict
    )
    #: kind of thing → what of this feature is on which moment for each one of it, by its number
    dates: Mapping[str, Callable[[orm.Session], Mapping[int, Sequence[Dated]]]] = dataclasses.field(
        default_factory=dict
    )
    #: kind of thing → what of this feature goes on by itself now for each one of it, by its number:
    #: name and path
    running: Mapping[str, Callable[[orm.Session], Mapping[int, Sequence[tuple[str, str]]]]] = (
        dataclasses.field(default_factory=dict)
    )
    #: kind of thing → how many things of this feature each one of it has, by its number
    counts: Mapping[str, Callable[[orm.Session], Mapping[int, int]]] = dataclasses.field(
        default_factory=dict
    )
    #: where a message of a number goes next; None where it goes nowhere
    goes: Callable[[orm.Session, int], Going | None] | None = None
    #: by what a message of a number left, by name; None where it never did
    left: Callable[[orm.Session, int], str | None] | None = None
    #: what the events say because of which a message of a number goes: key and label of each detail
    happened: Callable[[orm.Session, int], Iterable[tuple[str, str]]] | None = None
    #: what subjects of the past teach, at a moment
    learnt: Callable[[orm.Session, dt.datetime], list[Past]] | None = None
    #: the numbers of what became of a send
    numbers: Callable[[orm.Session, int], Mapping[str, int]] | None = None
    #: what has to be set up for it
    probes: Callable[[orm.Session, Settings], Iterable[Probe]] | None = None
    #: what it sends dispatches as (“send”)
    owns: Mapping[str, Owner] = dataclasses.field(default_factory=dict)
    #: kinds of condition that it adds (segments/conditions)
    conditions: tuple[Any, ...] = ()
    #: place on a page (“contact.known”, “contact.margin”) → what this feature draws there of the
    #: thing of a number
    parts: Mapping[str, Callable[[int], str]] = dataclasses.field(default_factory=dict)
    #: what every template can say: names of functions, and filters
    says: Mapping[str, Callable[..., Any]] = dataclasses.field(default_factory=dict)
    filters: Mapping[str, Callable[..., Any]] = dataclasses.field(default_factory=dict)


@dataclasses.dataclass(frozen=True)
class Loaded:
    """A feature with the package it is of."""

    package: str
    feature: Feature

    def module(self, name: str) -> Any:
        return importlib.import_module(f"{self.package}.{name}")

    def load_tasks(self) -> None:
        for name in self.feature.tasks:
            self.module(name)


def load(packages: Iterable[str]) -> list[Loaded]:
    """The features of some packages, in their order."""
    found = [Loaded(name, importlib.import_module(f"{name}.feature").FEATURE) for name in packages]
    _loaded.update({one.package: one.feature for one in found})
    return found


#: The features that this process has loaded, by their packages.
_loaded: dict[str, Feature] = {}


def probes(session: orm.Session, settings: Settings) -> list[Probe]:
    """What has to be set up for any feature."""
    return [
        probe for one in _loaded.values() if one.probes for probe in one.probes(session, settings)
    ]


def owner_of(kind: str) -> Owner:
    """Who sends dispatches of a kind."""
    return next(one.owns[kind] for one in _loaded.values() if kind in one.owns)


def going(session: orm.Session, message_id: int) -> Going | None:
    """Where a message goes next, by the first feature that knows."""
    return next(
        (
            found
            for one in _loaded.values()
            if one.goes and (found := one.goes(session, message_id))
        ),
        None,
    )


def happened(session: orm.Session, message_id: int) -> dict[str, str]:
    """What the events say because of which a message goes, by the key of each detail."""
    return {
        key: label
        for one in _loaded.values()
        if one.happened
        for key, label in one.happened(session, message_id)
    }


def left_by(session: orm.Session, message_id: int) -> str | None:
    """By what a message left, by name; None where it never did."""
    return next(
        (
            found
            for one in _loaded.values()
            if one.left and (found := one.left(session, message_id))
        ),
        None,
    )


def learnt(session: orm.Session, now: dt.datetime) -> list[Past]:
    """What subjects of the past teach."""
    return [past for one in _loaded.values() if one.learnt for past in one.learnt(session, now)]


def conditions() -> list[Any]:
    """The kinds of condition of every feature that is loaded."""
    return [condition for one in _loaded.values() for condition in one.conditions]


def numbers_of(session: orm.Session, send_id: int) -> Mapping[str, int]:
    """The numbers of what became of a send."""
    return next((one.numbers(session, send_id) for one in _loaded.values() if one.numbers), {})
