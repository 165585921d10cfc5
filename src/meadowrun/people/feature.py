"""Contacts, companies, their fields and events, lists, suppressions."""

from collections.abc import Iterator

from sqlalchemy import orm

from meadowrun.base.manifest import Feature, Find, Found
from meadowrun.people.queries import contacts_page


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
        "views": "People",
        "keeping_views": "People",
        "dictionary_views": "People",
        "duplicates_views": "People",
    },
    tasks=("jobs",),
    does=(
        ("Add a contact", "people.new"),
        ("Suppressed addresses", "keeping.suppressions"),
        ("Fields", "people.fields"),
        ("Lists", "keeping.lists"),
    ),
    finds=(Find("people.show", _contacts),),
)
