"""Typed reads of scores: which there are, how points are spread, who has most, and what names a
score."""

import dataclasses

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import existing
from meadowrun.people.models import Contact
from meadowrun.people.queries import definitions_using
from meadowrun.scores.models import ContactScore, Score, ScorePoints


def score(session: orm.Session, ident: int) -> Score:
    return existing(session, Score, ident, "score")


def scores(session: orm.Session) -> list[tuple[Score, int]]:
    """Every score with how many people have any of its points."""
    many = sa.select(sa.func.count()).where(ContactScore.score_id == Score.id).scalar_subquery()
    return [
        (row[0], row[1]) for row in session.execute(sa.select(Score, many).order_by(Score.name))
    ]


@dataclasses.dataclass(frozen=True)
class Spread:
    """How the points of those who have any are spread: how many have them, the middle, the upper
    tenth and the most; and `bands`, (from, to, people) of twelve equal ones from the least to the
    most."""

    people: int
    middle: float
    upper: float
    most: float
    bands: list[tuple[float, float, int]]


def spread(session: orm.Session, ident: int, bands: int = 12) -> Spread | None:
    """None where nobody has points."""
    row = session.execute(
        sa.text(
            "SELECT count(*), percentile_disc(0.5) WITHIN GROUP (ORDER BY points), "
            "percentile_disc(0.9) WITHIN GROUP (ORDER BY points), "
            "min(points), max(points) FROM contact_scores WHERE score_id = :id"
        ),
        {"id": ident},
    ).one()
    if not row[0]:
        return None
    least, most = float(row[3]), float(row[4])
    step = (most - least) / bands or 1.0
    counted: dict[int, int] = dict(
        session.execute(
            sa.text(
                "SELECT least(CAST(floor((points - :least) / :step) AS integer), :last), "
                "count(*) FROM contact_scores WHERE score_id = :id GROUP BY 1"
            ),
            {"id": ident, "least": least, "step": step, "last": bands - 1},
        )
        .tuples()
        .all()
    )
    return Spread(
        row[0],
        float(row[1]),
        float(row[2]),
        most,
        [(least + n * step, least + (n + 1) * step, counted.get(n, 0)) for n in range(bands)],
    )


def highest(session: orm.Session, ident: int, most: int = 8) -> list[tuple[Contact, float]]:
    """Those with the most points."""
    return [
        (contact, points)
        for contact, points in session.execute(
            sa.select(Contact, ContactScore.points)
            .join(ContactScore, ContactScore.contact_id == Contact.id)
            .where(ContactScore.score_id == ident)
            .order_by(ContactScore.points.desc(), Contact.id)
            .limit(most)
        ).tuples()
    ]


def given_to(session: orm.Session, contact_id: int, most: int = 20) -> list[ScorePoints]:
    """Points that were given a contact by hand, the latest first."""
    return list(
        session.scalars(
            sa.select(ScorePoints)
            .where(ScorePoints.contact_id == contact_id)
            .order_by(ScorePoints.id.desc())
            .limit(most)
        )
    )


def kept_points(session: orm.Session, contact_id: int) -> dict[str, float]:
    """A contact's points as they were last worked out, by the score's name."""
    return dict(
        session.execute(
            sa.select(Score.name, ContactScore.points)
            .join(ContactScore, ContactScore.score_id == Score.id)
            .where(ContactScore.contact_id == contact_id)
            .order_by(Score.name)
        )
        .tuples()
        .all()
    )


def names_it(session: orm.Session, ident: int) -> list[str]:
    """What asks for a score, in words."""
    line = f'@.kind == "score" && @.score == {int(ident)}'
    step = f'@.kind == "change" && @.what == "score" && @.number == {int(ident)}'
    return definitions_using(session, f"$.** ? ({line} || {step})")
