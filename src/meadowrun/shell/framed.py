"""Content of a user shown inside a page of ours, where nothing of it can run."""

import flask


def in_frame(html: str, heard: bool = False) -> flask.Response:
    """A user's content as the page of a sandboxed frame. With `heard`, the editor may listen to
    clicks in it and nothing leads anywhere; nothing in a frame ever runs."""
    response = flask.Response(html, mimetype="text/html")
    response.headers["Content-Security-Policy"] = (
        f"sandbox {'allow-same-origin' if heard else 'allow-popups'}; default-src 'none'; "
        "style-src 'unsafe-inline'; "
        "img-src http: https: data:; frame-ancestors 'self'"
    )
    response.headers["X-Frame-Options"] = "SAMEORIGIN"
    return response
