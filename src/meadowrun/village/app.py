"""The village: mailboxes to look into, the observatory's website, and its people's doings. Its own
small application."""

import argparse
import datetime as dt
import email
import email.policy
import logging
import pathlib
import threading
import time
from typing import Any

import flask
from werkzeug.serving import make_server

from meadowrun.base import clock
from meadowrun.core import wording
from meadowrun.village import apps, browsers, names, phones
from meadowrun.village.life import Life
from meadowrun.village.post import post_office
from meadowrun.village.store import Store

WORKER = pathlib.Path(__file__).parent.parent / "shell" / "static" / "site-worker.js"
FRAME = (
    "sandbox allow-popups allow-popups-to-escape-sandbox; default-src 'none'; style-src "
    "'unsafe-inline'; img-src http: https: data:"
)


#: The made-up networks on which the observatory has a page.
NETWORKS = ("hedgerow", "millpond", "rookery")
PAGES = ("home", "tickets", "programme", "lectures", "survey", "join", *NETWORKS)


def create_app(store: Store, life: Life, instance: str = "") -> flask.Flask:
    """`life` does what people here do; `store` holds their mail."""
    app = flask.Flask("meadowrun.village")
    app.jinja_env.filters["n"] = wording.number
    weather = {"state": "fine"}

    def mail(ident: int) -> Any:
        found = store.rows("SELECT * FROM mails WHERE id = ?", ident)
        if not found:
            flask.abort(404)
        return found[0]

    app.register_blueprint(phones.pages(store, life.app_url, life.secret))
    app.register_blueprint(browsers.pages(store, life.site))

    app.register_blueprint(names.pages(store))

    app.register_blueprint(apps.pages(store, life.app_url, life.site, life.site_key))

    @app.get("/site-worker.js")
    def worker() -> Any:
        """A website serves the worker that shows push notifications itself: a copy of ours."""
        return flask.send_file(WORKER, mimetype="text/javascript")

    @app.get("/")
    def mailboxes() -> str:
        words = flask.request.args.get("q", "").lower()
        rows = store.rows(
            "SELECT address, count(*) AS mails, max(at) AS newest FROM mails WHERE address LIKE ? "
            "GROUP BY address ORDER BY max(id) DESC LIMIT 100",
            f"%{words}%",
        )
        total = store.rows("SELECT count(*) AS n FROM mails")[0]["n"]
        return flask.render_template("village/mailboxes.html", rows=rows, words=words, total=total)

    @app.get("/mailbox/<address>")
    def mailbox(address: str) -> str:
        rows = store.rows(
            (
                "SELECT id, subject, sender, at FROM mails WHERE address = ? ORDER BY id DESC "
                "LIMIT 200"
            ),
            address.lower(),
        )
        return flask.render_template("village/mailbox.html", rows=rows, address=address)

    @app.get("/mail/<int:ident>")
    def show(ident: int) -> str:
        found = mail(ident)
        message = email.message_from_bytes(found["raw"], policy=email.policy.default)
        plain = message.get_body(("plain",))
        return flask.render_template(
            "village/mail.html",
            mail=found,
            plain=plain.get_content() if plain else "",
            headers=[(k, str(v)) for k, v in message.items()],
            done=flask.request.args.get("done"),
        )

    @app.get("/mail/<int:ident>/html")
    def html(ident: int) -> flask.Response:
        message = email.message_from_bytes(mail(ident)["raw"], policy=email.policy.default)
        part = message.get_body(("html",))
        response = flask.Response(part.get_content() if part else "", mimetype="text/html")
        response.headers["Content-Security-Policy"] = FRAME
        return response

    @app.post("/mail/<int:ident>/do")
    def do(ident: int) -> Any:
        """A person here presses a button of their mail reader."""
        found, deed = mail(ident), flask.request.form.get("deed", "")
        if deed in ("leave", "complain", "return", "reply"):
            life.deed(deed, "", found["address"], found["raw"], found["return_path"], None)
        return flask.redirect(flask.url_for("show", ident=ident, done=deed))

    @app.post("/receipts")
    def receipts() -> Any:
        """Which of these Message-IDs the mail server took."""
        asked = [str(m) for m in (flask.request.get_json(silent=True) or {}).get("message_ids", [])]
        taken = {
            m: bool(store.rows("SELECT 1 FROM mails WHERE message_id = ? LIMIT 1", m))
            for m in asked
        }
        return flask.jsonify(taken=taken)

    @app.get("/weather/next-clear-night")
    def clear_night() -> Any:
        """The weather feed. It can be made slow or taken away, to see what messages make of
        that."""
        if weather["state"] == "down":
            flask.abort(503)
        if weather["state"] == "slow":
            time.sleep(5)
        today = (
            dt.date.fromisoformat(flask.request.args["on"])
            if "on" in flask.request.args
            else clock.machine_now().date()
        )
        night = today + dt.timedelta(days=4 - today.toordinal() % 4)
        return flask.jsonify(
            night=f"{night:%A} {night.day} {night:%B}",
            cloud=round(0.1 + today.toordinal() % 4 / 20, 2),
        )

    @app.post("/weather/state")
    def weather_state() -> Any:
        weather["state"] = {"slow": "slow", "down": "down"}.get(
            flask.request.form.get("state", ""), "fine"
        )
        return flask.redirect(flask.request.referrer or "/")

    @app.post("/live")
    def live() -> Any:
        data = flask.request.get_json()
        return flask.jsonify(
            left=life.live(float(data["since"]), float(data["until"]), int(data.get("most", 300)))
        )

    @app.post("/newcomers")
    def newcomers() -> Any:
        """Takes in people who were brought into the application since, as (number, address,
        telephone); and says up to which number everybody is known."""
        people = [
            (str(number), str(address), str(phone))
            for number, address, phone in flask.request.get_json()["people"]
        ]
        store.take_in(people)
        return flask.jsonify(known=store.last_known())

    @app.get("/healthz")
    def health() -> Any:
        return flask.jsonify(ok=True, instance=instance)

    @app.get("/next")
    def next_due() -> Any:
        return flask.jsonify(due=life.next_due())

    @app.get("/observatory/")
    @app.get("/observatory/<page>")
    def website(page: str = "home") -> Any:
        if page not in PAGES:
            flask.abort(404)
        return flask.render_template(
            "village/site.html",
            page=page,
            networks=NETWORKS,
            app_url=life.app_url,
            key=life.site_key,
        )

    return app


def main() -> None:
    reader = argparse.ArgumentParser(description=__doc__)
    for name in ("--store", "--app", "--secret-file", "--inbound", "--key"):
        reader.add_argument(name, required=True)
    for name in ("--port", "--smtp", "--dns"):
        reader.add_argument(name, type=int, required=True)
    for name in ("--port-fd", "--smtp-fd"):
        reader.add_argument(name, type=int, help="a socket that listens there already")
    reader.add_argument(
        "--instance",
        default="",
        help="what /healthz answers with, so that a supervisor knows its own",
    )
    given = reader.parse_args()
    store = Store(pathlib.Path(given.store))
    host, _, port = given.inbound.rpartition(":")
    home = f"http://127.0.0.1:{given.port}"
    life = Life(
        store,
        pathlib.Path(given.secret_file).read_text().strip(),
        (host, int(port)),
        home,
        given.key,
        given.app,
    )
    office = post_office(store, given.smtp, given.smtp_fd)
    office.start()
    answers = names.name_server(store, given.dns)
    answers.start_thread()
    # Its pages name whose mailbox they are of.
    logging.getLogger("werkzeug").setLevel(logging.WARNING)
    server = make_server(
        "127.0.0.1",
        given.port,
        create_app(store, life, given.instance),
        threaded=True,
        fd=given.port_fd,
    )
    try:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        threading.Event().wait()
    except KeyboardInterrupt:
        pass
    finally:
        server.shutdown()
        office.stop()
        answers.stop()


if __name__ == "__main__":
    main()
