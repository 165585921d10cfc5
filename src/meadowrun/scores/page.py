"""What pages show of scores: rules as sentences, and what each gave one contact."""

from collections.abc import Sequence

import flask

from meadowrun.core.audience import english
from meadowrun.core.scores import Rule
from meadowrun.people import queries as people
from meadowrun.people.asked import moment, words
from meadowrun.scores import working
from meadowrun.scores.models import Score
from meadowrun.scores.queries import given_to
from meadowrun.shell.request import db, today


def sentences(rules: Sequence[Rule]) -> list[str]:
    """For what each rule gives its points, in words."""
    return [_sentence(rule) for rule in rules]


def _sentence(rule: Rule) -> str:
    if len(rule.definition.lines) > 1:
        return english.read_aloud(rule.definition, words(), today())
    parts = english.sentence(rule.definition.lines[0], words(), today())
    # What counts each time is not asked how often, and “at any time” goes without saying.
    return english.text(
        [
            part
            for part in parts
            if not (rule.each and (part.slot == "times" or part.text == "at any time"))
        ]
    )


def of_contact(contact_id: int) -> list[tuple[Score, float, list[tuple[float, int, str]]]]:
    """A contact's points by each score now, and what they come from: (points, how often, for what);
    only what gave any."""
    found = []
    for one in working.of_contact(moment(), contact_id):
        told = zip(one.parts, [*sentences(one.rules), "given by hand"], strict=True)
        found.append(
            (
                one.score,
                one.points,
                [(points, times, said) for (points, times), said in told if times],
            )
        )
    return found


def drawn_of_contact(contact_id: int) -> str:
    """The same as a part of the contact's page, with what was given by hand and the way to give
    more."""
    return flask.render_template(
        "scores/of_contact.html",
        contact=people.contact(db(), contact_id),
        scores=of_contact(contact_id),
        points_given=given_to(db(), contact_id),
    )
