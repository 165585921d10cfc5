"""What is searched for and where a table goes on, in addresses that tell nobody: names and
addresses of people are encrypted in them.

Addresses are kept by browsers, proxies and logs. So a search is posted, and leads to an address
with a token in its place, which can be gone back to, kept and sent to a colleague.
"""

from typing import Any

import flask
from cryptography.fernet import InvalidToken

from meadowrun.base.sealing import box
from meadowrun.shell.request import Answer, settings

#: Characters that are kept of a text: addresses longer than this makes them are refused by many a
#: proxy.
_MOST = 1_000


def token_of(secret: str, text: str) -> str:
    """A token that stands for a text in an address; empty for an empty one."""
    return (
        box(secret, "addresses").encrypt(text[:_MOST].encode(errors="replace")).decode()
        if text
        else ""
    )


def hide(text: str | None) -> str:
    """A token of this installation for a text."""
    return token_of(settings().secret, text or "")


def shown(token: str) -> str:
    """The text that a token stands for; empty where we did not make it."""
    try:
        return (
            box(settings().secret, "addresses").decrypt(token.encode(errors="replace")).decode()
            if token
            else ""
        )
    except InvalidToken:
        return ""


def search_leads_to(endpoint: str, **more: Any) -> Answer:
    """The way from a posted search, the field “q”, to the page that shows what it finds."""
    return flask.redirect(
        flask.url_for(
            endpoint, search=hide(flask.request.form.get("q", "").strip()) or None, **more
        ),
        303,
    )
