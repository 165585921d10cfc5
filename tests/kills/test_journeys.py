"""A journey with every kind of step but jumps and exits under kills in random order: nobody is
lost, nobody does a step twice, and everybody walks as the judge does; held against the records of
the mail server and of the server that is told by webhooks.

Runs by ./meadowrun test --long tests/kills/test_journeys.py; MEADOWRUN_KILLS says how many kills.
"""

import collections
import datetime as dt
import http.server
import os
import threading
import time
import zoneinfo

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.base.clock import machine_now
from meadowrun.campaigns.models import Campaign
from meadowrun.core.journeys import edit
from meadowrun.core.journeys.chance import path_by_chance
from meadowrun.core.journeys.engine import Rules, walk
from meadowrun.core.journeys.one_person import Answered, Person
from meadowrun.core.journeys.steps import (
    BranchStep,
    ChangeStep,
    ExitStep,
    Goal,
    GoalStep,
    JumpStep,
    MessageStep,
    Path,
    Span,
    SplitStep,
    Start,
    TaskStep,
    WaitForStep,
    WaitStep,
    WebhookStep,
    Who,
)
from meadowrun.journeys import actions, figures, queries
from meadowrun.journeys.models import Journey
from meadowrun.tracking.taking import take_events
from tests.kills.world import SETTLE_AFTER, World
from tests.store.journeys import started_by
from tests.store.people import IDA, kinds, many, ready_send

pytestmark = pytest.mark.long
KILLS = int(os.environ.get("MEADOWRUN_KILLS", "40"))
PEOPLE = int(os.environ.get("MEADOWRUN_KILLS_PEOPLE", "600"))
VICTIMS = ("worker",) * 6 + ("lock",) * 2 + ("mail server",) + ("database",)
#: Seconds between two kills.
GAP = 2.5
EVEN = Who(lines=({"id": "t", "kind": "field", "field": "town", "op": "not_blank"},))


class Told(http.server.BaseHTTPRequestHandler):
    """Notes the key of each call, and answers."""

    keys: collections.Counter = collections.Counter()

    def do_POST(self):
        self.rfile.read(int(self.headers["Content-Length"]))
        self.keys[self.headers["Idempotency-Key"]] += 1
        self.send_response(200)
        self.send_header("Content-Length", "2")
        self.end_headers()
        self.wfile.write(b"ok")

    def log_message(self, *_):
        pass


@pytest.fixture
def told():
    """The address of a server that is told by webhooks, and how often each key came."""
    Told.keys = collections.Counter()
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Told)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_port}/told", Told.keys
    server.shutdown()


def built(itinerary, address):
    """An email, each other kind of step, then over into a second lane: an email, and out."""
    itinerary = started_by(itinerary, Start("event", "visited"), "once", 30)
    halves = (
        Path("", (ChangeStep("", "tag", 1),), percent=30),
        Path("", (WaitStep("", Span(20, "minute")),), percent=70),
    )
    for step in (
        MessageStep("", 1),
        WaitStep("", Span(1, "hour")),
        BranchStep("", (Path("", (TaskStep("", "call", "Ask how it was"),), EVEN), Path(""))),
        SplitStep("", halves),
        WebhookStep("", address),
        WaitForStep("", Span(3, "hour"), (Path("", event="ticket_bought"), Path(""))),
        ChangeStep("", "field", field="language", value="cy"),
        GoalStep(""),
    ):
        itinerary = edit.add(itinerary, step)
    itinerary = edit.add_lane(itinerary, "Afterwards")
    lane = itinerary.beside[0].id
    itinerary = edit.add(itinerary, JumpStep("", 0, lane))
    for step in (MessageStep("", 1), ExitStep("")):
        itinerary = edit.add(itinerary, step, lane)
    return edit.with_goal(itinerary, Goal("ticket_bought", 30))


class Walks(World):
    """A journey that runs while parts are killed."""

    def __init__(self, address):
        super().__init__("fast", True, seed="journeys")
        self.address = address
        #: the one machine inside this network that may be called
        self.inner = address.removeprefix("http://").removesuffix("/told")

    def _environment(self):
        return super()._environment() | {"MEADOWRUN_INNER_HOSTS": self.inner}

    def begin(self):
        """Starts the journey, and has everybody come in at once."""
        now = machine_now()
        with clock.at(now), self.database.session() as session:
            many(session, now, PEOPLE)
            kinds(session)
            session.execute(sa.text("UPDATE contacts SET town = 'Farrow' WHERE id % 2 = 0"))
            session.execute(sa.text("INSERT INTO tags (path, created_at) VALUES ('vip', now())"))
            send = ready_send(session, now, {"in": [], "out": []})
            campaign = session.get_one(Campaign, send.campaign_id)
            made = actions.create(session, IDA, now, campaign, "A journey")
            written = edit.checked(built(queries.draft(session, made), self.address))
            actions.write(session, IDA, now, made, made.version, "wrote", lambda _: written)
            actions.start(session, IDA, now, made, made.version, {self.inner})
            rows = [
                {"event": "visited", "contact": one, "at": now.isoformat()}
                for one in range(1, PEOPLE + 1)
            ]
            take_events(session, now, "t", rows)
            self.journey = made.id

    def inside(self):
        """How many are inside; whoever came in is accounted for whatever was killed."""
        with self.database.session() as session:
            stand = figures.numbers(session, self.journey).stand
        # Whoever goes over comes into the second lane in the transaction that takes them out.
        assert stand.entered == 0 or PEOPLE <= stand.entered <= 2 * PEOPLE
        assert stand.entered == 0 or stand.entered - PEOPLE == stand.left.get("jumped", 0)
        return stand.inside if stand.entered else PEOPLE


def test_nobody_is_lost_and_nobody_does_a_step_twice(told, capsys):
    address, keys = told
    began = time.monotonic()
    with Walks(address) as world:
        world.supervise()
        world.begin()
        kills, next_kill = 0, time.monotonic() + 4
        deadline = began + 300 + 6 * KILLS
        while time.monotonic() < deadline and (world.inside() or kills < KILLS):
            world.supervise()
            if kills < KILLS and time.monotonic() > next_kill:
                world.kill(world.dice.choice(VICTIMS))
                kills = sum(world.counts.kills.values())
                next_kill = time.monotonic() + world.dice.uniform(0.3, 1.7) * GAP
            if world.dice.random() < 0.08:
                world.time_passes(world.dice.choice((2, 10, 20)) * 60)
            time.sleep(0.2)
        assert world.inside() == 0
        time.sleep(SETTLE_AFTER)
        world.reckon()
        with capsys.disabled():
            again = sum(keys.values()) - len(keys)
            print(f"\n{PEOPLE} people: {world.counts}; {again} calls made again")
        assert (world.counts.missed, world.counts.twice) == (0, 0)
        assert world.counts.checked == 2 * PEOPLE
        _walked_as_the_judge_does(world)
        _did_each_thing_once(world, keys)


def _walked_as_the_judge_does(world):
    with world.database.session() as session:
        journey = session.get_one(Journey, world.journey)
        itinerary = queries.walked(session, journey)
        rules = Rules.of(itinerary, journey.salt)
        entries = [
            (contact, entry)
            for contact in range(1, PEOPLE + 1)
            for entry in queries.entries(session, journey.id, contact)
        ]
        lanes = collections.Counter(entry.lane for _, entry in entries)
        assert lanes == dict.fromkeys(rules.first, PEOPLE)
        for contact, entry in entries:
            moves = queries.moves(session, entry.id)
            assert [one.from_step for one in moves] == ["", *(one.to_step for one in moves[:-1])]
            # A message and a call are settled when they are; all else is the rules'.
            settled = {
                (before.to_step, before.at): Answered(after.at, True)
                for before, after in zip(moves, moves[1:], strict=False)
            }
            person = Person(
                contact,
                zoneinfo.ZoneInfo("Europe/London"),
                is_one=lambda who, at, one=contact: one % 2 == 0,
                answers=lambda step, at, known=settled: known.get((step, at)),
            )
            until = moves[-1].at + dt.timedelta(days=1)
            expected = walk(rules, person, moves[0].at, until, entry.lane)
            found = [(one.to_step, one.at, one.because) for one in moves]
            said = [(one.step, one.at, one.because) for one in expected]
            # Who came over from the first lane begins the second so.
            assert found == [(*said[0][:2], moves[0].because), *said[1:]]
            assert moves[0].because == ("jumped_in" if entry.lane else "start")


def _did_each_thing_once(world, keys):
    with world.database.session() as session:
        journey = session.get_one(Journey, world.journey)
        split = next(
            step for step, _, _ in queries.walked(session, journey).walk() if step.kind == "split"
        )
        tasks = session.scalars(sa.text("SELECT contact_id FROM colleague_tasks ORDER BY 1")).all()
        tagged = set(session.scalars(sa.text("SELECT contact_id FROM contact_tags")))
        languages = set(session.scalars(sa.text("SELECT language FROM contacts")))
        calls = set(session.scalars(sa.text("SELECT key FROM journey_calls")))
    assert tasks == list(range(2, PEOPLE + 1, 2))
    everybody = range(1, PEOPLE + 1)
    chosen = {one: path_by_chance(split, one, journey.salt) for one in everybody}
    assert tagged == {one for one in everybody if chosen[one] == split.paths[0].id}
    assert languages == {"cy"}
    # Told again after a kill, under the same key: one key for each person.
    assert set(keys) == calls and len(calls) == PEOPLE
