"""The page of today: how the week went, what the last sends did, what leaves soon, what is not
sent yet."""

import flask

from meadowrun.base import audit
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
        lately=audit.recent(session, 8, people=True),
        troubles=[
            (t, owner_of(t.owner_kind).path(t.owner_id)) for t in troubles.of(session) if t.given_up
        ],
    )
