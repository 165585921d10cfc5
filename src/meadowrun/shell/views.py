"""The page of today, the one box, the demo clock, and health."""

import datetime as dt

import flask

from meadowrun.base import audit, clock, jobs
from meadowrun.base.audit import record
from meadowrun.base.db import called
from meadowrun.base.errors import Invalid, NotFound
from meadowrun.campaigns.models import Campaign
from meadowrun.messages.models import Message
from meadowrun.people.queries import contacts_page
from meadowrun.results.queries import kept_numbers
from meadowrun.scores.models import Score
from meadowrun.segments.models import Segment
from meadowrun.sends import queries as sends
from meadowrun.sends import troubles
from meadowrun.sends.models import Send
from meadowrun.sends.queries import channels_of, recent, tally
from meadowrun.shell import later
from meadowrun.shell.request import actor, database, db, needs, now, public, settings, zone
from meadowrun.tags.queries import paths as tag_paths

pages = flask.Blueprint("shell", __name__)

#: What the one box can do, besides finding things: words, address.
ACTIONS = (("Import people from a file", "imports.start"), ("New segment", "segments.new"),
           ("New message", "messages.new"), ("New campaign", "campaigns.new"), ("Add a contact", "people.new"),
           ("Suppressed addresses", "keeping.suppressions"), ("Fields", "people.fields"), ("Lists", "keeping.lists"),
           ("Tags", "tags.table"), ("Scores", "scores.table"), ("Senders and topics", "sends.senders_page"),
           ("Website script and API keys", "tracking.connections"))


@pages.get("/healthz")
@public
def health() -> object:
    problem = database().problem()
    own = {"instance": settings().instance} if settings().instance else {}
    return flask.jsonify(ok=problem is None, database=problem or "answers", **own), 200 if problem is None else 503


@pages.get("/")
def today() -> object:
    session = db()
    running = [(s, c, tally(session, s)) for s, c in recent(session, ("taking", "running", "paused"))]
    planned = recent(session, ("planned",))
    drafts = recent(session, ("draft",), most=6)
    finished = []
    for send, campaign in recent(session, ("done", "stopped"), most=6):
        finished.append((send, campaign, kept_numbers(session, send)))
    return flask.render_template("today.html", running=running, planned=planned, drafts=drafts, finished=finished,
                                 channels=channels_of(session, [send for send, *_ in finished]), lately=audit.recent(session, 8, people=True),
                                 troubles=[t for t in troubles.of(session) if t.given_up])


@pages.get("/calendar")
def calendar() -> object:
    """The sends of six weeks, day by day."""
    first = flask.request.args.get("from", "")
    try:
        start = dt.date.fromisoformat(first)
        if not 1900 <= start.year <= 2200:
            raise ValueError
    except ValueError:
        start = now().astimezone(zone()).date() - dt.timedelta(days=14)
    start -= dt.timedelta(days=start.weekday())
    until = start + dt.timedelta(days=42)
    rows = sends.between(db(), dt.datetime.combine(start, dt.time(), zone()), dt.datetime.combine(until, dt.time(), zone()))
    days: dict[dt.date, list[tuple[Send, Campaign, dt.datetime]]] = {}
    for send, campaign, at in rows:
        days.setdefault(at.astimezone(zone()).date(), []).append((send, campaign, at))
    weeks = [[start + dt.timedelta(days=w * 7 + d) for d in range(7)] for w in range(6)]
    return flask.render_template("calendar.html", weeks=weeks, days=days, start=start,
                                 this_day=now().astimezone(zone()).date(), step=dt.timedelta(days=42))


@pages.get("/find")
def find() -> object:
    """What the one box finds for some words: objects by name, people, and actions."""
    query = " ".join(flask.request.args.get("q", "").split())
    found: list[dict[str, str]] = []

    def add(kind: str, name: str, address: str) -> None:
        found.append({"kind": kind, "name": name, "to": address})

    lower = query.lower()
    for name, endpoint in ACTIONS:
        if all(word in name.lower() for word in lower.split()):
            add("do", name, flask.url_for(endpoint))
    if query:
        for model, kind, endpoint in ((Segment, "segment", "segments.edit"), (Message, "message", "messages.edit"),
                                      (Campaign, "campaign", "campaigns.show"), (Send, "send", "sends.show"),
                                      (Score, "score", "scores.show")):
            for ident, name in called(db(), model, lower, 5):
                add(kind, name, flask.url_for(endpoint, ident=ident))
        for ident, path in tag_paths(db()).items():
            if lower in path:
                add("tag", path, flask.url_for("tags.show", ident=ident))
        for contact, company in contacts_page(db(), query).rows[:6]:
            who = " ".join(x for x in (contact.first_name, contact.last_name) if x) or contact.email or "(no name)"
            add(contact.email or company or "contact", who, flask.url_for("people.show", ident=contact.id))
    return flask.jsonify(found=found[:16])


@pages.post("/clock/forward")
@needs("author")
def forward() -> object:
    """Moves the demo clock: by some hours, or to the next thing that happens."""
    if not settings().demo:
        raise NotFound("The clock can only be moved in the demo.")
    by = flask.request.form.get("by", "")
    if by not in ("hour", "day", "next", "week"):
        raise Invalid("Choose an hour, a day, a week, or the next thing that happens.")
    jobs.enqueue(db(), "village.forward", priority=5, by=by)
    record(db(), actor(), now(), "moved on", "clock", None, {"next": "to the next thing"}.get(by, f"by a {by}"))
    return flask.jsonify(ok=True)


@pages.get("/clock")
def clock_now() -> object:
    """The clock's state, for the small control in the shell."""
    row = db().get(clock.ClockOffset, 1)
    here = now().astimezone(zone())
    return flask.jsonify(shown=f"{here:%a} {here.day} {here:%b}, {here:%H:%M}",
                         moving=bool(row and row.moving_to))


@pages.post("/later/stop")
def stop_later() -> object:
    """Stops what is being worked out for a page that nobody waits for any more."""
    return flask.jsonify(stopped=later.stop(db(), flask.request.form.get("token", "")))


@pages.get("/changes")
@needs("admin")
def changes() -> object:
    return flask.render_template("changes.html", rows=audit.recent(db(), 200))

