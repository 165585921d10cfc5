"""The village's phones with the observatory's app: a gateway for push notifications to them, and
phones to look into."""

import json
import secrets
import urllib.request
from typing import Any

import flask

from meadowrun.base import clock
from meadowrun.village.store import Store


def new_app(store: Store, contact: str, system: str) -> dict[str, str]:
    """The app on somebody's phone: its system and the token that push notifications reach it by."""
    token = secrets.token_urlsafe(16)
    store.write(
        "INSERT INTO apps (token, contact, system) VALUES (?, ?, ?)", token, contact, system
    )
    return {"system": system, "token": token}


def pages(store: Store, app_url: str, site: str, site_key: str) -> flask.Blueprint:
    made = flask.Blueprint("apps", __name__)

    @made.post("/apps/notifications")
    def take() -> Any:
        """The gateway: 202 taken, 410 when the app is gone, 400 when it is for the other system."""
        data = flask.request.get_json()
        found = store.rows("SELECT * FROM apps WHERE token = ?", str(data["to"]))
        if not found or found[0]["gone"]:
            return flask.jsonify(error="gone"), 410
        if found[0]["system"] != data["system"]:
            return flask.jsonify(error="this phone has the other system"), 400
        store.write(
            (
                "INSERT OR REPLACE INTO notifications (browser, topic, payload, ttl, at) VALUES "
                "(?, ?, ?, ?, ?)"
            ),
            found[0]["token"],
            str(data["id"]),
            json.dumps(data["notification"]),
            int(data["ttl"]),
            clock.machine_now().timestamp(),
        )
        return flask.jsonify(taken=True), 202

    @made.post("/app/install")
    def install() -> Any:
        """Somebody on the website gets the app, and allows push notifications in it: the app tells
        the application."""
        visitor = str((flask.request.get_json(silent=True) or {}).get("visitor", ""))
        contact = visitor.partition(".")[0]
        phone = new_app(store, contact, "ios" if contact[-1:] in "02468" else "android")
        body = {"key": site_key, "visitor": visitor, "subscription": phone}
        request = urllib.request.Request(
            f"{app_url}/site/push",
            json.dumps(body).encode(),
            {"Content-Type": "application/json", "Origin": site},
        )
        try:
            urllib.request.urlopen(request, timeout=5).close()
        except OSError:
            return flask.jsonify(app="")
        return flask.jsonify(app=flask.url_for("apps.app", token=phone["token"]))

    @made.get("/apps")
    def apps() -> str:
        rows = store.rows(
            "SELECT a.token, a.contact, a.system, a.gone, count(n.id) AS notifications FROM apps "
            "a LEFT JOIN notifications n ON n.browser = a.token GROUP BY a.token ORDER BY "
            "max(n.id) DESC NULLS LAST LIMIT 100"
        )
        return flask.render_template("village/apps.html", rows=rows)

    @made.get("/app/<token>")
    def app(token: str) -> str:
        rows = store.rows("SELECT * FROM apps WHERE token = ?", token) or flask.abort(404)
        notifications = [
            json.loads(n["payload"])
            for n in store.rows(
                "SELECT payload FROM notifications WHERE browser = ? ORDER BY id DESC", token
            )
        ]
        return flask.render_template(
            "village/app.html",
            phone=rows[0],
            notifications=notifications,
            opened=flask.request.args.get("opened"),
        )

    @made.post("/app/<token>/remove")
    def remove(token: str) -> Any:
        """Takes the app off: from now on the gateway says that it is gone."""
        store.write("UPDATE apps SET gone = 1 WHERE token = ?", token)
        return flask.redirect(flask.url_for("apps.app", token=token))

    return made
