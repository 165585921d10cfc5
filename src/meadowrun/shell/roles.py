"""What a person's role does not reach is shown as such on the page, with the reason, instead of
being refused afterwards."""

import re

import flask
import werkzeug.exceptions

from meadowrun.base.audit import Actor
from meadowrun.shell.accounts import may

_FORM = re.compile(r'<form\b[^>]*\bmethod="post"[^>]*>')
_LINK = re.compile(r'<a\b(?P<before>[^>]*?) href="(?P<path>/[^"?#]*)[^"]*"(?P<after>[^>]*)>')
_ACTION = re.compile(r'\baction="([^"?#]*)')


def marked(html: str, actor: Actor) -> str:
    """The page with `data-needs` on every form whose role this person lacks, whose controls the
    script of the shell then holds; and without the address of links that they may not follow."""

    def form(found: re.Match[str]) -> str:
        action = _ACTION.search(found[0])
        role = _lacked(action[1] if action and action[1] else flask.request.path, "POST", actor)
        return found[0] if role is None else f'<form data-needs="{role}"{found[0][5:]}'

    def link(found: re.Match[str]) -> str:
        role = _lacked(found["path"], "GET", actor)
        return (
            found[0]
            if role is None
            else (
                '<a aria-disabled="true" title="This needs the role '
                f'“{role}”."{found["before"]}{found["after"]}>'
            )
        )

    return _LINK.sub(link, _FORM.sub(form, html))


def _lacked(path: str, method: str, actor: Actor) -> str | None:
    """The role that an address of ours needs and this person does not reach, if any."""
    role = _needed(path, method)
    return role if role is not None and not may(actor, role) else None


def _needed(path: str, method: str) -> str | None:
    """The role that an address of ours needs; None for anybody's, and for addresses that are not
    ours."""
    try:
        endpoint, _ = flask.current_app.create_url_adapter(flask.request).match(path, method=method)  # type: ignore[union-attr]
    except (werkzeug.exceptions.HTTPException, werkzeug.routing.RequestRedirect):
        return None
    return getattr(flask.current_app.view_functions.get(endpoint), "needs", None)
