"""The village's browsers and their push service: it takes what is encrypted for a browser, the
browser really decrypts it."""

import json
import os
import secrets
from typing import Any

import flask
from cryptography.hazmat.primitives.asymmetric import ec

from meadowrun.base import clock
from meadowrun.core import webpush
from meadowrun.village.store import Store


def new_browser(store: Store, contact: str, site: str) -> dict[str, Any]:
    """A browser whose owner allowed push notifications: its subscription, as browsers give it to
    a website."""
    ident, private, auth = (
        secrets.token_urlsafe(12),
        ec.generate_private_key(ec.SECP256R1()),
        webpush.encode(os.urandom(16)),
    )
    number = webpush.encode(private.private_numbers().private_value.to_bytes(32, "big"))
    store.write(
        "INSERT INTO browsers (id, contact, private, auth) VALUES (?, ?, ?, ?)",
        ident,
        contact,
        number,
        auth,
    )
    return {
        "endpoint": f"{site}/push/{ident}",
        "keys": {"p256dh": webpush.public_key(private), "auth": auth},
    }


def _private(text: str) -> ec.EllipticCurvePrivateKey:
    return ec.derive_private_key(int.from_bytes(webpush.decode(text), "big"), ec.SECP256R1())


def pages(store: Store, site: str) -> flask.Blueprint:
    made = flask.Blueprint("browsers", __name__)

    @made.post("/push/<ident>")
    def take(ident: str) -> Any:
        """The push service: 201 taken, 410 when the permission was taken back, 400 when the browser
        cannot read it."""
        found = store.rows("SELECT * FROM browsers WHERE id = ?", ident)
        if not found or found[0]["gone"]:
            return flask.jsonify(error="gone"), 410
        if not flask.request.headers.get("Authorization", "").startswith("vapid t="):
            return flask.jsonify(error="who asks?"), 401
        try:
            payload = webpush.decrypt(
                flask.request.get_data(), _private(found[0]["private"]), found[0]["auth"]
            )
        except webpush.PushProblem as problem:
            return flask.jsonify(error=str(problem)), 400
        store.write(
            (
                "INSERT OR REPLACE INTO notifications (browser, topic, payload, ttl, at) VALUES "
                "(?, ?, ?, ?, ?)"
            ),
            ident,
            flask.request.headers.get("Topic") or secrets.token_hex(8),
            payload.decode(),
            int(flask.request.headers.get("TTL", "0")),
            clock.machine_now().timestamp(),
        )
        return "", 201

    @made.post("/browser/subscribe")
    def subscribe() -> Any:
        """Somebody on the website allows push notifications: the subscription that their browser
        gets."""
        visitor = str((flask.request.get_json(silent=True) or {}).get("visitor", ""))
        return flask.jsonify(new_browser(store, visitor.partition(".")[0], site))

    @made.get("/browsers")
    def browsers() -> str:
        rows = store.rows(
            "SELECT b.id, b.contact, b.gone, count(n.id) AS notifications FROM browsers b LEFT "
            "JOIN notifications n ON n.browser = b.id GROUP BY b.id ORDER BY max(n.id) DESC NULLS "
            "LAST LIMIT 100"
        )
        return flask.render_template("village/browsers.html", rows=rows)

    @made.get("/browser/<ident>")
    def browser(ident: str) -> str:
        rows = store.rows("SELECT * FROM browsers WHERE id = ?", ident) or flask.abort(404)
        notifications = [
            json.loads(n["payload"])
            for n in store.rows(
                "SELECT payload FROM notifications WHERE browser = ? ORDER BY id DESC", ident
            )
        ]
        return flask.render_template(
            "village/browser.html", browser=rows[0], notifications=notifications
        )

    @made.post("/browser/<ident>/leave")
    def leave(ident: str) -> Any:
        """Takes the permission back: from now on the service says that the browser is gone."""
        store.write("UPDATE browsers SET gone = 1 WHERE id = ?", ident)
        return flask.redirect(flask.url_for("browsers.browser", ident=ident))

    return made
