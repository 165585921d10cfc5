"""Tags with a path, on people and on what is made."""

from collections.abc import Iterator

from sqlalchemy import orm

from meadowrun.base.manifest import Feature, Find, Found, Way
from meadowrun.core.language import Wording
from meadowrun.people.asked import words
from meadowrun.tags.page import of_contact
from meadowrun.tags.queries import paths


def _tags(session: orm.Session, said: str) -> Iterator[Found]:
    return (Found("tag", path, ident) for ident, path in paths(session).items() if said in path)


FEATURE = Feature(
    pages={"views": Wording("People"), "chosen_views": Wording("People")},
    does=(
        Way(
            Wording("Tags"),
            "tags.table",
            Wording("labels folders categories"),
        ),
    ),
    finds=(Find("tags.show", _tags),),
    parts={"contact.known": of_contact},
    says={"tag_paths": lambda: words().named.get("tag", {})},
    filters={"tag_path": lambda number: words().name("tag", number) or ""},
)
