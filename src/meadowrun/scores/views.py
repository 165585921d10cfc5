"""The pages of scores: all of them, one with its rules; and points given to a contact by hand."""

from collections.abc import Callable
from typing import Any

import flask

from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.core import scores as rules_of
from meadowrun.core import values
from meadowrun.core.language import Wording
from meadowrun.people.asked import moment, words
from meadowrun.people.queries import contact as contact_of
from meadowrun.scores import actions, page, queries, working
from meadowrun.scores.models import Score
from meadowrun.shell.later import comes_later
from meadowrun.shell.request import (
    Answer,
    actor,
    body,
    db,
    done,
    integer,
    needs,
    not_done,
    now,
)

pages = flask.Blueprint("scores", __name__)


@pages.get("/scores")
def table() -> Answer:
    return _table(None)


def _table(problem: MeadowrunError | None) -> str:
    return flask.render_template(
        "scores/table.html", rows=queries.scores(db()), problem=problem, form=flask.request.form
    )


def _half_life(text: str) -> int | None:
    return integer(text, "half_life") if text.strip() else None


@pages.post("/scores")
@needs("author")
def make() -> Answer:
    form = flask.request.form
    try:
        made = actions.save(
            db(),
            actor(),
            now(),
            words(),
            {
                "name": form.get("name", ""),
                "meaning": form.get("meaning", ""),
                "half_life": _half_life(form.get("half_life", "")),
            },
        )
    except MeadowrunError as problem:
        db().rollback()
        return _table(problem), problem.status
    return done("scores.show", "Now say what it gives points for.", ident=made.id)


@pages.get("/scores/<int:ident>")
@comes_later("Adding up this score")
def show(ident: int) -> Answer:
    score = queries.score(db(), ident)
    problem: str | None = None
    rules: tuple[rules_of.Rule, ...] = ()
    said: list[Any] = []
    try:
        rules = working.rules(score, words())
        said = page.sentences(rules)
    except rules_of.ScoreProblem as broken:
        problem = str(broken) if broken.rule is None else f"Rule {broken.rule + 1}: {broken}"
    return flask.render_template(
        "scores/show.html",
        score=score,
        rules=rules,
        said=said,
        raw=score.rules,
        problem=problem,
        can_count=rules_of.can_count,
        spread=queries.spread(db(), ident),
        highest=queries.highest(db(), ident),
        uses=queries.names_it(db(), ident),
    )


@pages.post("/scores/<int:ident>")
@needs("author")
def change(ident: int) -> Answer:
    form = flask.request.form
    return _changed(
        ident,
        form.get("version"),
        lambda score: {
            "name": form.get("name", ""),
            "meaning": form.get("meaning", ""),
            "half_life": _half_life(form.get("half_life", "")),
        },
    )


def _changed(ident: int, version: Any, given: Callable[[Score], dict[str, Any]]) -> Answer:
    """Saves what `given` makes of a score, based on a version; a refusal stands on its page."""
    try:
        score = queries.score(db(), ident)
        actions.save(
            db(), actor(), now(), words(), given(score), score, integer(str(version), "version")
        )
    except MeadowrunError as problem:
        return not_done(problem, "scores.show", ident=ident)
    return done("scores.show", "Saved. Everyone’s points are being updated.", ident=ident)


def _points(text: str | None) -> float:
    try:
        return values.number((text or "").strip().removeprefix("+"))
    except values.ValueProblem as problem:
        raise Invalid(Wording("Points: %(problem)s.", problem=problem), "points") from None


@pages.post("/scores/<int:ident>/rules/<int:place>")
@needs("author")
def change_rule(ident: int, place: int) -> Answer:
    """How much a rule gives and when it counts; or, with `remove`, that it goes."""
    form = flask.request.form

    def given(score: Score) -> dict[str, Any]:
        rules = list(score.rules)
        if place >= len(rules):
            raise Invalid("That rule is no longer there.", "rules")
        if form.get("remove"):
            return {"rules": rules[:place] + rules[place + 1 :]}
        most = form.get("most", "").strip()
        rules[place] = {
            "points": _points(form.get("points")),
            "each": form.get("each") == "yes",
            "lines": rules[place]["lines"],
            "most": integer(most, "most") if most else None,
        }
        return {"rules": rules}

    return _changed(ident, form.get("version"), given)


@pages.post("/scores/<int:ident>/lines")
@needs("author")
def put_lines(ident: int) -> Answer:
    """For what a rule gives its points, as lines of a definition; without `place`, a new rule."""
    data, score = body(), queries.score(db(), ident)
    rules, lines = list(score.rules), data.get("lines")
    place = data.get("place")
    if place is None:
        rule: dict[str, Any] = {"points": 5, "each": True, "lines": lines}
        try:
            rules_of.take_rules([rule], words())
        except rules_of.ScoreProblem:
            # What cannot be counted each time gives its points while it holds.
            rule["each"] = False
        rules.append(rule)
    elif isinstance(place, int) and 0 <= place < len(rules):
        rules[place] = rules[place] | {"lines": lines}
    else:
        raise Invalid("That rule is no longer there.", "rules")
    actions.save(db(), actor(), now(), words(), {"rules": rules}, score, data.get("version"))
    return flask.jsonify(to=flask.url_for("scores.show", ident=ident))


@pages.post("/scores/<int:ident>/delete")
@needs("author")
def delete(ident: int) -> Answer:
    score = queries.score(db(), ident)
    name = score.name
    try:
        actions.delete(db(), actor(), now(), score)
    except MeadowrunError as problem:
        return not_done(problem, "scores.show", ident=ident)
    return done("scores.table", Wording("“%(name)s” was deleted.", name=name))


@pages.post("/people/<int:ident>/points")
@needs("author")
def give(ident: int) -> Answer:
    """Points for one contact by hand; theirs are worked out at once."""
    form, contact = flask.request.form, contact_of(db(), ident)
    try:
        score = queries.score(db(), integer(form.get("score"), "score"))
        actions.give(
            db(), actor(), now(), score, contact, _points(form.get("points")), form.get("why", "")
        )
        working.work_out(moment(), score, ident)
    except (MeadowrunError, rules_of.ScoreProblem) as problem:
        return not_done(problem, "people.show", ident=ident)
    return done("people.show", ident=ident)
