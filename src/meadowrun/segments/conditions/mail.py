"""What we sent and the outcome: its SQL, and its forms."""

from sqlalchemy import orm

from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.audience.kinds.mail import BY_PEOPLE, MAIL_WORDS
from meadowrun.core.audience.nodes import MailLine
from meadowrun.core.audience.persons import SENT
from meadowrun.core.channels import KINDS
from meadowrun.core.values import is_whole
from meadowrun.segments.compile import SEPARATE, Compiler
from meadowrun.segments.condition import Condition, Form, Json
from meadowrun.segments.conditions.values import read_span, whole


def sql(compiler: Compiler, line: MailLine) -> str:
    """Those for whom it came of so many messages, or did not."""
    return _predicate(compiler, line) + SEPARATE


def _predicate(compiler: Compiler, line: MailLine) -> str:
    sent = (
        _mailed(compiler, line, "sent")
        if line.latest is None
        else _last(compiler, line, line.latest)
    )
    source = sent if line.what == "sent" else _reacted(compiler, line)
    found = f"SELECT x.contact_id FROM ({source}) x" + (
        f" GROUP BY x.contact_id HAVING count(DISTINCT x.dispatch_id) >= {line.times}"
        if line.times > 1
        else ""
    )
    if line.did:
        return f"(c.id IN ({found}))"
    if line.among == "everyone":
        return f"(c.id NOT IN ({found}))"
    return f"(c.id IN (SELECT x.contact_id FROM ({sent}) x) AND c.id NOT IN ({found}))"


def moments(compiler: Compiler, line: MailLine) -> str:
    """A query of (contact_id, at), for each message the first time it happened."""
    return (
        f"SELECT x.contact_id, min(x.at) AS at FROM ({_reacted(compiler, line)}) x "
        "GROUP BY x.contact_id, x.dispatch_id"
    )


def _dispatches(compiler: Compiler, line: MailLine, column: str) -> list[str]:
    """Conditions on the number of the dispatch."""
    kind, what = line.of
    if kind == "any":
        return []
    if kind == "send":
        return [
            (
                f"{column} IN (SELECT s.id FROM dispatches s WHERE s.owner_kind = 'send' AND "
                f"s.owner_id = {what})"
            )
        ]
    if kind == "channel":
        return [f"{column} IN (SELECT s.id FROM dispatches s WHERE s.channel = '{what}')"]
    if kind == "tag":
        under = f"CAST({compiler.bind(sorted(compiler.words.under(int(what or 0))))} AS bigint[])"
        return [
            f"{column} IN (SELECT s.id FROM dispatches s LEFT JOIN campaigns g ON g.id = "
            "s.campaign_id JOIN messages m ON "
            f"m.id = s.message_id WHERE g.tags && {under} OR m.tags && {under})"
        ]
    return [f"{column} IN (SELECT s.id FROM dispatches s WHERE s.{kind}_id = {what})"]


def _reacted(compiler: Compiler, line: MailLine) -> str:
    """A query of (contact_id, dispatch_id, at) of those for whom what the line asks for
    happened, with the last of what they were sent where only that counts."""
    source = _mailed(compiler, line, line.what)
    if line.latest is None:
        return source
    return (
        f"SELECT x.contact_id, x.dispatch_id, x.at FROM ({source}) x JOIN "
        f"({_last(compiler, line, line.latest)}) l "
        "ON l.contact_id = x.contact_id AND l.dispatch_id = x.dispatch_id"
    )


def _last(compiler: Compiler, line: MailLine, most: int) -> str:
    """A query of (contact_id, dispatch_id, at) of the last so many that each was sent, of those
    the line is about."""
    outcomes = ", ".join(f"'{o}'" for o in SENT)
    where = [
        *compiler.only("d.contact_id"),
        f"d.outcome IN ({outcomes})",
        "d.at IS NOT NULL",
        *_dispatches(compiler, line, "d.dispatch_id"),
    ]
    ranked = (
        "SELECT d.contact_id, d.dispatch_id, d.at, row_number() OVER ("
        "PARTITION BY d.contact_id ORDER BY d.at DESC, d.number DESC) AS place "
        f"FROM deliveries d WHERE {' AND '.join(where)}"
    )
    return (
        f"SELECT r.contact_id, r.dispatch_id, r.at FROM ({ranked}) r WHERE r.place <= {int(most)}"
    )


def _mailed(compiler: Compiler, line: MailLine, what: str) -> str:
    """A query of (contact_id, dispatch_id, at) of those for whom it happened, within the line's
    span."""
    if what in ("sent", "delivered", "bounced"):
        outcomes = ", ".join(f"'{o}'" for o in (SENT if what == "sent" else (what,)))
        where = [
            *compiler.only("d.contact_id"),
            f"d.outcome IN ({outcomes})",
            "d.at IS NOT NULL",
            *_dispatches(compiler, line, "d.dispatch_id"),
            *compiler.within(line.span, "d.at", "d.contact_id"),
        ]
        return (
            "SELECT d.contact_id, d.dispatch_id, d.at FROM deliveries d WHERE "
            f"{' AND '.join(where)}"
        )
    if what == "converted":
        where = [
            *compiler.only("d.contact_id"),
            "d.outcome = 'delivered'",
            *_dispatches(compiler, line, "d.dispatch_id"),
            *compiler.within(line.span, "e.at", "e.contact_id"),
        ]
        return (
            "SELECT d.contact_id, d.dispatch_id, e.at FROM deliveries d JOIN sends w ON "
            "w.dispatch_id = d.dispatch_id JOIN event_kinds k ON "
            "k.key = w.success_event JOIN events e ON e.contact_id = d.contact_id AND "
            "e.kind_id = k.id AND e.at >= d.at "
            "AND e.at < d.at + make_interval(days => w.success_days) WHERE "
            f"{' AND '.join(where)}"
        )
    kinds = "'opened', 'clicked'" if what == "opened" else f"'{what}'"
    where = [
        *compiler.only("r.contact_id"),
        f"r.kind IN ({kinds})",
        *_dispatches(compiler, line, "r.dispatch_id"),
        *compiler.within(line.span, "r.at", "r.contact_id"),
    ]
    if what in BY_PEOPLE:
        where.append("NOT r.machine")
    if line.link is not None:
        where.append(f"r.link = {line.link}")
    return f"SELECT r.contact_id, r.dispatch_id, r.at FROM reactions r WHERE {' AND '.join(where)}"


def form(session: orm.Session, node: Json, slot: str, words: Dictionary) -> Json:
    """Outcome, of which messages, when, and among whom."""
    if slot != "of":
        return {"form": slot, "mail_words": MAIL_WORDS}
    chosen = next(iter((node.get("of") or {}).items()), ("any", None))
    links = None
    if chosen[0] == "message" and chosen[1] and node["what"] == "clicked":
        links = words.links(int(chosen[1]))
    return {
        "form": "mail_of",
        "named": words.named,
        "chosen": chosen,
        "links": links or {},
        "one_of": {kind.key: (kind.one, kind.several) for kind in KINDS.values()},
    }


def patch(node: Json, slot: str, given: Form, words: Dictionary) -> Json:
    """The answer to one of the forms."""
    ident = node["id"]
    if slot == "span":
        if given.get("span") == "latest":
            return {"span": {}, "latest": whole(given.get("latest"), ident)}
        return {"span": read_span(given, ident), "latest": None}
    if slot == "what":
        what, _, did = given.get("pair", "").partition(":")
        chosen: Json = {"what": what, "did": did == "yes", "link": None}
        return chosen | {"latest": None} if what == "sent" else chosen
    if slot == "among":
        return {"among": given.get("among")}
    return _which(node, given, ident)


def _which(node: Json, given: Form, ident: str) -> Json:
    """Which messages; a link stays chosen only while the message does."""
    kind, _, name = given.get("of", "any").partition(":")
    of: Json = {}
    if kind != "any":
        of = {kind: name if kind == "channel" else whole(name, ident)}
    link = given.get("link", "")
    same = of == (node.get("of") or {})
    return {
        "of": of,
        "times": whole(given.get("times") or "1", ident),
        "link": int(link) if is_whole(link) and same else None,
    }


CONDITION = Condition("mail", sql, form, patch, moments)
