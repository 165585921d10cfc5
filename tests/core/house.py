"""The fields, events and names of a house as a marketer knows them, for tests that read
sentences."""

from meadowrun.core.audience.fields import DetailSpec, Dictionary, EventSpec, FieldSpec


def number(key):
    return DetailSpec(key, key, "number")


def text(key):
    return DetailSpec(key, key, "text")


FIELDS = [
    FieldSpec("company.agreement_ends", "agreement ends", "date"),
    FieldSpec("birthday", "birthday", "date"),
    FieldSpec(
        "interests",
        "interests",
        "choices",
        ("planets", "deep sky", "photography", "history", "children", "meteors"),
    ),
    FieldSpec("involvement", "involvement", "number"),
    FieldSpec("company.kind", "kind", "choice", ("School", "Club", "Sponsor")),
    FieldSpec("lends_telescope", "lends telescope", "yes_no"),
    FieldSpec("member_since", "member since", "date"),
    FieldSpec("membership", "membership", "choice", ("Student", "Single", "Household", "Patron")),
    FieldSpec("company.pupils", "pupils", "number"),
    FieldSpec("region", "region", "choice", ("Farrow Vale", "Tarnside", "Upper Tarn", "Ossenmere")),
    FieldSpec("renewal_date", "renewal date", "date"),
]
EVENTS = [
    EventSpec(14, "survey_answered", "answered a survey", "answer a survey", (number("score"),)),
    EventSpec(5, "lecture_booked", "booked a lecture", "book a lecture", (text("lecture"),)),
    EventSpec(
        3, "ticket_bought", "bought a ticket", "buy a ticket", (text("night"), number("amount"))
    ),
    EventSpec(6, "lecture_attended", "came to a lecture", "come to a lecture", (text("lecture"),)),
    EventSpec(13, "donated", "donated", "donate", (number("amount"),)),
    EventSpec(
        10, "membership_lapsed", "let a membership lapse", "let a membership lapse", (text("tier"),)
    ),
    EventSpec(2, "tickets_viewed", "looked at tickets", "look at tickets", (text("night"),)),
    EventSpec(7, "app_opened", "opened the sky guide", "open the sky guide", ()),
    EventSpec(
        12, "shop_ordered", "ordered from the shop", "order from the shop", (number("amount"),)
    ),
    EventSpec(
        9, "membership_renewed", "renewed a membership", "renew a membership", (text("tier"),)
    ),
    EventSpec(11, "enquiry_sent", "sent an enquiry", "send an enquiry", (text("subject"),)),
    EventSpec(
        8, "membership_started", "started a membership", "start a membership", (text("tier"),)
    ),
    EventSpec(1, "page_viewed", "viewed a page", "view a page", (text("page"),)),
    EventSpec(4, "visited", "visited the dome", "visit the dome", (text("night"),)),
]
NAMED = {
    "campaign": {
        1: "Sky diary",
        2: "Leonid nights",
        3: "Autumn lectures",
        4: "After your visit",
        5: "Renewals, winter",
    },
    "list": {1: "Open night guests"},
    "message": {
        1: "Another year of stars",
        2: "Leonid nights",
        3: "Sky diary",
        4: "Lecture: moons with oceans",
        5: "Thank you for coming",
    },
    "grouping": {1: "Regions"},
    "score": {1: "Interest", 2: "Generosity"},
    "segment": {
        1: "Loyal members near renewal",
        2: "Members",
        3: "Looked at tickets, did not buy",
        4: "Dome regulars",
        5: "School contacts",
        6: "Birthdays in the next fortnight",
        7: "Gave generously this year",
    },
    "send": {1: "Another year of stars"},
    "tag": {
        1: "desk",
        2: "desk/called",
        3: "desk/no-calls",
        4: "guests",
        5: "guests/spring-fair",
        6: "guests/school-visit",
        7: "helpers",
        8: "helpers/telescopes",
        9: "helpers/till",
        10: "press",
        11: "members",
        12: "members/renewal",
        14: "newsletter",
        15: "season/leonids",
        16: "nights",
        17: "lectures",
    },
    "topic": {1: "Sky diary", 2: "Members’ news", 3: "Nights and lectures", 4: "Schools"},
}
WORDS = Dictionary.of(FIELDS, EVENTS, named=NAMED, segment=lambda n: {"lines": []})
