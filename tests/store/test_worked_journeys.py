"""Journeys of a marketer's own words, walked by people with names: what becomes of each of them was
worked out by hand, on paper, not by what walks them."""

import datetime as dt

import pytest
import sqlalchemy as sa

from meadowrun.shell.models import User
from meadowrun.tasks.actions import set_away
from tests.conftest import NOW
from tests.store import worked
from tests.store.worked import Worked

RENEWAL = (
    "UPDATE companies SET attributes = '{\"contract\": \"2026-12-07\"}' WHERE name = 'Dome Ltd'"
)
NIGHT = (
    "UPDATE contacts SET attributes = attributes || jsonb_build_object('open_night', "
    "CAST(:day AS text)) WHERE first_name = :who"
)
WARM = (
    'UPDATE contacts SET attributes = attributes || \'{"level": "warm"}\' WHERE first_name = :who'
)
BORN = (
    'UPDATE contacts SET attributes = attributes || \'{"birthday": "2000-02-29"}\' '
    "WHERE first_name = 'Finn'"
)


def runs(statement, **values):
    """Does something to the database."""

    def do(database, now):
        with database.session() as session:
            session.execute(sa.text(statement), values)

    return do


WORKED = {
    # A text between 8 and 21, on their own clock; who has no phone gets the email instead.
    "a welcome over several channels by app use": Worked(
        starts=("started a membership",),
        steps=(
            ("", "email Welcome"),
            ("", "wait 1 day until 10:00"),
            ("", "text Get the app, otherwise email Come back"),
            ("", "wait for opened the app, 3 days"),
            ("4a", "email Offer"),
            ("4b", "email Come back"),
        ),
        happens=(
            ("23 15:00", "Ada", "membership_started"),
            ("23 15:00", "Ben", "membership_started"),
            ("23 15:00", "Cleo", "membership_started"),
            ("25 12:00", "Ada", "app_opened"),
            ("26 03:00", "Cleo", "app_opened"),
        ),
        until="30 00:00",
        become={
            "Ada": [
                (
                    "23 15:00 1 start",
                    "23 15:00 2 sent",
                    "24 10:00 3 time",
                    "24 10:00 4 sent",
                    "25 12:00 4a1 4a",
                    "25 12:00 out sent",
                )
            ],
            "Ben": [
                (
                    "23 15:00 1 start",
                    "23 15:00 2 sent",
                    "24 10:00 3 time",
                    "24 10:00 4 sent",
                    "27 10:00 4b1 4b",
                    "27 10:00 out sent",
                )
            ],
            # Midnight of the 24th in Tokyo: 10:00 of the 25th there is 1:00 here. No to email.
            "Cleo": [
                (
                    "23 15:00 1 start",
                    "23 15:00 2 no_consent",
                    "25 01:00 3 time",
                    "25 01:00 4 sent",
                    "26 03:00 4a1 4a",
                    "26 03:00 out no_consent",
                )
            ],
            "Dan": [],
        },
    ),
    # 21:30 is night for texts: Ada's waits for 8:00, and her next wait counts from then.
    "looked at tickets and did not buy": Worked(
        starts=("looked at tickets",),
        steps=(
            ("", "wait 2 hours"),
            ("", "text Last call, otherwise email Come back"),
            ("", "wait 1 day"),
            ("", "email Offer"),
        ),
        exits=("bought a ticket",),
        happens=(
            ("23 19:30", "Ada", "tickets_viewed"),
            ("23 15:00", "Ben", "tickets_viewed"),
            ("23 15:00", "Dan", "tickets_viewed"),
            ("23 16:00", "Dan", "ticket_bought"),
            ("24 10:00", "Ben", "ticket_bought"),
            ("25 09:00", "Ada", "ticket_bought"),
        ),
        until="27 00:00",
        become={
            "Ada": [
                (
                    "23 19:30 1 start",
                    "23 21:30 2 time",
                    "24 08:00 3 sent",
                    "25 08:00 4 time",
                    "25 08:00 out sent",
                )
            ],
            "Ben": [
                (
                    "23 15:00 1 start",
                    "23 17:00 2 time",
                    "23 17:00 3 sent",
                    "24 10:00 out rule",
                )
            ],
            "Dan": [("23 15:00 1 start", "23 16:00 out rule")],
        },
    ),
    # Seven days before 7 December, at 9:00 on each clock: 14:00 here is 9:00 in New York.
    "a renewal by the date of the company": Worked(
        starts=("7 days before their company's contract end",),
        steps=(
            ("", "email Offer"),
            ("", "wait 2 days until 11:00"),
            ("", "email Come back"),
        ),
        happens=(
            ("24 12:00", "", runs(RENEWAL)),
            ("30 09:00", "", runs("SELECT 1")),
            ("30 14:00", "", runs("SELECT 1")),
        ),
        until="2026-12-03T00:00",
        become={
            "Dan": [
                (
                    "30 09:00 1 start",
                    "30 09:00 2 sent",
                    "2026-12-02 11:00 3 time",
                    "2026-12-02 11:00 out sent",
                )
            ],
            "Eve": [
                (
                    "30 14:00 1 start",
                    "30 14:00 2 sent",
                    "2026-12-02 16:00 3 time",
                    "2026-12-02 16:00 out sent",
                )
            ],
            "Ada": [],
        },
    ),
    # Ada's night is moved on the 25th from the 27th to 1 December; Eve's clock is five hours
    # behind.
    "around an event, moved once": Worked(
        starts=("booked the open night",),
        steps=(
            ("", "email Welcome"),
            ("", "wait until 1 day before open night at 10:00"),
            ("", "email Offer"),
            ("", "wait until 1 day after open night at 12:00"),
            ("", "email Survey A"),
        ),
        happens=(
            ("23 14:30", "", runs(NIGHT, who="Ada", day="2026-11-27")),
            ("23 14:30", "", runs(NIGHT, who="Ben", day="2026-11-27")),
            ("23 14:30", "", runs(NIGHT, who="Eve", day="2026-11-27")),
            ("23 15:00", "Ada", "booked"),
            ("23 15:00", "Ben", "booked"),
            ("23 15:00", "Eve", "booked"),
            ("25 09:00", "", runs(NIGHT, who="Ada", day="2026-12-01")),
        ),
        until="2026-12-03T00:00",
        become={
            "Ada": [
                (
                    "23 15:00 1 start",
                    "23 15:00 2 sent",
                    "30 10:00 3 time",
                    "30 10:00 4 sent",
                    "2026-12-02 12:00 5 time",
                    "2026-12-02 12:00 out sent",
                )
            ],
            "Ben": [
                (
                    "23 15:00 1 start",
                    "23 15:00 2 sent",
                    "26 10:00 3 time",
                    "26 10:00 4 sent",
                    "28 12:00 5 time",
                    "28 12:00 out sent",
                )
            ],
            "Eve": [
                (
                    "23 15:00 1 start",
                    "23 15:00 2 sent",
                    "26 15:00 3 time",
                    "26 15:00 4 sent",
                    "28 17:00 5 time",
                    "28 17:00 out sent",
                )
            ],
        },
    ),
    # Ada's answer is about case 9 alone: that of case 7 runs out after three days.
    "a closed case leads to a survey, two cases at once": Worked(
        starts=("closed a case",),
        again="any",
        subject="case",
        steps=(
            ("", "email Survey A"),
            ("", "wait for answered a survey, 3 days"),
            ("2b", "email Come back"),
        ),
        happens=(
            ("23 15:00", "Ada", ("case_closed", {"case": "7"})),
            ("23 16:00", "Ada", ("case_closed", {"case": "9"})),
            # The same case again while it is open starts nothing.
            ("23 18:00", "Ada", ("case_closed", {"case": "9"})),
            ("24 12:00", "Ada", ("survey_answered", {"case": "9"})),
            ("24 12:00", "Ben", ("survey_answered", {"case": "9"})),
        ),
        until="28 00:00",
        become={
            "Ada": [
                (
                    "23 15:00 1 start",
                    "23 15:00 2 sent",
                    "26 15:00 2b1 2b",
                    "26 15:00 out sent",
                ),
                ("23 16:00 1 start", "23 16:00 2 sent", "24 12:00 out 2a"),
            ],
            "Ben": [],
        },
    ),
    # Born on 29 February: in 2027 the day is the 28th. The journey has run since November.
    "a birthday on 29 February": Worked(
        starts=("on their birthday",),
        steps=(("", "email Offer"), ("", "wait 1 week"), ("", "email Come back")),
        happens=(
            ("23 15:00", "", runs(BORN)),
            ("2027-02-27T09:00", "", runs("SELECT 1")),
            ("2027-02-28T08:59", "", runs("SELECT 1")),
            ("2027-02-28T09:00", "", runs("SELECT 1")),
            ("2027-03-01T09:00", "", runs("SELECT 1")),
        ),
        until="2027-03-10T00:00",
        become={
            "Finn": [
                (
                    "2027-02-28 09:00 1 start",
                    "2027-02-28 09:00 2 sent",
                    "2027-03-07 09:00 3 time",
                    "2027-03-07 09:00 out sent",
                )
            ],
            "Ada": [],
        },
    ),
    # Ada clicks and goes on to the other lane; Ben opens only, which is no click.
    "nurturing with reactions, points and a jump": Worked(
        starts=("visited the dome",),
        lane="Interested",
        steps=(
            ("", "email Welcome"),
            ("", "wait for a click for 2 days"),
            ("A2a", "go over to lane Interested"),
            ("A2b", "email Come back"),
            ("A2b", "wait for a click for 1 day"),
            ("A2b2a", "go over to lane Interested"),
            ("A2b2b", "they leave"),
            ("|", "set level to warm"),
            ("|", "wait until Thursday at 10:00"),
            ("|", "email Offer"),
        ),
        happens=(
            ("23 15:00", "Ada", "visited"),
            ("23 15:00", "Ben", "visited"),
            ("23 15:00", "Dan", "visited"),
            ("24 09:00", "", worked.reacts("Ada", "clicked")),
            ("24 09:00", "", worked.reacts("Ben", "opened")),
            ("26 12:00", "", worked.reacts("Dan", "clicked")),
        ),
        until="2026-12-04T00:00",
        become={
            "Ada": [
                (
                    "23 15:00 A1 start",
                    "23 15:00 A2 sent",
                    "24 09:00 A2a1 A2a",
                    "24 09:00 out jumped",
                ),
                (
                    "24 09:00 B1 jumped_in",
                    "24 09:00 B2 done",
                    "26 10:00 B3 time",
                    "26 10:00 out sent",
                ),
            ],
            "Ben": [
                (
                    "23 15:00 A1 start",
                    "23 15:00 A2 sent",
                    "25 15:00 A2b1 A2b",
                    "25 15:00 A2b2 sent",
                    "26 15:00 A2b2b1 A2b2b",
                    "26 15:00 out exit",
                )
            ],
            # He clicks in the second email, two hours after Thursday 10:00: the next one it is.
            "Dan": [
                (
                    "23 15:00 A1 start",
                    "23 15:00 A2 sent",
                    "25 15:00 A2b1 A2b",
                    "25 15:00 A2b2 sent",
                    "26 12:00 A2b2a1 A2b2a",
                    "26 12:00 out jumped",
                ),
                (
                    "26 12:00 B1 jumped_in",
                    "26 12:00 B2 done",
                    "2026-12-03 10:00 B3 time",
                    "2026-12-03 10:00 out sent",
                ),
            ],
        },
    ),
    # Two days after 15:00 the first reminder waits for 9:00 of the next day, which its own wait
    # counts from; Ben buys after the first, Eve's 9:00 is 14:00 here and her 18:00 is 23:00.
    "reminders until they act, at other hours": Worked(
        starts=("looked at tickets",),
        steps=(
            ("", "email Offer"),
            (
                "",
                "remind up to two times with Come back, 2 days apart, at 9:00 and 18:00, until "
                "they buy a ticket",
            ),
        ),
        happens=(
            ("23 15:00", "Ada", "tickets_viewed"),
            ("23 15:00", "Ben", "tickets_viewed"),
            ("23 15:00", "Dan", "tickets_viewed"),
            ("23 15:00", "Eve", "tickets_viewed"),
            ("24 12:00", "Dan", "ticket_bought"),
            ("26 20:00", "Ben", "ticket_bought"),
        ),
        until="2026-12-02T00:00",
        become={
            "Ada": [
                (
                    "23 15:00 1 start",
                    "23 15:00 2 sent",
                    "25 15:00 2b1 2b",
                    "26 09:00 2b2 sent",
                    "28 09:00 2b2b1 2b2b",
                    "28 18:00 out sent",
                )
            ],
            "Ben": [
                (
                    "23 15:00 1 start",
                    "23 15:00 2 sent",
                    "25 15:00 2b1 2b",
                    "26 09:00 2b2 sent",
                    "26 20:00 out 2b2a",
                )
            ],
            "Dan": [("23 15:00 1 start", "23 15:00 2 sent", "24 12:00 out 2a")],
            # 15:00 here is 10:00 there: two days later the hour from 9:00 to 10:00 has just passed.
            "Eve": [
                (
                    "23 15:00 1 start",
                    "23 15:00 2 sent",
                    "25 15:00 2b1 2b",
                    "26 14:00 2b2 sent",
                    "28 14:00 2b2b1 2b2b",
                    "28 23:00 out sent",
                )
            ],
        },
    ),
    # Whoever buys in between goes on behind the goal, past the reminder.
    "a goal among the steps": Worked(
        starts=("visited the dome",),
        goal="ticket_bought",
        steps=(
            ("", "email Welcome"),
            ("", "wait 3 days"),
            ("", "email Come back"),
            ("", "goal"),
            ("", "wait 1 day until 18:00"),
            ("", "email Survey A"),
        ),
        happens=(
            ("23 15:00", "Ada", "visited"),
            ("23 15:00", "Ben", "visited"),
            ("24 11:00", "Ben", "ticket_bought"),
            ("27 09:00", "Ada", "ticket_bought"),
        ),
        until="29 00:00",
        become={
            "Ada": [
                (
                    "23 15:00 1 start",
                    "23 15:00 2 sent",
                    "26 15:00 3 time",
                    "26 15:00 4 sent",
                    "26 15:00 5 done",
                    "27 18:00 6 time",
                    "27 18:00 out sent",
                )
            ],
            "Ben": [
                (
                    "23 15:00 1 start",
                    "23 15:00 2 sent",
                    "24 11:00 4 goal",
                    "24 11:00 5 done",
                    "25 18:00 6 time",
                    "25 18:00 out sent",
                )
            ],
        },
    ),
    # More than 100 is more than 100: Ben's 100 is not.
    "what the event said decides": Worked(
        starts=("bought a ticket",),
        again="any",
        steps=(
            ("", "if the event's amount is more than 100"),
            ("1a", "email Offer"),
            ("", "wait overnight"),
            ("", "email Survey A"),
        ),
        happens=(
            ("23 15:00", "Ada", ("ticket_bought", {"amount": 150})),
            ("23 15:00", "Ben", ("ticket_bought", {"amount": 100})),
            ("25 08:00", "Ben", ("ticket_bought", {"amount": 101})),
        ),
        until="27 00:00",
        become={
            "Ada": [
                (
                    "23 15:00 1 start",
                    "23 15:00 1a1 1a",
                    "23 15:00 2 sent",
                    "24 09:00 3 time",
                    "24 09:00 out sent",
                )
            ],
            "Ben": [
                ("23 15:00 1 start", "23 15:00 2 1b", "24 09:00 3 time", "24 09:00 out sent"),
                (
                    "25 08:00 1 start",
                    "25 08:00 1a1 1a",
                    "25 08:00 2 sent",
                    "26 09:00 3 time",
                    "26 09:00 out sent",
                ),
            ],
        },
    ),
    # 10:30 in New York is 15:30 here; Ben is warm from the 30th on.
    "certain people on each day of a rhythm": Worked(
        starts=("every Thursday at 10:30, everyone whose level is warm",),
        again="any",
        steps=(("", "email Offer"),),
        happens=(
            ("23 15:00", "", runs(WARM, who="Ada")),
            ("23 15:00", "", runs(WARM, who="Eve")),
            ("26 10:29", "", runs("SELECT 1")),
            ("26 10:30", "", runs("SELECT 1")),
            ("26 15:30", "", runs("SELECT 1")),
            ("30 12:00", "", runs(WARM, who="Ben")),
            ("2026-12-03T10:30", "", runs("SELECT 1")),
            ("2026-12-03T15:30", "", runs("SELECT 1")),
        ),
        until="2026-12-05T00:00",
        become={
            "Ada": [
                ("26 10:30 1 start", "26 10:30 out sent"),
                ("2026-12-03 10:30 1 start", "2026-12-03 10:30 out sent"),
            ],
            "Ben": [("2026-12-03 10:30 1 start", "2026-12-03 10:30 out sent")],
            "Eve": [
                ("26 15:30 1 start", "26 15:30 out sent"),
                ("2026-12-03 15:30 1 start", "2026-12-03 15:30 out sent"),
            ],
            "Dan": [],
        },
    ),
    # Two lanes beside each other: whoever does both is in both.
    "two lanes with starts of their own": Worked(
        starts=("booked the open night", "| looked at tickets"),
        lane="Lookers",
        steps=(
            ("", "email Welcome"),
            ("", "wait 1 day"),
            ("", "email Survey A"),
            ("|", "wait 3 hours"),
            ("|", "email Offer"),
        ),
        happens=(
            ("23 15:00", "Ada", "booked"),
            ("23 16:00", "Ada", "tickets_viewed"),
            ("23 16:00", "Ben", "tickets_viewed"),
            # Once per person: a second look starts nothing.
            ("25 16:00", "Ben", "tickets_viewed"),
        ),
        until="27 00:00",
        become={
            "Ada": [
                (
                    "23 15:00 A1 start",
                    "23 15:00 A2 sent",
                    "24 15:00 A3 time",
                    "24 15:00 out sent",
                ),
                ("23 16:00 B1 start", "23 19:00 B2 time", "23 19:00 out sent"),
            ],
            "Ben": [("23 16:00 B1 start", "23 19:00 B2 time", "23 19:00 out sent")],
        },
    ),
}


@pytest.mark.parametrize("name", WORKED)
def test_it_becomes_of_everybody_what_was_worked_out(database, settings, job_context, keeper, name):
    case = WORKED[name]
    campaign = worked.world(database)
    ident = worked.begin(database, campaign, case)
    worked.live(database, case)
    for who, entries in case.become.items():
        assert worked.became(database, ident, who) == [list(one) for one in entries], who


def test_calls_go_in_turn_past_whoever_is_away(database, settings, job_context, keeper):
    """Hetty and Otto in turn; Otto is away on the 24th, so that hers are two in a row. A call is
    due three days after somebody came, whenever it was that they were given it."""
    with database.session() as session:
        for name in ("Hetty Brook", "Otto Lind"):
            address = f"{name.split()[0].lower()}@farrowhill.example"
            session.add(
                User(email=address, name=name, password_hash="", role="author", created_at=NOW)
            )
        session.flush()
        otto = session.scalar(sa.select(User.id).where(User.name == "Otto Lind"))
        set_away(session, otto, dt.date(2026, 11, 24), dt.date(2026, 11, 24))
    case = Worked(
        starts=("visited the dome",),
        steps=(("", "call for Hetty or Otto: ask how it was, in 3 days"),),
        happens=(
            ("23 15:00", "Ada", "visited"),
            ("24 10:00", "Ben", "visited"),
            ("24 11:00", "Dan", "visited"),
            ("25 10:00", "Eve", "visited"),
            ("25 11:00", "Finn", "visited"),
        ),
        until="26 00:00",
        become={},
    )
    campaign = worked.world(database)
    worked.begin(database, campaign, case)
    worked.live(database, case)
    assert worked.tasks(database) == [
        ("Ada", "Hetty Brook", "26 15:00"),
        ("Ben", "Hetty Brook", "27 10:00"),
        ("Dan", "Hetty Brook", "27 11:00"),
        ("Eve", "Otto Lind", "28 10:00"),
        ("Finn", "Hetty Brook", "28 11:00"),
    ]


def test_two_versions_of_a_survey_are_divided_by_chance(database, settings, job_context, keeper):
    """Each gets one of the two, and the same one the second time; what was sent is what the mail
    server took."""
    everybody = ("Ada", "Ben", "Dan", "Eve", "Finn")
    case = Worked(
        starts=("visited the dome",),
        again="any",
        steps=(
            ("", "split half and half"),
            ("1a", "email Survey A"),
            ("1b", "email Survey B"),
            ("", "wait 1 hour"),
        ),
        happens=[
            (moment, who, "visited") for moment in ("23 15:00", "25 15:00") for who in everybody
        ],
        until="27 00:00",
        become={},
    )
    campaign = worked.world(database)
    ident = worked.begin(database, campaign, case)
    worked.live(database, case)
    sides = []
    for who in everybody:
        first, second = worked.became(database, ident, who)
        side = first[1][-1]
        assert first == [
            "23 15:00 1 start",
            f"23 15:00 1{side}1 1{side}",
            "23 15:00 2 sent",
            "23 16:00 out time",
        ]
        assert second == [line.replace("23 ", "25 ", 1) for line in first]
        sides.append(side)
    assert set(sides) <= {"a", "b"}
    assert len(keeper.letters) == 2 * len(everybody)
