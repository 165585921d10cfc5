"""The numbers of a journey as the database keeps them are those of its people and its log, whatever
moved them."""

import pytest
import sqlalchemy as sa

from meadowrun.base import clock, jobs
from meadowrun.core.journeys.steps import ExitRule, Path, Span, SplitStep, Start, WaitStep
from meadowrun.journeys import actions, figures, queries, testers
from meadowrun.journeys.models import Journey
from meadowrun.people import duplicates, wholly
from tests.conftest import NOW
from tests.store.counted_journeys import agree
from tests.store.journeys import advance
from tests.store.people import IDA
from tests.store.starting import DAY, HOUR, did, happens, running

ROWS = "SELECT count(*) FROM journey_counts WHERE journey_id = :id"
HALVES = SplitStep("", (Path("", percent=50), Path("", percent=50)))


@pytest.fixture
def walked(database, given):
    """A journey on which everybody waits, some for the second time; its number."""
    ident = running(
        database,
        given,
        Start("event", "visited", id="start"),
        HALVES,
        WaitStep("", Span(3, "day")),
        exits=[ExitRule("", "ticket_bought")],
        again="any",
    )
    happens(database, "visited", NOW + HOUR, 1, 2, 3, 4, 5)
    return ident


def counted(database, ident):
    with database.session() as session:
        return agree(session, ident)


def test_every_way_in_on_and_out_is_counted(database, walked):
    assert counted(database, walked).stand.inside == 5
    happens(database, "ticket_bought", NOW + 2 * HOUR, 1)
    assert sum(counted(database, walked).stand.left.values()) == 1
    advance(database, NOW + 4 * DAY)
    found = counted(database, walked)
    assert (found.stand.inside, found.stand.finished) == (0, 4)
    happens(database, "visited", NOW + 5 * DAY, 1, 2)
    found = counted(database, walked)
    assert (found.stand.entered, found.stand.inside) == (7, 2)


def test_merged_taken_apart_again_and_erased_people_are_counted(database, walked):
    at = NOW + 2 * HOUR
    with clock.at(at), database.session() as session:
        made = duplicates.merge(session, IDA, at, 1, 2, set())
        session.flush()
        assert agree(session, walked).stand.left == {"merged": 1}
        duplicates.undo(session, IDA, at, made.id)
        assert agree(session, walked).stand.inside == 5
        wholly.erase(session, IDA, at, 3)
        session.flush()
        assert agree(session, walked).stand.left == {"erased": 1}


def test_whoever_tries_it_is_not_counted(database, walked):
    advance(database, NOW + 4 * DAY)
    with clock.at(NOW), database.session() as session:
        testers.make(session, IDA, NOW, session.get_one(Journey, walked), 2, 60)
    happens(database, "visited", NOW + 5 * DAY, 1, 2)
    assert counted(database, walked).stand.inside == 1
    advance(database, NOW + 9 * DAY)
    assert counted(database, walked).stand.finished == 6


def test_what_was_added_is_put_together_and_says_the_same(database, walked, job_context):
    for hour in range(3, 9):
        happens(database, "ticket_bought", NOW + hour * HOUR, hour % 5 + 1)
        happens(database, "visited", NOW + hour * HOUR + HOUR / 2, hour % 5 + 1)
    before = counted(database, walked)
    with database.session() as session:
        rows = session.execute(sa.text(ROWS), {"id": walked}).scalar_one()
        figures.add_up(session, rows)
        assert session.execute(sa.text(ROWS), {"id": walked}).scalar_one() == rows
        figures.add_up(session, 0)
        assert session.execute(sa.text(ROWS), {"id": walked}).scalar_one() < rows
    assert counted(database, walked) == before
    jobs.run_here("journeys.add_up")
    assert counted(database, walked) == before


def test_a_move_of_nobody_is_refused(database, walked):
    statement = (
        "INSERT INTO journey_moves (entry_id, at, from_step, to_step, because) "
        "VALUES (999999, now(), 's1', 's2', 'time')"
    )
    with pytest.raises(sa.exc.IntegrityError):
        did(database, statement)


def test_a_journey_goes_with_its_people_and_its_log(database, walked):
    with database.session() as session:
        session.execute(sa.delete(Journey).where(Journey.id == walked))
    with database.session() as session:
        for table in ("journey_entries", "journey_moves", "journey_counts", "journey_went"):
            assert session.execute(sa.text(f"SELECT count(*) FROM {table}")).scalar_one() == 0


def test_what_is_undone_was_never_counted(database, walked):
    before = counted(database, walked)
    with database.session() as session:
        actions.end(session, IDA, NOW + HOUR, queries.journey(session, walked))
        assert agree(session, walked).stand.inside == 0
        session.rollback()
    assert counted(database, walked) == before
