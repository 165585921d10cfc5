"""Fourteen journeys as a marketer of the demo world types them, a dozen people with names who walk
them, what these do, and what becomes of each: worked out on paper.

A moment is a day, counted from the first midnight after the demo began, and an hour (UTC, London's
in winter): “1 10:00”. One with a “~” is as soon as Meadowrun comes to it: within an hour and a
half.
"""

import dataclasses
from collections.abc import Mapping, Sequence

from tests.store.worked import Worked

#: After so many days everything is looked at.
DAYS = 10


@dataclasses.dataclass(frozen=True)
class Named:
    """Somebody with a name: as whom they are known, and what they do, each at a moment. “click” is
    on the first link of the email that came last; everything else is a kind of event, some with
    details."""

    agreed: bool = True
    fields: Mapping[str, str] = dataclasses.field(default_factory=dict)
    #: field → the day that it holds, counted as the moments are
    days: Mapping[str, int] = dataclasses.field(default_factory=dict)
    phone: str = ""
    does: Sequence[tuple] = ()


LONDON, TOKYO, NEW_YORK = "Europe/London", "Asia/Tokyo", "America/New_York"
NAMED = {
    "Ada": Named(
        phone="+447700900601",
        does=(("0 15:00", "membership_started"), ("2 12:00", "app_opened")),
    ),
    "Ben": Named(does=(("0 15:00", "tickets_viewed"), ("1 10:00", "ticket_bought"))),
    "Cleo": Named(
        agreed=False,
        phone="+447700900603",
        fields={"timezone": TOKYO},
        does=(("0 15:00", "membership_started"),),
    ),
    "Dan": Named(fields={"company": "Hill Clock Works"}),
    "Eve": Named(fields={"company": "Hill Clock Works", "timezone": NEW_YORK}),
    "Fay": Named(days={"open_night": 4}, does=(("0 15:00", "lecture_booked"),)),
    "Gil": Named(
        does=(
            ("0 15:00", "case_closed", {"case": "7"}),
            ("0 16:00", "case_closed", {"case": "9"}),
            ("1 12:00", "survey_answered", {"case": "9"}),
        )
    ),
    "Hal": Named(does=(("0 15:00", "enquiry_sent"), ("1 09:00", "click"))),
    "Ivy": Named(does=(("0 15:00", "shop_ordered"), ("3 20:00", "ticket_bought"))),
    "Kim": Named(does=(("0 15:00", "visited"), ("0 16:00", "lecture_attended"))),
    "Lou": Named(days={"birthday": 1}),
    "Mia": Named(does=(("0 15:00", "survey_answered"), ("1 11:00", "ticket_bought"))),
    "Ned": Named(does=(("0 15:00", "ticket_bought", {"amount": 48}),)),
    "Ola": Named(fields={"timezone": NEW_YORK, "membership": "Patron"}),
}
#: Fay's night is moved to this day at the end of day 1.
MOVED_TO = 6

FOURTEEN = {
    "Welcome over three channels": Worked(
        starts=("started a membership",),
        steps=(
            ("", "email Sky diary"),
            ("", "wait 1 day until 10:00"),
            (
                "",
                "push Clear tonight, as a push notification, otherwise text Clear tonight, by text",
            ),
            ("", "wait for opened the sky guide, 3 days"),
            ("4a", "email Lecture: moons with oceans"),
            ("4b", "email Leonid nights"),
        ),
        happens=(),
        until="",
        become={
            "Ada": [
                (
                    "0 15:00 1 start",
                    "~0 15:00 2 sent",
                    "1 10:00 3 time",
                    "~1 10:00 4 sent",
                    "2 12:00 4a1 4a",
                    "~2 12:00 out sent",
                )
            ],
            # Hers is midnight in Tokyo: 10:00 of the next day there is 1:00 of day 2 here.
            "Cleo": [
                (
                    "0 15:00 1 start",
                    "~0 15:00 2 no_consent",
                    "2 01:00 3 time",
                    "~2 01:00 4 sent",
                    "~5 01:00 4b1 4b",
                    "~5 01:00 out no_consent",
                )
            ],
        },
    ),
    "Looked at tickets": Worked(
        starts=("looked at tickets",),
        steps=(
            ("", "wait 2 hours"),
            ("", "text Clear tonight, by text, otherwise email Leonid nights"),
            ("", "wait 1 day"),
            ("", "email Sky diary"),
        ),
        exits=("bought a ticket",),
        happens=(),
        until="",
        become={
            "Ben": [
                (
                    "0 15:00 1 start",
                    "0 17:00 2 time",
                    "~0 17:00 3 sent",
                    "1 10:00 out rule",
                )
            ]
        },
    ),
    # The agreement of the Clock Works ends on day 9; Eve's 9:00 is 14:00 here.
    "A week before the agreement ends": Worked(
        starts=("7 days before their company's agreement ends",),
        steps=(
            ("", "email Another year of stars"),
            ("", "wait 2 days until 11:00"),
            ("", "email Thank you for coming"),
        ),
        happens=(),
        until="",
        become={
            "Dan": [
                (
                    "2 09:00 1 start",
                    "~2 09:00 2 sent",
                    "4 11:00 3 time",
                    "~4 11:00 out sent",
                )
            ],
            "Eve": [
                (
                    "2 14:00 1 start",
                    "~2 14:00 2 sent",
                    "4 16:00 3 time",
                    "~4 16:00 out sent",
                )
            ],
        },
    ),
    "Around the open night": Worked(
        starts=("booked a lecture",),
        steps=(
            ("", "email Thank you for coming"),
            ("", "wait until 1 day before open night at 10:00"),
            ("", "email Your first night"),
            ("", "wait until 1 day after open night at 12:00"),
            ("", "email Sky diary"),
        ),
        happens=(),
        until="",
        become={
            "Fay": [
                (
                    "0 15:00 1 start",
                    "~0 15:00 2 sent",
                    "5 10:00 3 time",
                    "~5 10:00 4 sent",
                    "7 12:00 5 time",
                    "~7 12:00 out sent",
                )
            ]
        },
    ),
    "A closed case": Worked(
        starts=("closed a case",),
        again="any",
        subject="case",
        steps=(
            ("", "email Thank you for coming"),
            ("", "wait for answered a survey, 3 days"),
            ("2b", "email Sky diary"),
        ),
        happens=(),
        until="",
        become={
            "Gil": [
                (
                    "0 15:00 1 start",
                    "~0 15:00 2 sent",
                    "~3 15:00 2b1 2b",
                    "~3 15:00 out sent",
                ),
                ("0 16:00 1 start", "~0 16:00 2 sent", "1 12:00 out 2a"),
            ]
        },
    ),
    "Enquiries": Worked(
        starts=("sent an enquiry",),
        lane="Interested",
        steps=(
            ("", "email Lecture: moons with oceans"),
            ("", "wait for a click for 2 days"),
            ("A2a", "go over to lane Interested"),
            ("A2b", "email Your first night"),
            ("|", "tag with helpers"),
            ("|", "wait 1 day until 10:00"),
            ("|", "email Sky diary"),
        ),
        happens=(),
        until="",
        become={
            "Hal": [
                (
                    "0 15:00 A1 start",
                    "~0 15:00 A2 sent",
                    "1 09:00 A2a1 A2a",
                    "1 09:00 out jumped",
                ),
                (
                    "1 09:00 B1 jumped_in",
                    "1 09:00 B2 done",
                    "2 10:00 B3 time",
                    "~2 10:00 out sent",
                ),
            ]
        },
    ),
    "Reminders until they come": Worked(
        starts=("ordered from the shop",),
        steps=(
            ("", "email Leonid nights"),
            (
                "",
                "remind up to two times with Sky diary, 2 days apart, at 9:00 and 18:00, until "
                "they buy a ticket",
            ),
        ),
        happens=(),
        until="",
        become={
            "Ivy": [
                (
                    "0 15:00 1 start",
                    "~0 15:00 2 sent",
                    "~2 15:00 2b1 2b",
                    "~3 09:00 2b2 sent",
                    "3 20:00 out 2b2a",
                )
            ]
        },
    ),
    "Calls in turn": Worked(
        starts=("donated",),
        steps=(("", "call for Noor or Will: say thank you, in 3 days"),),
        happens=(),
        until="",
        become={},
    ),
    "Two lanes": Worked(
        starts=("visited the dome", "| came to a lecture"),
        lane="Lectures",
        steps=(
            ("", "wait 1 day"),
            ("", "email Thank you for coming"),
            ("|", "wait 3 hours"),
            ("|", "email Lecture: moons with oceans"),
        ),
        happens=(),
        until="",
        become={
            "Kim": [
                ("0 15:00 A1 start", "1 15:00 A2 time", "~1 15:00 out sent"),
                ("0 16:00 B1 start", "0 19:00 B2 time", "~0 19:00 out sent"),
            ]
        },
    ),
    "Birthdays": Worked(
        starts=("on their birthday",),
        steps=(
            ("", "email Your first night"),
            ("", "wait 1 week"),
            ("", "email Leonid nights"),
        ),
        happens=(),
        until="",
        become={
            "Lou": [
                (
                    "1 09:00 1 start",
                    "~1 09:00 2 sent",
                    "~8 09:00 3 time",
                    "~8 09:00 out sent",
                )
            ]
        },
    ),
    "Survey, then a ticket": Worked(
        starts=("answered a survey",),
        goal="ticket_bought",
        steps=(
            ("", "email Leonid nights"),
            ("", "wait 3 days"),
            ("", "email Your first night"),
            ("", "goal"),
            ("", "wait 1 day until 18:00"),
            ("", "email Thank you for coming"),
        ),
        happens=(),
        until="",
        become={
            "Mia": [
                (
                    "0 15:00 1 start",
                    "~0 15:00 2 sent",
                    "1 11:00 4 goal",
                    "1 11:00 5 done",
                    "2 18:00 6 time",
                    "~2 18:00 out sent",
                )
            ]
        },
    ),
    "Who spends much": Worked(
        starts=("bought a ticket",),
        again="any",
        steps=(
            ("", "if the event's amount is more than 30"),
            ("1a", "email Another year of stars"),
            ("", "wait overnight"),
            ("", "email Thank you for coming"),
        ),
        happens=(),
        until="",
        become={
            "Ned": [
                (
                    "0 15:00 1 start",
                    "0 15:00 1a1 1a",
                    "~0 15:00 2 sent",
                    "1 09:00 3 time",
                    "~1 09:00 out sent",
                )
            ]
        },
    ),
    # 10:30 in New York is 15:30 here.
    "Patrons, every third day": Worked(
        starts=("every third day at 10:30, everyone whose membership is Patron",),
        again="any",
        steps=(("", "email Sky diary"),),
        happens=(),
        until="",
        become={
            "Ola": [
                ("2 15:30 1 start", "~2 15:30 out sent"),
                ("5 15:30 1 start", "~5 15:30 out sent"),
                ("8 15:30 1 start", "~8 15:30 out sent"),
            ]
        },
    ),
    "Two versions": Worked(
        starts=("opened the sky guide",),
        steps=(
            ("", "split half and half"),
            ("1a", "email Sky diary"),
            ("1b", "email Lecture: moons with oceans"),
            ("", "wait 1 day"),
        ),
        happens=(),
        until="",
        become={},
    ),
}
