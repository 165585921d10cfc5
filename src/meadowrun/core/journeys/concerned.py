"""Whom a new edition of an itinerary concerns among those who are on the old one."""

import dataclasses
from collections.abc import Mapping

from meadowrun.core.journeys.flat import END, Flat, flatten
from meadowrun.core.journeys.steps import Itinerary, Step, WaitForStep, WaitStep, numbered
from meadowrun.core.journeys.words import Names, line
from meadowrun.core.language import Wording
from meadowrun.core.wording import people as people_words


@dataclasses.dataclass(frozen=True, slots=True)
class Concern:
    """What a new edition does to those who are on a step: how many they are, and what in words."""

    step: str
    people: int
    said: str
    #: whether the step is taken away, so that somebody may say where they go
    gone: bool = False


def target_of(step: str, old: Mapping[str, Flat], new: Mapping[str, Flat]) -> str:
    """Where those go whose step is taken away: the next one that followed it and is still there."""
    target = old[step].next
    while target != END and target not in new:
        target = old[target].next
    return target


def concerned(
    before: Itinerary, after: Itinerary, here: Mapping[str, int], names: Names
) -> list[Concern]:
    """What happens to those who are on each step when the new edition is used; `here` is how many
    are on each."""
    old, new = flatten(before), flatten(after)
    called, called_now, names = numbered(before), numbered(after), names.of(after)
    found = []
    for ident, flat in old.items():
        people = here.get(ident, 0)
        if not people:
            continue
        name = f"{called[ident]} · {line(flat.step, names).kind} {line(flat.step, names).what}"
        if ident not in new:
            off = after.step(ident) is not None
            said = _goes_on(name, off, people, target_of(ident, old, new), new, called_now, names)
        else:
            said = _changed(flat.step, new[ident].step, name, people)
        if said:
            found.append(Concern(ident, people, said, ident not in new))
    return found


def _goes_on(
    name: str,
    off: bool,
    people: int,
    target: str,
    new: Mapping[str, Flat],
    called: Mapping[str, str],
    names: Names,
) -> str:
    """What is said of a step that is taken away, or switched off."""
    who = people_words(people)
    gone: str = Wording("is switched off") if off else Wording("is removed")
    if target == END:
        return Wording("“%(name)s” %(gone)s; to the end: %(who)s", who=who, name=name, gone=gone)
    words = line(new[target].step, names)
    to = f"{called[target]} · {words.kind} {words.what}"
    return Wording(
        "“%(name)s” %(gone)s; on to “%(to)s”: %(who)s", who=who, name=name, to=to, gone=gone
    )


def _changed(before: Step, after: Step, name: str, people: int) -> str:
    """What is said of a step that says something else; empty where nobody on it feels that."""
    who = people_words(people)
    if isinstance(before, WaitStep | WaitForStep) and isinstance(after, WaitStep | WaitForStep):
        old, new = before.span.length(), after.span.length()
        if new > old:
            return Wording("“%(name)s”: a longer wait for %(who)s", who=who, name=name)
        if new < old:
            return Wording(
                "“%(name)s”: a shorter wait for %(who)s; people whose time is up go on at once",
                who=who,
                name=name,
            )
    if before.kind == "message" and before != after:
        return Wording(
            "“%(name)s” changes; what is on its way still leaves, to %(who)s", who=who, name=name
        )
    if _own(before) == _own(after):
        return ""
    return Wording("“%(name)s” changes for %(who)s", who=who, name=name)


def _own(step: Step) -> dict[str, object]:
    """What a step says itself, without the steps on its paths."""
    found: dict[str, object] = {}
    for field in dataclasses.fields(step):
        value = getattr(step, field.name)
        if field.name == "paths":
            value = [dataclasses.replace(path, steps=()) for path in value]
        found[field.name] = value
    return found
