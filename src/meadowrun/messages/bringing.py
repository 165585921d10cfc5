"""Taking in a message that was written elsewhere: MJML becomes lines, HTML stays code."""

import re

from sqlalchemy import orm
from werkzeug.datastructures import FileStorage

from meadowrun.base.errors import Invalid
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.content import document as doc
from meadowrun.core.content import exchange, mailfile
from meadowrun.core.content.code import lost as lost_in_code
from meadowrun.messages import actions, asking, compiling
from meadowrun.shell.request import uploaded


def given(file: FileStorage | None, pasted: str) -> str:
    """The text of an uploaded file, else what was pasted. Raises Invalid."""
    if not file or not file.filename:
        return pasted
    content = uploaded(file)
    if len(content) > exchange.MOST_BYTES:
        raise Invalid("This file is larger than 1 MB.", "file")
    if mailfile.is_email(content):
        # Read as it is: an email names its own charsets.
        return content.decode("latin-1")
    try:
        return content.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise Invalid("This file is not text in UTF-8.", "file") from None


def _from_email(content: bytes, words: Dictionary) -> tuple[doc.Json, list[str]]:
    """A document of an email that was kept as a file: its HTML as code, else its text."""
    try:
        mail = mailfile.read(content)
    except ValueError as problem:
        raise Invalid(str(problem), "code") from None
    if not mail.html:
        return actions.take(
            doc.empty() | {"subject": mail.subject, "plain": mail.text, "text_only": True}, words
        ), mail.lost
    document = actions.take(doc.empty() | {"subject": mail.subject, "code": mail.html}, words)
    return document, [*mail.lost, *lost_in_code(mail.html, document["code"] or "")]


def read_in(
    session: orm.Session, source: str, words: Dictionary, public_url: str
) -> tuple[doc.Json, list[str]]:
    """A document of what was brought, and what of it could not be taken. Conditions that its words
    ask are kept. Raises Invalid."""
    if mailfile.is_email(source[:400].encode(errors="replace")):
        # A file came as its bytes, one sign for each; what was pasted as text.
        try:
            return _from_email(source.encode("latin-1"), words)
        except UnicodeEncodeError:
            return _from_email(source.encode(errors="replace"), words)
    if "<mjml" not in source[:2000].lower():
        document = actions.take(doc.empty() | {"code": source}, words)
        return document, lost_in_code(source, document["code"] or "")
    try:
        brought = exchange.from_mjml(source, public_url)
    except (exchange.ExchangeError, doc.DocumentError) as problem:
        raise Invalid(str(problem), "code") from None
    for lines in brought.asked.values():
        asking.keep(session, lines, words)
    return actions.take(brought.document, words), brought.lost


def as_code(
    session: orm.Session, document: doc.Json, words: Dictionary, public_url: str
) -> doc.Json:
    """A document whose code is what its lines make. What whole lines asked is kept, for the code to
    ask it. Raises CompileError, Invalid."""
    made = compiling.compiled(session, document, public_url, tracked=False)
    html = made.html.replace(f"{public_url}/u/preview", "{{ unsubscribe }}").replace(
        f"{public_url}/p/preview", "{{ preferences }}"
    )
    if not all(made.conditions.values()):
        raise Invalid(
            "Say first who reads each version: one of an “only if” line has nobody yet.", "lines"
        )
    keys = {key: asking.keep(session, lines, words).key for key, lines in made.conditions.items()}
    html = re.sub(r"\bwhen\.(\w+)", lambda m: f"when.{keys.get(m[1], m[1])}", html)
    return document | {"code": html, "lines": []}
