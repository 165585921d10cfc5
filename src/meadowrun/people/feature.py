"""Contacts, companies, their fields and events, lists, suppressions."""

from collections.abc import Iterator

from sqlalchemy import orm

from meadowrun.base.manifest import Feature, Find, Found, Way, named
from meadowrun.core.language import Wording
from meadowrun.people.models import Company, PeopleList
from meadowrun.people.queries import contacts_page
from meadowrun.people.reader_language import language_name


def _contacts(session: orm.Session, words: str) -> Iterator[Found]:
    for contact, company in contacts_page(session, words).rows[:6]:
        who = (
            " ".join(x for x in (contact.first_name, contact.last_name) if x)
            or contact.email
            or "(no name)"
        )
        yield Found(contact.email or company or "contact", who, contact.id)


FEATURE = Feature(
    pages={
        "views": Wording("People"),
        "keeping_views": Wording("People"),
        "dictionary_views": Wording("People"),
        "duplicates_views": Wording("People"),
    },
    tasks=("jobs",),
    filters={"language_name": language_name},
    does=(
        Way(
            Wording("People"),
            "people.table",
            Wording(
                "contacts persons subscribers audience search find somebody email address export "
                "download consent language time zone erase"
            ),
        ),
        Way(
            Wording("Add a contact"),
            "people.new",
            Wording("new person"),
            often=True,
        ),
        Way(
            Wording("Companies"),
            "people.companies",
            Wording("organisations businesses firms accounts schools clubs"),
        ),
        Way(
            Wording("Fields and events"),
            "people.fields",
            Wording("attributes properties columns custom data kinds of event"),
        ),
        Way(
            Wording("Lists"),
            "keeping.lists",
            Wording("fixed static imported groups of people new"),
        ),
        Way(
            Wording("Suppressed addresses"),
            "keeping.suppressions",
            Wording(
                "unsubscribed opted out bounced blocked blacklist complained spam do not contact"
            ),
        ),
        Way(
            Wording("Duplicates"),
            "duplicates.table",
            Wording("same person twice merge match people double records"),
        ),
    ),
    finds=(
        Find("people.show", _contacts),
        named("keeping.list_members", PeopleList, "list"),
        named("people.company", Company, "company"),
    ),
)
