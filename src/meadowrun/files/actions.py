"""Keeping pictures and documents: smaller sizes of pictures are made when they come in; one can be
replaced everywhere."""

import datetime as dt
import io

import sqlalchemy as sa
from PIL import Image, UnidentifiedImageError
from sqlalchemy import orm

from meadowrun.base import audit
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Invalid
from meadowrun.core.language import Wording
from meadowrun.people.actions import store_file
from meadowrun.people.models import StoredFile

#: what a file begins with → its media type; names tell nothing
_PICTURES = {
    b"\x89PNG\r\n\x1a\n": "image/png",
    b"\xff\xd8\xff": "image/jpeg",
    b"GIF87a": "image/gif",
    b"GIF89a": "image/gif",
}
_DOCUMENTS = {b"%PDF-": "application/pdf"}
MOST_BYTES = 8_000_000
MOST_DOCUMENT = 25_000_000
#: A picture of more points than this is a trap for whoever opens it.
MOST_POINTS = 40_000_000
#: Widths in pixels that pictures are kept in besides their own: what emails and phones ask for.
WIDTHS = (1200, 600, 300)


def _kind(content: bytes) -> str | None:
    return next(
        (kind for mark, kind in (_PICTURES | _DOCUMENTS).items() if content.startswith(mark)), None
    )


def _sizes(content: bytes, kind: str) -> tuple[int, int, dict[int, bytes]]:
    """Width, height, and the smaller sizes of a picture. Raises Invalid."""
    try:
        with Image.open(io.BytesIO(content)) as picture:
            width, height = picture.size
            if width * height > MOST_POINTS:
                raise Invalid(
                    Wording(
                        "This picture is %(width)s × %(height)s pixels; make it smaller first.",
                        width=width,
                        height=height,
                    ),
                    "file",
                )
            picture.load()
            made: dict[int, bytes] = {}
            if kind != "image/gif":
                for wanted in WIDTHS:
                    if wanted < width:
                        small = picture.resize(
                            (wanted, max(1, round(height * wanted / width))),
                            Image.Resampling.LANCZOS,
                        )
                        out = io.BytesIO()
                        small.save(
                            out,
                            "PNG" if kind == "image/png" else "JPEG",
                            optimize=True,
                            **({} if kind == "image/png" else {"quality": 84}),
                        )
                        made[wanted] = out.getvalue()
            return width, height, made
    except (UnidentifiedImageError, OSError, ValueError, Image.DecompressionBombError):
        raise Invalid("This picture is damaged; it cannot be opened.", "file") from None


#: One size of a picture.
KEEP_SIZE = "INSERT INTO file_sizes (file_id, width, content) VALUES (:id, :width, :content)"


def keep(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    name: str,
    content: bytes,
    replaces: StoredFile | None = None,
) -> StoredFile:
    """Keeps a picture (PNG, JPEG, GIF) or a document (PDF), told by its content. With `replaces`,
    it takes that file's place and address wherever that is used. Raises Invalid."""
    kind = _kind(content)
    if kind is None:
        raise Invalid("Choose a picture (PNG, JPEG or GIF) or a PDF.", "file")
    picture = kind.startswith("image/")
    most = MOST_BYTES if picture else MOST_DOCUMENT
    if len(content) > most:
        raise Invalid(
            Wording(
                "This file is larger than %(most)s MB. Make it smaller first; readers load it "
                "on phones.",
                most=most // 1_000_000,
            ),
            "file",
        )
    width, height, sizes = _sizes(content, kind) if picture else (None, None, {})
    if replaces is None:
        name = name or ("picture" if picture else "document")
        file = store_file(session, now, name, kind, content, width, height)
    else:
        file = replaces
        _replace(session, file, name, kind, content)
        file.width, file.height = width, height
    for wide, smaller in sizes.items():
        values = {"id": file.id, "width": wide, "content": smaller}
        session.execute(sa.text(KEEP_SIZE), values)
    done = "replaced" if replaces else "uploaded"
    audit.record(session, actor, now, done, "file", file.id, file.name)
    return file


def _replace(session: orm.Session, file: StoredFile, name: str, kind: str, content: bytes) -> None:
    """Puts other content in a file's place; its sizes go. Raises Invalid."""
    if file.media_type.startswith("image/") is not kind.startswith("image/"):
        raise Invalid(
            "A picture can only be replaced by a picture, a document by a document.", "file"
        )
    file.name, file.media_type = name or file.name, kind
    file.size, file.content = len(content), content
    session.execute(sa.text("DELETE FROM file_sizes WHERE file_id = :id"), {"id": file.id})
    session.flush()


def sized(session: orm.Session, file: StoredFile, wanted: int) -> bytes:
    """A picture at least so wide, the smallest that is kept; its own content where none is
    smaller."""
    found = session.execute(
        sa.text(
            "SELECT content FROM file_sizes WHERE file_id = :id AND width >= :wanted ORDER BY "
            "width LIMIT 1"
        ),
        {"id": file.id, "wanted": wanted},
    ).scalar()
    return bytes(found) if found is not None else file.content


def viewed(session: orm.Session, now: dt.datetime, file_id: int, contact_id: int | None) -> None:
    """Somebody looked at a document: a known person, or None."""
    session.execute(
        sa.text("INSERT INTO file_views (file_id, at, contact_id) VALUES (:file, :at, :contact)"),
        {"file": file_id, "at": now, "contact": contact_id},
    )
