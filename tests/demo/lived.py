"""A whole demo of its own, in which the village lives through some days with fourteen journeys more
and people with names."""

import contextlib
import datetime as dt
import email
import email.policy
import json
import pathlib
import shutil
import zoneinfo

import sqlalchemy as sa

from meadowrun.base import clock, jobs
from meadowrun.base.cluster import THROW_AWAY
from meadowrun.base.db import Database
from meadowrun.base.errors import Invalid
from meadowrun.base.testing import memory_folder
from meadowrun.campaigns.models import Campaign
from meadowrun.demo.run import Demo
from meadowrun.features import load_tasks
from meadowrun.journeys import actions, queries
from meadowrun.journeys.imagining import Asked, imagine
from meadowrun.people.actions import add_field, set_consent
from meadowrun.people.models import EventKind
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.shell.models import User
from meadowrun.tasks.actions import set_away
from meadowrun.village import jobs as village
from meadowrun.village.post import LINK
from meadowrun.village.store import Resident, Store
from tests.demo.fourteen import DAYS, FOURTEEN, LONDON, MOVED_TO, NAMED
from tests.store import worked
from tests.store.people import IDA, add

ROOT = pathlib.Path(__file__).resolve().parents[2]
SCALE = 3000
WORKS = "Hill Clock Works"
MOVE = """
UPDATE contacts SET attributes = attributes || jsonb_build_object('open_night', CAST(:day AS text))
WHERE first_name = 'Fay' AND email LIKE '%@named.example'
"""
ENDS = """
UPDATE companies SET attributes = attributes || jsonb_build_object('agreement_ends',
    CAST(:day AS text)) WHERE name = :name
"""


class Lived:
    """The demo, from its start on; `stop` ends it."""

    def __init__(self):
        self.folder = memory_folder()
        self.demo = Demo(
            ROOT,
            self.folder / "demo",
            8960,
            lambda text: None,
            (*THROW_AWAY, "shared_buffers=256MB"),
        )
        self.demo.cluster.wanted_port = 55700
        settings = self.demo.prepare(SCALE)
        self.demo.start(settings)
        self.database = Database(settings.database_url)
        jobs.set_context(jobs.Context(self.database, settings))
        load_tasks(True)
        self.store = Store(self.folder / "demo" / "village.db")
        with self.database.session() as session:
            self.began = clock.now(session)
        tomorrow = self.began.date() + dt.timedelta(days=1)
        self.midnight = dt.datetime.combine(tomorrow, dt.time(), dt.UTC)
        self.contacts, self.journeys, self.rehearsed = {}, {}, {}
        #: the moment at which everything is looked at, after `live`
        self.ended = None

    def stop(self):
        self.store.close()
        self.database.close()
        self.demo.stop()
        shutil.rmtree(self.folder, ignore_errors=True)

    def at(self, said):
        """A moment of the named people's, as fourteen.py writes it."""
        day, hour = said.split()
        hours, minutes = hour.split(":")
        return self.midnight + dt.timedelta(days=int(day), hours=int(hours), minutes=int(minutes))

    def day(self, place):
        return (self.midnight + dt.timedelta(days=place)).date().isoformat()

    def settle(self):
        """People with names, who do nothing of themselves, and what they will do."""
        with self.database.session() as session:
            now = clock.now(session)
            add_field(session, IDA, now, "contact", "open night", "date")
            details = {"case": {"label": "case", "type": "text"}}
            did = EventKind(key="case_closed", did="closed a case", do="close a case")
            did.details = details
            session.add(did)
            will = session.scalars(sa.select(User.id).where(User.name == "Will Tamm")).one()
            away = self.midnight.date() + dt.timedelta(days=1)
            set_away(session, will, away, away)
            for name, one in NAMED.items():
                self.contacts[name] = self._introduce(session, now, name, one)
            session.execute(sa.text(ENDS), {"day": self.day(9), "name": WORKS})
        for name, one in NAMED.items():
            self._plan(self.contacts[name], one)

    def _introduce(self, session, now, name, one):
        known = {"first_name": name, "timezone": LONDON, **one.fields}
        known |= {"phone": one.phone} if one.phone else {}
        address = f"{name.lower()}@named.example"
        own = {key: self.day(place) for key, place in one.days.items()}
        found = add(session, now, address, one.agreed, **known, **own)
        if one.phone:
            set_consent(session, now, found.id, 0, True, "at the till", "sms")
        self.store.settle([Resident(address, "takes", 0.0, 0.0, 0.0, 0.0, 0.0, False, 12)])
        self.store.introduce([(str(found.id), address, one.phone)])
        return found.id

    def _plan(self, contact, one):
        for said, what, *details in one.does:
            if what != "click":
                told = {"event": what, "contact": contact, "details": dict(*details)}
                self.store.plan(self.at(said).timestamp(), "did", json.dumps(told))

    def write(self):
        """The fourteen, typed, rehearsed and started."""
        with self.database.session() as session:
            now = clock.now(session)
            campaign = session.scalars(sa.select(Campaign).order_by(Campaign.id)).first()
            for name, case in FOURTEEN.items():
                made = actions.create(session, IDA, now, campaign, name)
                itinerary = worked.itinerary(case, queries.names(session))
                actions.write(
                    session, IDA, now, made, made.version, "typed", lambda _, i=itinerary: i
                )
                self._rehearse(session, now, made, itinerary)
                actions.start(session, IDA, now, made, made.version)
                # Of so few people a single bounce is a large share.
                made.most_bounces = made.most_complaints = made.most_unfilled = None
                self.journeys[name] = made.id

    def _rehearse(self, session, now, journey, itinerary):
        """What a rehearsal says of it, by what is known before it starts; of some that cannot be
        said: who will become one of certain people, or what nobody ever did."""
        if len(itinerary.starts) > 1 or itinerary.starts[0].how in ("turns", "turns_not"):
            return
        moment = Moment(session, dictionary(session), now, zoneinfo.ZoneInfo(LONDON))
        with contextlib.suppress(Invalid):
            asked = Asked(DAYS + 1)
            self.rehearsed[journey.name] = imagine(moment, journey, itinerary, asked).found

    def live(self, days):
        """Lets days pass, and has done on each what somebody does who looks at their mail; then
        sends the workers home."""
        for day in range(-1, days):
            village.forward("day")
            for name, one in NAMED.items():
                for said, what, *_ in one.does:
                    if what == "click" and int(said.split()[0]) == day + 1:
                        self._click(name, self.at(said))
            if day == 1:
                with self.database.session() as session:
                    session.execute(sa.text(MOVE), {"day": self.day(MOVED_TO)})
        for one in self.demo.processes:
            if one.name == "worker":
                one.process.terminate()
                one.process.wait()
        with self.database.session() as session:
            self.ended = clock.now(session)

    def _click(self, name, moment):
        mail = self.store.rows(
            "SELECT id, raw FROM mails WHERE address = ? ORDER BY id DESC LIMIT 1",
            f"{name.lower()}@named.example",
        )[0]
        message = email.message_from_bytes(mail["raw"], policy=email.policy.default)
        link = LINK.findall(message.get_body(("html",)).get_content())[0]
        self.store.plan(moment.timestamp(), "click", link.replace("&amp;", "&"), mail["id"])
