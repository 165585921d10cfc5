"""Taking in a message that was written elsewhere: MJML becomes lines, HTML stays code."""

from werkzeug.datastructures import FileStorage

from meadowrun.base.errors import Invalid
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.content import document as doc
from meadowrun.core.content import exchange
from meadowrun.messages import actions


def given(file: FileStorage | None, pasted: str) -> str:
    """The text of an uploaded file, else what was pasted. Raises Invalid."""
    if not file or not file.filename:
        return pasted
    content = file.read(exchange.MOST_BYTES + 1)
    if len(content) > exchange.MOST_BYTES:
        raise Invalid("This file is larger than 1 MB.", "file")
    try:
        return content.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise Invalid("This file is not text in UTF-8.", "file") from None


def read_in(source: str, words: Dictionary) -> tuple[doc.Json, list[str]]:
    """A document of what was brought, and what of it could not be taken. Raises Invalid."""
    if "<mjml" not in source[:2000].lower():
        return actions.take(doc.empty() | {"code": source}, words), []
    try:
        document, lost = exchange.from_mjml(source)
    except (exchange.ExchangeError, doc.DocumentError) as problem:
        raise Invalid(str(problem), "code") from None
    return actions.take(document, words), lost
