"""The page of today: how the week went, what the last sends did, what leaves soon, what is not
sent yet."""

import itertools

import flask

from meadowrun.base import audit
from meadowrun.base.audit import AuditRow
from meadowrun.base.manifest import owner_of
from meadowrun.home import sample
from meadowrun.home.beginning import first_steps
from meadowrun.journeys.models import STATES
from meadowrun.journeys.queries import Week, on_their_way
from meadowrun.journeys.queries import weeks as weeks_of_journeys
from meadowrun.outgoing import troubles
from meadowrun.outgoing.queries import tally
from meadowrun.results import looking
from meadowrun.results.queries import kept_numbers
from meadowrun.sends.queries import channels_of, recent
from meadowrun.shell.request import Answer, db, may_see, now, settings, zone

pages = flask.Blueprint("home", __name__)

#: So many journeys are shown.
MOST_JOURNEYS = 6
#: So many changes are shown, out of so many of the latest.
_CHANGES, _CHANGES_READ = 8, 60


@pages.get("/")
def today() -> Answer:
    session = db()
    running = [
        (s, c, tally(session, s.dispatch_id))
        for s, c in recent(session, ("taking", "running", "paused"))
    ]
    planned = recent(session, ("planned",))
    drafts = recent(session, ("draft",), most=6)
    finished = []
    for send, campaign in recent(session, ("done", "stopped"), most=6):
        finished.append((send, campaign, kept_numbers(session, send)))
    walked = on_their_way(session, MOST_JOURNEYS)
    week = weeks_of_journeys(session, now(), walked)
    return flask.render_template(
        "today.html",
        first=first_steps(session, settings()),
        sample=sample.current(session),
        may_see=may_see,
        running=running,
        planned=planned,
        journeys=[(one, week.get(one.id, Week())) for one in walked],
        states=STATES,
        drafts=drafts,
        finished=finished,
        weeks=looking.weeks(session, now(), zone()),
        channels=channels_of(session, [send for send, *_ in finished]),
        lately=_lately(),
        troubles=[
            (t, owner_of(t.owner_kind).path(t.owner_id)) for t in troubles.of(session) if t.given_up
        ],
    )


def _lately() -> list[tuple[AuditRow, int]]:
    """What people changed last, the latest first; the same thing done several times in a row by one
    person is told once, with how many times."""

    def same(row: AuditRow) -> tuple[str, ...]:
        return (row.who, row.did, row.object_kind, row.object_name)

    rows = audit.recent(db(), _CHANGES_READ, people=True)
    alike = (list(some) for _, some in itertools.groupby(rows, same))
    return [(some[0], len(some)) for some in itertools.islice(alike, _CHANGES)]
