"""Typed sentences and the line each should mean first."""

import datetime as dt

import pytest
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.audience import typed
from meadowrun.core.audience.fields import DetailSpec, Dictionary, EventSpec, FieldSpec
from meadowrun.core.audience.when import easter

TODAY = dt.date(2026, 11, 23)
WORDS = Dictionary.of(
    [
        FieldSpec("membership", "membership", "choice", ("Student", "Single", "Patron")),
        FieldSpec("renewal_date", "renewal date", "date"),
        FieldSpec("birthday", "birthday", "date"),
        FieldSpec("interests", "interests", "choices", ("planets", "meteors")),
        FieldSpec("score", "score", "number"),
        FieldSpec("company.kind", "kind", "choice", ("School", "Club")),
    ],
    [
        EventSpec(
            1,
            "ticket_bought",
            "bought a ticket",
            "buy a ticket",
            (DetailSpec("amount", "amount", "number"),),
        ),
        EventSpec(2, "visited", "visited the dome", "visit the dome"),
        EventSpec(3, "membership_renewed", "renewed a membership", "renew a membership"),
        EventSpec(
            4,
            "lecture_booked",
            "booked a lecture",
            "book a lecture",
            (DetailSpec("lecture", "lecture", "text"),),
        ),
        EventSpec(5, "donated", "donated", "donate", (DetailSpec("amount", "amount", "number"),)),
    ],
    named={
        "message": {1: "Sky diary", 2: "Another year of stars"},
        "topic": {1: "Sky diary"},
        "segment": {7: "Dome regulars"},
        "list": {3: "Open night guests"},
        "campaign": {},
    },
    segment=lambda n: {"lines": []},
)


def said(text):
    return [reading.said for reading in typed.read(text, WORDS, TODAY)]


@pytest.mark.parametrize(
    ("text", "first"),
    [
        (
            "bought a ticket twice since March",
            "who bought a ticket 2 times or more since 1 Mar 2026",
        ),
        (
            "Who bought a ticket at least 3 times in the last two weeks?",
            "who bought a ticket 3 times or more in the last 14 days",
        ),
        (
            "did not visit the dome in the last 90 days",
            "who did not visit the dome in the last 90 days",
        ),
        ("hasn't visited this year", "who did not visit the dome since 1 Jan 2026"),
        (
            "visited exactly once between 1 March 2026 and 2026-04-15",
            "who visited the dome exactly 1 time from 1 Mar 2026 to 15 Apr 2026",
        ),
        (
            "visited in December",
            "who visited the dome at least once from 1 Dec 2025 to 31 Dec 2025",
        ),
        ("visited last month", "who visited the dome at least once from 1 Oct 2026 to 31 Oct 2026"),
        ("never donated", "who did not donate at any time"),
        (
            "donated at least 50 in total",
            "who donated at least once with amount at least 50 in total at any time",
        ),
        (
            "bought a ticket for 20 or more",
            "who bought a ticket at least once with amount at least 20 at any time",
        ),
        (
            "booked a lecture titled Moons of Jupiter",
            (
                "who booked a lecture at least once with lecture contains “moons of jupiter” at "
                "any time"
            ),
        ),
        ("renews within 60 days", "whose renewal date is within the next 60 days"),
        ("renewed within 60 days", "who renewed a membership at least once in the last 60 days"),
        ("renewal date more than 30 days ago", "whose renewal date was more than 30 days ago"),
        ("renewal date before 2024", "whose renewal date is before 1 Jan 2024"),
        ("birthday in the next 14 days", "whose birthday comes round within the next 14 days"),
        (
            "birthday between 24 December and 6 January",
            "whose birthday falls, in any year, between 24 Dec and 6 Jan",
        ),
        ("patrons", "whose membership is Patron"),
        ("not a patron", "whose membership is not Patron"),
        ("membership is Patron or Single", "whose membership is Patron or Single"),
        ("interested in meteors", "whose interests includes meteors"),
        ("lives in Farrow", "whose town is Farrow"),
        ("town is Farrow or Upper Tarn", "whose town is Farrow or Upper Tarn"),
        ("town is not Farrow", "whose town is not Farrow"),
        ("first name is blank", "whose first name is blank"),
        ("email contains hillmail", "whose email address contains “hillmail”"),
        ("score at least 10", "whose score is at least 10"),
        ("score over 10", "whose score is more than 10"),
        ("score under 1,000", "whose score is less than 1,000"),
        ("score 10 or less", "whose score is at most 10"),
        ("score is 10", "whose score is 10"),
        ("score >= 10", "whose score is at least 10"),
        ("score < 2.5", "whose score is less than 2.5"),
        ("score is not 10", "whose score is not 10"),
        ("score not over 10", "whose score is at most 10"),
        (
            "donated more than 50 in total",
            "who donated at least once with amount more than 50 in total at any time",
        ),
        (
            "opened Sky diary in the last 30 days",
            "who opened the message “Sky diary” in the last 30 days",
        ),
        ("was sent a text in the last 7 days", "who was sent any text message in the last 7 days"),
        (
            "was not sent a message in the last 30 days",
            "who was not sent any message in the last 30 days",
        ),
        (
            "did not open any mail in the last 90 days",
            "who did not open any email in the last 90 days among those it was sent to",
        ),
        (
            "clicked in another year of stars",
            "who clicked in the message “Another year of stars” at any time",
        ),
        ("agreed to Sky diary", "who agreed to Sky diary"),
        ("can get email", "who can get email"),
        ("agreed to texts", "who agreed to text messages"),
        ("said no to notices", "who said no to push notifications"),
        ("can get text messages", "who can get text messages"),
        ("cannot get notices", "who cannot get push notifications"),
        ("in the segment dome regulars", "who is in the segment “Dome regulars”"),
        ("on the list open night guests", "who is on the list “Open night guests”"),
        ("10%", "in a steady 10% picked by chance"),
    ],
)
def test_a_sentence(text, first):
    assert said(text)[:1] == [first]


def test_what_is_unclear_has_several_readings():
    assert said("birthday in the next 14 days")[1] == "whose birthday is within the next 14 days"


def test_nonsense_has_none():
    assert said("asdf qwer") == [] and said("") == [] and said("  .!? ") == []


@given(st.text(max_size=80))
def test_any_text_gives_lines_that_can_be_taken(text):
    said(text)


WORDS_OF_SENTENCES = """bought a ticket twice since march not never in the last 30 days renewal
    date within more than 5 ago opened sky diary score at least patron town is farrow in total
    birthday between and 1 may"""


@given(st.lists(st.sampled_from(WORDS_OF_SENTENCES.split()), max_size=9))
def test_any_words_give_lines_that_can_be_taken(words):
    said(" ".join(words))


@pytest.mark.parametrize(
    ("text", "first"),
    [
        (
            "came to a lecture but not a visit",
            (
                "who booked a lecture at least once at any time, and who did not visit the dome at "
                "any time"
            ),
        ),
        (
            "booked a lecture but never visited",
            (
                "who booked a lecture at least once at any time, and who did not visit the dome at "
                "any time"
            ),
        ),
        (
            "no donation but a ticket",
            "who did not donate at any time, and who bought a ticket at least once at any time",
        ),
        (
            "bought tickets three times but not since March",
            (
                "who bought a ticket 3 times or more at any time, and who did not buy a ticket "
                "since 1 Mar 2026"
            ),
        ),
        (
            "bought a ticket or booked a lecture",
            (
                "who bought a ticket at least once at any time, or who booked a lecture at least "
                "once at any time"
            ),
        ),
        (
            "patrons who donated",
            "whose membership is Patron, and who donated at least once at any time",
        ),
        (
            "not a patron and never donated",
            "whose membership is not Patron, and who did not donate at any time",
        ),
        (
            "interested in planets but not meteors",
            "whose interests includes planets, and whose interests does not include meteors",
        ),
        ("members who are not patrons", "whose membership is not Patron"),
        ("Student or Patron", "whose membership is Student or Patron"),
        ("lives in Tarnside or Upper Tarn", "whose town is Tarnside or Upper Tarn"),
        ("addresses at mail.example", "whose email address contains “@mail.example”"),
        ("email ending in farrow.example", "whose email address contains “@farrow.example”"),
        (
            "donated between 20 and 50",
            "who donated at least once with amount between 20 and 50 at any time",
        ),
        ("score between 20 and 10", "whose score is between 10 and 20"),
        ("was sent something in the last 30 days", "who was sent any message in the last 30 days"),
        (
            "bought a ticket last Christmas",
            "who bought a ticket at least once from 24 Dec 2025 to 26 Dec 2025",
        ),
        ("bought a ticket since Easter", "who bought a ticket at least once since 3 Apr 2026"),
        ("visited on Halloween", "who visited the dome at least once on 31 Oct 2026"),
        ("did not visit since New Year’s Day", "who did not visit the dome since 1 Jan 2026"),
    ],
)
def test_negations_lists_ranges_and_holidays(text, first):
    readings = typed.read(text, WORDS, TODAY)
    assert readings[0].said == first and readings[0].unused == ()


@pytest.mark.parametrize(
    ("text", "unused"),
    [
        ("bought a ticket for the Moon Festival", {"moon", "festival"}),
        ("visited on a Saturday", {"saturday"}),
        ("visited often", {"often"}),
        ("patrons in the last 30 days", {"last", "30", "days"}),
        ("patrons of the opera", {"opera"}),
    ],
)
def test_a_reading_says_which_words_it_makes_nothing_of(text, unused):
    assert set(typed.read(text, WORDS, TODAY)[0].unused) == unused


def test_what_is_not_understood_after_a_not_never_turns_the_rest_round():
    reading = typed.read("bought a ticket but not the moon festival", WORDS, TODAY)[0]
    assert reading.said == "who bought a ticket at least once at any time" and reading.unused == (
        "but",
        "not",
        "moon",
        "festival",
    )


# Published dates of Easter Sunday.
@pytest.mark.parametrize(
    "day",
    [
        "1818-03-22",
        "1943-04-25",
        "2000-04-23",
        "2008-03-23",
        "2024-03-31",
        "2026-04-05",
        "2038-04-25",
    ],
)
def test_easter(day):
    assert easter(int(day[:4])) == dt.date.fromisoformat(day)
