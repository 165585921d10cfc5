"""The page that compares segments, lists and groups: what they share, and what each has alone."""

import flask
from pyroaring import BitMap

from meadowrun.base.errors import Conflict, Invalid, MeadowrunError
from meadowrun.core.audience import definition as d
from meadowrun.core.language import Wording
from meadowrun.core.wording import people as people_words
from meadowrun.people import keeping
from meadowrun.people.asked import moment, words
from meadowrun.segments import actions, comparing, groupings, insight
from meadowrun.segments.comparing import Compared
from meadowrun.shell.later import comes_later
from meadowrun.shell.request import Answer, actor, db, done, integer, needs, now

pages = flask.Blueprint("comparing", __name__)


@pages.get("/segments/compare")
@comes_later("Comparing them")
def compare() -> Answer:
    """Two or three of them: what they share and what each has alone, in proportion."""
    return _page(None)


@pages.get("/groupings/compare")
@comes_later("Comparing the groupings")
def compare_groupings() -> Answer:
    """Two whole groupings: how many people are in each pair of their groups."""
    every = [one for one in groupings.every(db()) if one.groups]
    asked = [integer(one, "of") for one in flask.request.args.getlist("of") if one]
    chosen = [one for number in asked for one in every if one.id == number][:2]
    problem: Conflict | None = None
    table = None
    try:
        if len(chosen) == 2:
            table = comparing.crossed(moment(), *chosen)
    except d.DefinitionError as wrong:
        problem = Conflict(str(wrong))
    page = flask.render_template(
        "segments/compare_groupings.html",
        every=every,
        chosen=chosen,
        table=table,
        problem=problem,
    )
    return (page, problem.status) if problem else page


def _chosen() -> list[Compared]:
    return comparing.chosen(db(), [one for one in flask.request.values.getlist("of") if one])


def _page(problem: MeadowrunError | None) -> Answer:
    chosen = _chosen()
    try:
        sets = [comparing.members(moment(), one) for one in chosen]
    except d.DefinitionError as wrong:
        sets, problem = [], Conflict(str(wrong))
    found = (
        sorted(
            insight.regions(sets).items(), key=lambda r: (-sum(r[0]), tuple(not i for i in r[0]))
        )
        if len(sets) > 1
        else []
    )
    page = flask.render_template(
        "segments/compare.html",
        chosen=chosen,
        most=comparing.MOST,
        sizes=[len(some) for some in sets],
        regions=found,
        problem=problem,
        every=comparing.every(db()),
        union=len(BitMap.union(*sets)) if len(sets) > 1 else 0,
        said=_said,
    )
    return (page, problem.status) if problem else page


def _said(chosen: list[Compared], inside: tuple[bool, ...]) -> str:
    """A part in words: “in A and B, not in C”."""
    ins = [f"“{one.name}”" for one, i in zip(chosen, inside, strict=True) if i]
    outs = [f"“{one.name}”" for one, i in zip(chosen, inside, strict=True) if not i]
    if not outs:
        return Wording("in %(ins)s", ins=" and ".join(ins))
    return Wording("in %(ins)s, not in %(outs)s", ins=" and ".join(ins), outs=" nor ".join(outs))


@pages.post("/segments/compare")
@needs("author")
def keep() -> Answer:
    """Keeps one part: as a segment, made of what it is a part of, or as a list of those who are in
    it now."""
    chosen, form = _chosen(), flask.request.form
    inside = [one == "1" for one in form.get("region", "")]
    if len(inside) != len(chosen) or not any(inside):
        raise Invalid("Choose one of the parts.", "region")
    parts, name = list(zip(chosen, inside, strict=True)), form.get("name", "")
    try:
        if form.get("as") == "list":
            people = list(comparing.part(moment(), parts))
            said = str(Wording("a comparison"))
            kept = keeping.make_list(db(), actor(), now(), name, said, people)
            told = Wording("%(people)s as of now.", people=people_words(len(people)))
            return done("keeping.list_members", told, ident=kept.id)
        definition = {"format": 1, "lines": comparing.lines(parts)}
        made = actions.save(db(), actor(), now(), words(), name, definition)
    except MeadowrunError as problem:
        db().rollback()
        return _page(problem)
    told = Wording("“%(name)s” stays up to date with what it is made of.", name=made.name)
    return done("segments.edit", told, ident=made.id)
