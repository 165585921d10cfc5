"""Working scores out: everyone's points by their rules, in a few statements; and one contact's,
rule by rule."""

import dataclasses

import sqlalchemy as sa

from meadowrun.core import scores as rules_of
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.scores import Given, Rule
from meadowrun.people.moment import Moment
from meadowrun.scores.models import Score, ScorePoints
from meadowrun.segments.compile import Compiler
from meadowrun.segments.fetching import compiler_for
from meadowrun.segments.why import judge, person

#: Keeps the points of a score, of everyone or of :one; the number of contacts whose points changed.
PUT_POINTS = """WITH worth AS MATERIALIZED (
    SELECT x.contact_id,
        CAST(round(CAST(sum(x.points) AS numeric), 1) AS double precision) AS points
    FROM ({query}) x JOIN contacts c ON c.id = x.contact_id {of_one} GROUP BY x.contact_id),
pointed AS (SELECT * FROM worth WHERE points <> 0),
gone AS (
    DELETE FROM contact_scores s WHERE score_id = :score {one}
    AND NOT EXISTS (SELECT 1 FROM pointed w WHERE w.contact_id = s.contact_id) RETURNING 1),
put AS (
    INSERT INTO contact_scores AS s (contact_id, score_id, points)
    SELECT contact_id, :score, points FROM pointed
    ON CONFLICT (contact_id, score_id) DO UPDATE SET points = excluded.points
    WHERE s.points <> excluded.points RETURNING 1)
SELECT (SELECT count(*) FROM gone) + (SELECT count(*) FROM put)"""


def rules(score: Score, words: Dictionary) -> tuple[Rule, ...]:
    """The rules of a score. Raises ScoreProblem when one of them names what is gone."""
    return rules_of.take_rules(score.rules, words)


def work_out(
    moment: Moment,
    score: Score,
    contact_id: int | None = None,
) -> int:
    """Everyone's points as of now, or those of one contact; says whose changed. Raises
    ScoreProblem."""
    compiler = compiler_for(moment)
    query = _worth(score, rules(score, moment.words), compiler)
    compiler.values |= {"score": score.id, "one": contact_id}
    one = " AND contact_id = :one" if contact_id is not None else ""
    changed = moment.session.execute(
        sa.text(PUT_POINTS.format(query=query, one=one, of_one="WHERE c.id = :one" if one else "")),
        compiler.values,
    ).scalar_one()
    if contact_id is None:
        score.worked_out_at = moment.now
    return int(changed)


def _worth(score: Score, parts: tuple[Rule, ...], compiler: Compiler) -> str:
    """A query of (contact_id, points): one row for each rule, or each time one counted."""
    now = compiler.bind(compiler.clock.now)

    def fading(points: str, at: str) -> str:
        if score.half_life is None:
            return points
        age = f"greatest(extract(epoch FROM CAST({now} AS timestamptz) - {at}), 0) / 86400.0"
        return (
            f"{points} * power(CAST(0.5 AS double precision), CAST({age} AS double precision) "
            f"/ {compiler.bind(score.half_life)})"
        )

    found = [
        (
            f"SELECT g.contact_id, {fading('g.points', 'g.at')} AS points FROM score_points g "
            f"WHERE g.score_id = {score.id}"
        )
    ]
    for rule in parts:
        points = f"CAST({compiler.bind(rule.points)} AS double precision)"
        if not rule.each:
            found.append(
                f"SELECT c.id, {points} FROM contacts c WHERE "
                f"{compiler.definition(rule.definition)}"
            )
            continue
        node = next(n for n in rule.definition.lines if not n.off)
        moments = compiler.moments(node)
        if rule.most is not None:
            moments = (
                "SELECT n.contact_id, n.at FROM (SELECT m.contact_id, m.at, row_number() OVER "
                "(PARTITION BY m.contact_id ORDER BY m.at "
                f"DESC) AS place FROM ({moments}) m) n WHERE n.place <= {rule.most}"
            )
        found.append(f"SELECT m.contact_id, {fading(points, 'm.at')} FROM ({moments}) m")
    return " UNION ALL ".join(found)


@dataclasses.dataclass(frozen=True)
class OfContact:
    """One contact's points by one score, now; `parts` has what each rule gave and how often, what
    was given by hand at the end."""

    score: Score
    rules: tuple[Rule, ...]
    parts: list[tuple[float, int]]

    @property
    def points(self) -> float:
        return round(sum(points for points, _ in self.parts), 1)


def of_contact(
    moment: Moment,
    contact_id: int,
) -> list[OfContact]:
    """A contact's points by every score that can be worked out, rule by rule."""
    found = list(moment.session.scalars(sa.select(Score).order_by(Score.name)))
    if not found:
        return []
    one, by, made = person(moment.session, contact_id, moment.words), judge(moment), []
    given: dict[int, list[Given]] = {}
    for row in moment.session.scalars(
        sa.select(ScorePoints).where(ScorePoints.contact_id == contact_id)
    ):
        given.setdefault(row.score_id, []).append(Given(row.points, row.at))
    for score in found:
        try:
            own = rules(score, moment.words)
        except rules_of.ScoreProblem:
            continue
        made.append(
            OfContact(
                score, own, rules_of.parts(own, given.get(score.id, []), one, by, score.half_life)
            )
        )
    return made
