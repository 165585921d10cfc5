"""Colleagues are told by email, and their tasks and emails speak of the very person."""

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.core.journeys import edit
from meadowrun.core.journeys.steps import Span, TaskStep, TellStep
from meadowrun.journeys import checking, figures, queries
from meadowrun.shell.models import User
from meadowrun.tasks.models import ColleagueTask
from meadowrun.tracking.taking import take_events
from tests.conftest import NOW
from tests.store.journeys import advance
from tests.store.tasks import running, with_colleagues

TEXT = "{{ contact.first_name }} gave {{ event.amount | default('nothing', true) }}"
PEOPLE = 10


@pytest.fixture
def world(database, settings, job_context, keeper):
    """Three colleagues, two of whom wish to be told by email, and people by their first names."""
    made = with_colleagues(database)
    with database.session() as session:
        users = session.scalars(sa.select(User).where(User.id.in_(made[1]))).all()
        for user in users:
            user.told = user.name != "Cleo"
        session.execute(sa.text("UPDATE contacts SET first_name = 'P' || id, last_name = ''"))
    return made


def visits(database, *contacts, **details):
    with clock.at(NOW), database.session() as session:
        rows = [
            {"event": "visited", "contact": one, "at": NOW.isoformat(), "details": details}
            for one in contacts
        ]
        take_events(session, NOW, "t", rows)
    advance(database, NOW)


TOLD = """
SELECT u.name, t.subject, t.body, t.path FROM told t JOIN users u ON u.id = t.user_id ORDER BY t.id
"""


def told(database):
    with database.session() as session:
        return [tuple(row) for row in session.execute(sa.text(TOLD))]


def test_each_colleague_gets_an_email_about_each_person(database, world):
    running(database, world, TellStep("", TEXT, tuple(world[1])))
    visits(database, 2, amount=30)
    body = "P2 is at this step of the journey “Calls”."
    assert told(database) == [
        ("Ana", "P2 gave 30", body, "/people/2"),
        ("Ben", "P2 gave 30", body, "/people/2"),
    ]
    # Looked at again nobody is told again.
    advance(database, NOW)
    assert len(told(database)) == 2


def test_of_many_at_once_there_is_one_email(database, world):
    ident = running(database, world, TellStep("", TEXT, (world[1][0],)))
    visits(database, *range(1, PEOPLE + 1))
    [(name, subject, body, path)] = told(database)
    assert (name, path) == ("Ana", f"/journeys/{ident}")
    assert subject == "10 people: ‹first name› gave ‹amount›"
    assert body.splitlines() == [f"P{n}: P{n} gave nothing" for n in range(1, PEOPLE + 1)]


def test_a_task_speaks_of_the_person_and_the_event(database, world):
    ask = "Call {{ contact.first_name }} of {{ contact.town | default('nowhere', true) }}"
    running(database, world, TaskStep("", "call", ask, Span(2, "day"), "high", tuple(world[1])))
    with database.session() as session:
        session.execute(sa.text("UPDATE contacts SET town = 'Hüttenau' WHERE id = 1"))
        session.execute(sa.text("UPDATE contacts SET town = NULL WHERE id = 2"))
    visits(database, 1, 2)
    with database.session() as session:
        asked = sa.select(ColleagueTask.subject).order_by(ColleagueTask.id)
        assert list(session.scalars(asked)) == ["Call P1 of Hüttenau", "Call P2 of nowhere"]


def test_one_value_that_cannot_be_written_keeps_nobody_from_going_on(database, world):
    """A number that is none cannot be compared: what hangs on it is left out."""
    text = "{% if event.amount > 50 %}A large gift of{% endif %} {{ event.amount }}"
    running(database, world, TellStep("", text, (world[1][0],)))
    visits(database, 1, amount="a lot")
    visits(database, 2, amount=80)
    assert [subject for _, subject, _, _ in told(database)] == ["‹amount›", "A large gift of 80"]


@pytest.mark.parametrize(
    ("text", "problem"),
    [
        ("{{ contact.shoe }}", "There is nothing called “contact.shoe” to fill in here."),
        ("{{ feed.sky.night }}", "There is nothing called “feed.sky.night” to fill in here."),
        ("{{ event.moon }}", "There is nothing called “event.moon” to fill in here."),
        (
            "{{ contact.town",
            "There is a stray “{{” near “{{ contact.town”. Remove it, or type @ to fill in a "
            "field.",
        ),
    ],
)
def test_words_that_cannot_be_filled_in_are_found_before_it_starts(database, world, text, problem):
    ident = running(database, world, TellStep("", "Look", tuple(world[1])))
    with database.session() as session:
        found = queries.journey(session, ident)
        itinerary = queries.draft(session, found)
        assert [one.text for one in checking.findings(session, found, itinerary)][-1] == (
            "Cleo does not wish to be told by email."
        )
        wrong = edit.set_values(itinerary, itinerary.steps[0].id, text=text)
        said = [one.text for one in checking.findings(session, found, wrong)]
    assert problem in said


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("Look at {{ 1 + }} {% if %}", "Look at ‹1 +› "),
        ("Look at {{ contact.gone }}!", "Look at !"),
        ("Look at {{ feed.sky.night }}!", "Look at ‹sky.night›!"),
    ],
)
def test_words_that_cannot_be_filled_in_any_more_keep_nobody_from_going_on(
    database, world, text, said
):
    """An edition of before that has them."""
    ident = running(database, world, TellStep("", "Look", (world[1][0],)))
    with database.session() as session:
        session.execute(
            sa.text(
                "UPDATE journey_editions SET itinerary = jsonb_set(itinerary, '{steps,0,text}', "
                "to_jsonb(CAST(:text AS text)))"
            ),
            {"text": text},
        )
    visits(database, 1)
    with database.session() as session:
        assert figures.numbers(session, ident).stand.finished == 1
    assert [subject for _, subject, _, _ in told(database)] == [said]
