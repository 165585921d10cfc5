"""Changes of scores, and points given by hand."""

import datetime as dt
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import audit, jobs
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.core import wording
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.language import Wording
from meadowrun.core.scores import MOST_DAYS, MOST_POINTS, ScoreProblem, dump_rules, take_rules
from meadowrun.people.actions import full_name
from meadowrun.people.models import Contact
from meadowrun.scores.models import Score, ScorePoints
from meadowrun.scores.queries import names_it


def save(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    words: Dictionary,
    given: dict[str, Any],
    score: Score | None = None,
    based_on: int | None = None,
) -> Score:
    """Adds a score or changes what `given` names of one: name, meaning, half_life (days or None),
    rules (as JSON).

    Everyone's points are worked out anew in the background. Raises Invalid naming the place, and
    Conflict when the name is taken or somebody changed the score since version `based_on`.
    """
    clean = _clean(session, words, given, score)
    if score is None:
        score = Score(rules=[], half_life=None, version=0, meaning="")
        session.add(score)
    else:
        session.refresh(score, with_for_update=True)
        if based_on is not None and based_on != score.version:
            raise Conflict(
                Wording(
                    "%(changed_by)s changed “%(name)s” meanwhile. Take a look again, then repeat "
                    "your change.",
                    changed_by=score.changed_by,
                    name=score.name,
                )
            )
    did = "changed the score" if score.version else "added the score"
    for name, value in clean.items():
        setattr(score, name, value)
    score.version += 1
    score.changed_at, score.changed_by, score.worked_out_at = now, actor.name, None
    session.flush()
    jobs.enqueue(session, "scores.refresh")
    audit.record(session, actor, now, did, "score", score.id, score.name)
    return score


def _clean(
    session: orm.Session, words: Dictionary, given: dict[str, Any], score: Score | None
) -> dict[str, Any]:
    clean: dict[str, Any] = {}
    if "name" in given or score is None:
        clean["name"] = " ".join(str(given.get("name") or "").split())[:80].strip()
        if not clean["name"]:
            raise Invalid("Give the score a name you will recognise in conditions.", "name")
        if session.scalar(
            sa.select(Score.id).where(
                Score.name == clean["name"], Score.id != (score.id if score else 0)
            )
        ):
            raise Conflict(
                Wording("There is a score called “%(name)s” already.", name=clean["name"])
            )
    if "meaning" in given:
        clean["meaning"] = " ".join(str(given["meaning"] or "").split())[:300]
    if "half_life" in given:
        days = given["half_life"]
        if days is not None and (
            isinstance(days, bool) or not isinstance(days, int) or not 1 <= days <= MOST_DAYS
        ):
            raise Invalid(
                Wording(
                    "Points fade by half within 1 to %(most_days)s days, or not at all.",
                    most_days=wording.number(MOST_DAYS),
                ),
                "half_life",
            )
        clean["half_life"] = days
    if "rules" in given:
        try:
            clean["rules"] = dump_rules(take_rules(given["rules"], words))
        except ScoreProblem as problem:
            raise Invalid(
                str(problem)
                if problem.rule is None
                else Wording(
                    "Rule %(value)s: %(problem)s", value=problem.rule + 1, problem=problem
                ),
                "rules",
            ) from None
    return clean


def give(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    score: Score,
    contact: Contact,
    points: float,
    why: str,
) -> ScorePoints:
    """Points for one contact, or, below 0, taken from them. Raises Invalid."""
    if (
        isinstance(points, bool)
        or not isinstance(points, int | float)
        or not 0 < abs(points) <= MOST_POINTS
    ):
        raise Invalid(
            Wording(
                "Add or subtract up to %(most_points)s points, at least 1.",
                most_points=wording.number(MOST_POINTS),
            ),
            "points",
        )
    why = " ".join(why.split())[:200]
    if not why:
        raise Invalid("Say what the points are for; others will want to know.", "why")
    made = ScorePoints(
        contact_id=contact.id,
        score_id=score.id,
        points=float(points),
        at=now,
        by=actor.name,
        why=why,
    )
    session.add(made)
    session.flush()
    audit.record(
        session,
        actor,
        now,
        "gave points to",
        "contact",
        contact.id,
        full_name(contact),
        score=score.name,
        points=points,
    )
    return made


def delete(session: orm.Session, actor: Actor, now: dt.datetime, score: Score) -> None:
    """Deletes a score that nothing asks for. Raises Conflict naming what does."""
    if uses := names_it(session, score.id):
        raise Conflict(
            Wording(
                "“%(name)s” is used by %(uses)s. Change those first.",
                name=score.name,
                uses=", ".join(uses[:4]),
            )
        )
    audit.record(session, actor, now, "deleted the score", "score", score.id, score.name)
    session.delete(score)
    session.flush()
