"""Contacts, companies, their fields and events, lists, suppressions."""

from collections.abc import Iterator

from sqlalchemy import orm

from meadowrun.base.manifest import Feature, Find, Found
from meadowrun.core.language import Wording
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
        "views": Wording("People"),
        "keeping_views": Wording("People"),
        "dictionary_views": Wording("People"),
        "duplicates_views": Wording("People"),
    },
    tasks=("jobs",),
    does=(
        (Wording("Add a contact"), "people.new"),
        (Wording("Suppressed addresses"), "keeping.suppressions"),
        (Wording("Fields"), "people.fields"),
        (Wording("Lists"), "keeping.lists"),
    ),
    finds=(Find("people.show", _contacts),),
)
