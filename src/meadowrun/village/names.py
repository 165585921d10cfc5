"""The village's name server: a real one, that answers what its domains publish, and a page to
publish more."""

import flask
from dnslib import MX, QTYPE, RCODE, RR, TXT, DNSRecord
from dnslib.server import BaseResolver, DNSHandler, DNSLogger, DNSServer

from meadowrun.village.store import Store

#: What can be published here.
KINDS = ("TXT", "MX")
#: The longest text that one string of a TXT record holds (RFC 1035, 3.3.14).
_STRING = 255


class _Zone(BaseResolver):  # type: ignore[misc]
    """Answers from the store; a name of which nothing is known does not exist."""

    def __init__(self, store: Store):
        self._store = store

    def resolve(self, request: DNSRecord, handler: DNSHandler) -> DNSRecord:
        reply = request.reply()
        name = str(request.q.qname).rstrip(".").lower()
        rows = self._store.rows("SELECT kind, value FROM records WHERE name = ?", name)
        if not rows:
            reply.header.rcode = RCODE.NXDOMAIN
            return reply
        for row in rows:
            if row["kind"] == QTYPE[request.q.qtype]:
                reply.add_answer(_answer(name, row["kind"], row["value"]))
        return reply


def _answer(name: str, kind: str, value: str) -> RR:
    """One record as it is answered."""
    if kind == "MX":
        return RR(name, QTYPE.MX, rdata=MX(value, 10), ttl=60)
    raw = value.encode()
    parts = [raw[place : place + _STRING] for place in range(0, len(raw), _STRING)]
    return RR(name, QTYPE.TXT, rdata=TXT(parts), ttl=60)


def name_server(store: Store, port: int) -> DNSServer:
    """A name server on the loopback, not started yet; UDP, as resolvers ask first."""
    quiet = DNSLogger(logf=lambda _: None)
    return DNSServer(_Zone(store), port=port, address="127.0.0.1", logger=quiet)


def pages(store: Store) -> flask.Blueprint:
    """What is published, and a form to publish more, as the owner of a domain would."""
    made = flask.Blueprint("names", __name__)

    @made.get("/names")
    def names() -> str:
        rows = store.rows("SELECT name, kind, value FROM records ORDER BY name, kind, value")
        return flask.render_template("village/names.html", rows=rows, kinds=KINDS)

    @made.post("/names")
    def publish() -> flask.typing.ResponseReturnValue:
        form = flask.request.form
        name, value = form.get("name", "").strip(), form.get("value", "").strip()
        if name and value and form.get("kind") in KINDS:
            store.publish(name, form["kind"], value)
        return flask.redirect("/names")

    @made.post("/names/delete")
    def delete() -> flask.typing.ResponseReturnValue:
        form = flask.request.form
        store.write(
            "DELETE FROM records WHERE name = ? AND kind = ? AND value = ?",
            form.get("name", ""),
            form.get("kind", ""),
            form.get("value", ""),
        )
        return flask.redirect("/names")

    return made
