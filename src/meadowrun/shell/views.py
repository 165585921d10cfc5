"""The one box, the demo clock, who changed what, and health."""

import flask

from meadowrun.base import audit, clock, jobs
from meadowrun.base.audit import record
from meadowrun.base.errors import Invalid, NotFound
from meadowrun.base.manifest import Way
from meadowrun.core import wording
from meadowrun.core.language import Wording, in_language
from meadowrun.shell import later
from meadowrun.shell.request import (
    Answer,
    actor,
    body,
    database,
    db,
    features,
    may_see,
    needs,
    now,
    public,
    settings,
    zone,
)

pages = flask.Blueprint("shell", __name__)


@pages.get("/healthz")
@public
def health() -> Answer:
    problem = database().problem()
    own = {"instance": settings().instance} if settings().instance else {}
    return flask.jsonify(
        ok=problem is None, database=problem or "answers", **own
    ), 200 if problem is None else 503


@pages.post("/find")
def find() -> Answer:
    """What the one box finds for some words: what can be done, and things by name."""
    query = " ".join(str(body().get("q", "")).split())
    lower = query.lower()
    ways, meant = _ways(lower.split())
    things = (
        [
            {
                "kind": thing.kind,
                "name": thing.name,
                "to": flask.url_for(by.endpoint, ident=thing.ident),
            }
            for one in features()
            for by in one.finds
            for thing in by.search(db(), lower)
        ]
        if query
        else []
    )
    opens = [{"kind": "open", "name": way.name, "to": flask.url_for(way.endpoint)} for way in ways]
    # What only some of the words fit comes last.
    found = [*opens, *things] if meant else [*things, *opens]
    return flask.jsonify(found=found[:16])


#: Words that say nothing of what somebody looks for.
_SMALL = frozenset(
    ("a", "an", "the", "to", "of", "in", "for", "on", "by", "is", "are", "do", "can", "i", "my")
    + ("how", "where", "who", "what", "page")
)


def _ways(words: list[str]) -> tuple[list[Way], bool]:
    """What the words mean, of what this person may see: what all of them fit, else what most do,
    and whether it is all; what is called so before what is only meant by it. Without words what is
    done most."""
    may = [way for one in features() for way in one.does if may_see(way.endpoint)]
    if not words:
        return [way for way in may if way.often], True
    telling = [word for word in words if word not in _SMALL] or words
    fits = {way.endpoint: way.fits(telling) for way in may}
    most = max(fits.values(), default=0)
    found = [way for way in may if most and fits[way.endpoint] == most]
    found.sort(key=lambda way: not all(word in way.name.lower() for word in telling))
    return found, most == len(telling)


@pages.post("/clock/forward")
@needs("author")
def forward() -> Answer:
    """Moves the demo clock: by some hours, or to the next thing that happens."""
    if not settings().demo:
        raise NotFound("The clock can only be moved in the demo.")
    by = flask.request.form.get("by", "")
    if by not in ("hour", "day", "next", "week"):
        raise Invalid("Choose an hour, a day, a week, or the next thing that happens.")
    jobs.enqueue(db(), "village.forward", priority=5, by=by)
    record(
        db(),
        actor(),
        now(),
        "moved on",
        "clock",
        None,
        {"next": "to the next thing"}.get(by, f"by a {by}"),
    )
    return flask.jsonify(ok=True)


@pages.get("/clock")
def clock_now() -> Answer:
    """The clock's state, for the small control in the shell."""
    row = db().get(clock.ClockOffset, 1)
    here = now().astimezone(zone())
    return flask.jsonify(
        shown=in_language(
            Wording(
                "%(day)s, %(time)s", day=wording.weekday_day(here.date()), time=wording.time(here)
            )
        ),
        moving=bool(row and row.moving_to),
    )


@pages.post("/later/stop")
def stop_later() -> Answer:
    """Stops what is being updated for a page that nobody waits for any more."""
    return flask.jsonify(stopped=later.stop(db(), flask.request.form.get("token", "")))


@pages.get("/changes")
@needs("admin")
def changes() -> Answer:
    looks = "looks" in flask.request.args
    return flask.render_template(
        "changes.html", rows=audit.recent(db(), 200, looks=looks), looks=looks
    )
