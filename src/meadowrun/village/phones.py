"""The village's phones: a gateway for text messages that takes, refuses and reports by number, and
phones to look into."""

import contextlib
import json
import re
import secrets
import threading
import urllib.request
from typing import Any

import flask

from meadowrun.base import clock, signing
from meadowrun.village.store import Store

#: Numbers that end so are nobody's (refused at once), or switched off for good (taken, then
#: reported as failed).
NOBODY, SWITCHED_OFF = "000", "999"
_LINK = re.compile(r"(https?://[^\s]+)")


def pages(store: Store, app_url: str, secret: str) -> flask.Blueprint:
    """`app_url` is where answers and receipts are told, at an address that `secret` vouches for."""
    made = flask.Blueprint("phones", __name__)
    told = f"{app_url}/gateway/sms/{signing.sign_text(secret, 'gateway', 'sms')}"

    def tell(what: str, data: dict[str, Any]) -> None:
        request = urllib.request.Request(
            f"{told}/{what}", json.dumps(data).encode(), {"Content-Type": "application/json"}
        )
        # When the application is away, a real gateway would try again; the village forgets.
        with contextlib.suppress(OSError):
            urllib.request.urlopen(request, timeout=5).close()

    @made.post("/sms/messages")
    def take() -> Any:
        data = flask.request.get_json()
        number = str(data["to"])
        if number.endswith(NOBODY):
            return flask.jsonify(error="nobody has this number"), 400
        if store.rows("SELECT 1 FROM texts WHERE key = ?", data["id"]):
            return flask.jsonify(error="taken before"), 409
        store.write(
            "INSERT INTO texts (key, number, sender, text, at) VALUES (?, ?, ?, ?, ?)",
            data["id"],
            number,
            data["from"],
            data["text"],
            clock.machine_now().timestamp(),
        )
        status = (
            {"id": data["id"], "status": "failed", "why": "the phone is switched off"}
            if number.endswith(SWITCHED_OFF)
            else {"id": data["id"], "status": "arrived"}
        )
        threading.Timer(0.5, tell, ("receipt", status)).start()
        return flask.jsonify(taken=True), 202

    @made.post("/sms/taken")
    def taken() -> Any:
        ids = [str(i) for i in flask.request.get_json().get("ids", [])]
        return flask.jsonify(
            taken={i: bool(store.rows("SELECT 1 FROM texts WHERE key = ?", i)) for i in ids}
        )

    @made.get("/phones")
    def phones() -> str:
        words = re.sub(r"[^\d+]", "", flask.request.args.get("q", ""))
        rows = store.rows(
            (
                "SELECT number, count(*) AS texts FROM texts WHERE number LIKE ? GROUP BY number "
                "ORDER BY max(id) DESC LIMIT 100"
            ),
            f"%{words}%",
        )
        return flask.render_template("village/phones.html", rows=rows, words=words)

    @made.get("/phone/<number>")
    def phone(number: str) -> str:
        rows = store.rows("SELECT * FROM texts WHERE number = ? ORDER BY id", number)
        parts = [
            (row, [(p, bool(_LINK.fullmatch(p))) for p in _LINK.split(row["text"])]) for row in rows
        ]
        return flask.render_template("village/phone.html", number=number, texts=parts)

    @made.post("/phone/<number>")
    def answer(number: str) -> Any:
        """Somebody answers by text message."""
        text = flask.request.form.get("text", "")[:300]
        store.write(
            "INSERT INTO texts (key, number, sender, text, at, mine) VALUES (?, ?, ?, ?, ?, 1)",
            secrets.token_hex(8),
            number,
            number,
            text,
            clock.machine_now().timestamp(),
        )
        tell("inbound", {"from": number, "text": text})
        return flask.redirect(flask.url_for("phones.phone", number=number))

    return made
