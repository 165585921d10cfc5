"""Reading the store: what is kept, where it is used, who looked at it."""

import dataclasses

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.errors import NotFound
from meadowrun.people.models import StoredFile

#: Files of some types with who viewed them, in the order of the fields of Kept.
KEPT_FILES = """
SELECT f.id, f.name, f.handle, f.media_type, f.size, f.width, f.height, f.created_at,
    count(v.contact_id) AS known, count(DISTINCT v.contact_id) AS people,
    count(v.id) - count(v.contact_id) AS unknown
FROM files f LEFT JOIN file_views v ON v.file_id = f.id
WHERE f.media_type = ANY(:kinds) GROUP BY f.id ORDER BY f.id DESC LIMIT :most"""


@dataclasses.dataclass(frozen=True)
class Kept:
    """A file without its content; `known` and `unknown` are the views of a document by people on
    file and by others."""

    id: int
    name: str
    handle: str
    media_type: str
    size: int
    width: int | None
    height: int | None
    created_at: object
    known: int
    people: int
    unknown: int

    @property
    def picture(self) -> bool:
        return self.media_type.startswith("image/")

    @property
    def address(self) -> str:
        return f"/f/{self.handle}" if self.picture else f"/d/{self.handle}"


def files(session: orm.Session, pictures_only: bool = False, most: int = 500) -> list[Kept]:
    """What is in the store, the newest first."""
    kinds = [
        "image/png",
        "image/jpeg",
        "image/gif",
        *([] if pictures_only else ["application/pdf"]),
    ]
    rows = session.execute(
        sa.text(KEPT_FILES),
        {"kinds": kinds, "most": most},
    )
    return [Kept(*row) for row in rows]


def by_handle(session: orm.Session, handle: str) -> StoredFile:
    found = session.scalar(sa.select(StoredFile).where(StoredFile.handle == handle))
    if found is None:
        raise NotFound("There is no such file.")
    return found


def users(session: orm.Session, handle: str) -> list[tuple[str, int, str]]:
    """Where a file is used: (kind, number, name) of messages and shared parts whose content names
    it."""
    return [
        tuple(row)
        for row in session.execute(
            sa.text(
                "SELECT 'message', id, name FROM messages WHERE document\\:\\:text LIKE :part "
                "UNION ALL SELECT 'shared part', id, name FROM shared_parts WHERE lines\\:\\:text "
                "LIKE :part ORDER BY 3"
            ).bindparams(part=f"%/{handle}%")
        )
    ]
