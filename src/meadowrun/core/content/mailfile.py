"""An email that was kept as a file (RFC 5322), read as what it says: its subject and its body."""

import dataclasses
import email
import email.policy
import re
from email.message import EmailMessage

#: A file begins like an email when its first line is one of these headers.
_HEADER = re.compile(
    rb"\s*(?:from "
    rb"|(?:return-path|received|delivered-to|from|to|subject|date|message-id|mime-version|content-type|x-[\w-]+|"
    rb"dkim-signature|arc-[\w-]+|authentication-results|reply-to|list-[\w-]+)\s*:)",
    re.IGNORECASE,
)


@dataclasses.dataclass(frozen=True)
class MailFile:
    """What an email says, and what of it cannot be taken along, in words."""

    subject: str
    html: str
    text: str
    lost: list[str]


def is_email(content: bytes) -> bool:
    """Whether a file begins like an email, not like a page."""
    return _HEADER.match(content[:400]) is not None


def read(content: bytes) -> MailFile:
    """The readable parts of an email, in whatever charset and encoding they came. Raises ValueError
    in words."""
    message = email.message_from_bytes(content.lstrip(), policy=email.policy.default)
    assert isinstance(message, EmailMessage)
    html, text = _part(message, "html"), _part(message, "plain")
    if not html.strip() and not text.strip():
        raise ValueError("This email holds no text that can be read.")
    lost = [
        f"the attached file “{part.get_filename() or part.get_content_type()}”"
        for part in message.iter_attachments()
    ]
    inside = len(re.findall(r"""src=["']?cid:""", html, re.IGNORECASE))
    if inside:
        lost.append(
            f"{inside} pictures inside the email; upload them and put their addresses in"
            if inside > 1
            else "a picture inside the email; upload it and put its address in"
        )
    return MailFile(" ".join(str(message["Subject"] or "").split()), html, text, lost)


def _part(message: EmailMessage, kind: str) -> str:
    part = message.get_body((kind,))
    if part is None:
        return ""
    try:
        return str(part.get_content())
    except (LookupError, UnicodeError):
        # A charset that nobody knows: what can be read of it.
        payload = part.get_payload(decode=True)
        return payload.decode("latin-1") if isinstance(payload, bytes) else ""
