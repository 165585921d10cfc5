"""A channel of one's own: added in one file, with its own label, its own field and its own gateway,
and used like the others."""

import zoneinfo
from typing import NamedTuple

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.channels.hand import Hand
from meadowrun.channels.proof import Prover
from meadowrun.core.audience.definition import parse
from meadowrun.core.audience.english import read_aloud
from meadowrun.core.channels import KINDS
from meadowrun.core.channels.kind import Kind
from meadowrun.core.channels.sms import taken_as_text
from meadowrun.core.content.document import DocumentError, empty
from meadowrun.core.content.findings import MUST, Check
from meadowrun.core.content.gist import Gist
from meadowrun.core.journeys.steps import MessageStep, Span, Start, WaitStep
from meadowrun.gateways.channels import CHANNELS, Channel, add
from meadowrun.gateways.handing import Handed, all_may_go
from meadowrun.journeys import figures
from meadowrun.messages import actions as messages
from meadowrun.people import actions as people
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.segments.queries import count
from meadowrun.sends import actions as sends
from meadowrun.sends.models import Send
from tests.conftest import NOW
from tests.store.journeys import advance
from tests.store.people import IDA, kinds, ready_send
from tests.store.people import add as add_person
from tests.store.sending import counts, run_all, segment, start
from tests.store.starting import HOUR, happens, running
from tests.store.web import words

COLOURS = ("red", "white")


def take(data):
    colour = data.get("colour", "white")
    if colour not in COLOURS:
        raise DocumentError("The lamp is red or white.")
    return taken_as_text(data, "lantern") | {"colour": colour}


def checks(document, about):
    return [] if document["plain"] else [Check(MUST, "Write what is signalled.", slot="plain")]


FACTS = """
SELECT c.id, c.attributes ? 'lamp' AS has_address, c.attributes->>'lamp' LIKE 'lamp-%%' AS
address_usable, FALSE AS suppressed,
    FALSE AS bounced, {topic} AS consent, ch.agreed AS channel_consent{columns}
FROM contacts c LEFT JOIN consents ch ON ch.contact_id = c.id AND ch.channel = 'lantern'
AND ch.topic_id = 0
{join}""".replace("%%", "%")


class Signal(NamedTuple):
    contact_id: int
    lamp: str
    colour: str
    text: str
    key: str


class Signals(Hand):
    def make(self, reader, tokens, mail, signs):
        return Signal(
            reader.contact_id,
            reader.address,
            self.parcel.document["colour"],
            mail.text.strip(),
            tokens["message"],
        )


class Tower:
    """The gateway: whom it cannot see it refuses."""

    at_once = 1
    can_be_asked = False

    def __init__(self):
        self.seen = []

    def hand_over(self, signals, begin=all_may_go):
        for signal in signals:
            for one in begin([signal]):
                self.seen.append(one)
                foggy = one.lamp == "lamp-9"
                yield Handed(
                    one.contact_id,
                    "bounced" if foggy else "delivered",
                    "fog" if foggy else "seen",
                    hard=foggy,
                )


class Proofs(Prover):
    """A proof is shown to one lamp."""

    one, several = "lamp", "lamps"

    def targets(self):
        return [self.asked.form.get("to", "")]

    def make(self, place, key, to, copy):
        return Signal(place, to, "white", f"{copy.mark} {copy.mail.text.strip()}", key)

    def gateway(self):
        return CHANNELS["lantern"].gateway(None, self.asked.settings, 0, self.asked.now)


@pytest.fixture
def tower():
    made = Tower()
    add(
        Channel(
            kind=Kind(
                key="lantern",
                name="lantern signal",
                everything="lantern signals",
                one="signal",
                several="signals",
                cue=r"\blanterns?\b",
                outcomes={"no_address": "No lamp"},
                lacks={"no_address": "without a lamp"},
                take=take,
                begins=lambda organisation, stop_word, looks: (
                    empty()
                    | {"channel": "lantern", "text_only": True, "plain": "", "colour": "white"}
                ),
                checks=checks,
                says=lambda document, lines, organisation, asked: Gist(
                    heading=document["plain"], paragraphs=["Seen from the tower."]
                ),
                takes_in=lambda taken: (
                    empty()
                    | {
                        "channel": "lantern",
                        "text_only": True,
                        "plain": taken.said.heading or taken.said.subject,
                        "colour": "white",
                    }
                ),
            ),
            facts=FACTS,
            can="c.attributes->>'lamp' LIKE 'lamp-%' AND {agreed}",
            address="c.attributes->>'lamp'",
            same_address="c.attributes->>'lamp'",
            gateway=lambda database, settings, dispatch, now: made,
            can_be_asked=lambda settings: False,
            there="somebody is on the tower",
            hand=Signals,
            prover=Proofs,
            steps={"delivered": "Seen"},
            by="by lantern",
            one="the signal",
            a="a lantern signal",
            checked="The words are in order.",
            editor="messages.edit",
        )
    )
    yield made
    del CHANNELS["lantern"], KINDS["lantern"]


@pytest.fixture
def world(database, settings, job_context, tower):
    """A send by lantern: two see it, one is in the fog, the others lack something. Gives its
    number."""
    with clock.at(NOW), database.session() as session:
        people.add_field(session, IDA, NOW, "contact", "lamp", "text", [])
        for name, lamp, agreed in (
            ("Ann", "lamp-1", True),
            ("Bo", "lamp-2", True),
            ("Cy", "lamp-9", True),
            ("Di", None, True),
            ("Ed", "lamp-4", False),
            ("Flo", "lamp-5", None),
            ("Gus", "candle", True),
            ("Hal", "lamp-1", True),
        ):
            who = add_person(
                session,
                NOW,
                f"{name.lower()}@post.example",
                first_name=name,
                **({"lamp": lamp} if lamp else {}),
            )
            if agreed is not None:
                people.set_consent(session, NOW, who.id, 0, agreed, "at the tower", "lantern")
        send = ready_send(
            session, NOW, {"in": [{"segment": segment(session).id}], "out": []}, success=None
        )
        message = messages.create(
            session,
            IDA,
            NOW,
            "Storm",
            take({"plain": "Storm, {{ contact.first_name }}", "colour": "red"}),
            "lantern",
        )
        sends.change(session, IDA, NOW, send, send.version, {"message_id": message.id})
        ident = send.id
    start(database, settings, ident, 3)
    return ident


def test_it_is_sent_through_the_same_door(database, world, tower):
    run_all(database, world)
    assert [signal[:4] for signal in tower.seen] == [
        (1, "lamp-1", "red", "Storm, Ann"),
        (2, "lamp-2", "red", "Storm, Bo"),
        (3, "lamp-9", "red", "Storm, Cy"),
    ]
    assert len({signal.key for signal in tower.seen}) == 3, "each is known by a key of its own"
    found, send = counts(database, world)
    assert found == {
        "delivered": 2,
        "bounced": 1,
        "duplicate": 1,
        "no_consent": 2,
        "no_address": 1,
        "bad_address": 1,
    }
    assert send.state == "done" and send.dispatch.channel == "lantern"
    with database.session() as session:
        assert (
            session.execute(
                sa.text("SELECT count(*) FROM contacts WHERE bounced_at IS NOT NULL")
            ).scalar()
            == 0
        ), "no email bounced"


def test_a_proof_of_it_goes_the_one_way_and_is_never_counted(database, world, tower, web):
    with database.session() as session:
        message = session.get_one(Send, world).message_id
    web.post(f"/messages/{message}/proof", data={"to": "lamp-7", "as": "1"})
    assert [signal[:4] for signal in tower.seen] == [(0, "lamp-7", "white", "[Proof] Storm, Ann")]
    page = words(web.get(f"/messages/{message}").text)
    assert "The proof, as Ann, was sent to 1 of 1 lamp." in page
    web.post(f"/messages/{message}/proof", data={"to": "lamp-9", "as": "1"})
    assert "The proof was not sent: lamp-9 (fog)." in words(web.get(f"/messages/{message}").text)
    with database.session() as session:
        assert session.execute(sa.text("SELECT count(*) FROM deliveries")).scalar() == 0


def test_its_words_go_along_to_an_email_and_back(database, world, tower, web):
    with database.session() as session:
        ident = session.get_one(Send, world).message_id
    assert "Also as a lantern signal" not in words(web.get(f"/messages/{ident}").text)
    mail = web.post(f"/messages/{ident}/also", data={"channel": "email"}).location
    assert "Seen from the tower." in web.get(f"{mail}/read?as=1").json["text"]
    assert "Also as a lantern signal" in words(web.get(mail).text)
    back = web.post(f"{mail}/also", data={"channel": "lantern"}).location
    assert web.get(f"{back}/read?as=1").json["text"].strip() == "Storm, Ann"


def test_conditions_speak_of_it(database, world, tower, settings):
    run_all(database, world)
    with clock.at(NOW), database.session() as session:
        known = dictionary(session)
        for lines, said, people_of in (
            (
                [{"id": "a", "kind": "reach", "channel": "lantern", "can": True}],
                "can get lantern signals",
                4,
            ),
            (
                [
                    {
                        "id": "a",
                        "kind": "mail",
                        "what": "delivered",
                        "of": {"channel": "lantern"},
                        "did": True,
                    }
                ],
                "signal",
                2,
            ),
        ):
            definition = parse({"lines": lines}, known)
            assert said in read_aloud(definition, known, NOW.date())
            assert (
                count(Moment(session, known, NOW, zoneinfo.ZoneInfo("Europe/London")), definition)
                == people_of
            )


def test_every_page_knows_it(database, world, tower, web):
    with clock.at(NOW):
        run_all(database, world)
        for path, said in (
            (f"/sends/{world}", "lantern signal"),
            (f"/results/{world}", "seen"),
            ("/results", "by lantern"),
            ("/", "by lantern"),
            ("/messages", "lantern signal"),
            ("/messages/new", "lantern signal"),
            (f"/results/{world}/people/no_address", "No lamp"),
            (f"/sends/{world}/mail/1.html", "Storm, Ann"),
            ("/people/1", "Lantern signals"),
            ("/segments/1", "lantern signals"),
        ):
            answer = web.get(path)
            assert answer.status_code == 200 and said in words(answer.text), path


def test_a_journey_writes_by_it(database, world, tower):
    """To those who have a lamp and agreed: one of them is in the fog, and goes on all the same."""
    with clock.at(NOW), database.session() as session:
        kinds(session)
        send = session.get_one(Send, world)
        given = send.campaign_id, send.message_id
    ident = running(
        database,
        given,
        Start("event", "visited", id="start"),
        MessageStep("", given[1]),
        WaitStep("", Span(1, "day")),
    )
    happens(database, "visited", NOW + HOUR, 1, 3, 4)
    assert [signal[:4] for signal in tower.seen] == [
        (1, "lamp-1", "red", "Storm, Ann"),
        (3, "lamp-9", "red", "Storm, Cy"),
    ]
    advance(database, NOW + 2 * HOUR)
    with database.session() as session:
        found = figures.numbers(session, ident)
    assert found.went["s1"] == {"sent": 2, "no_address": 1}
    assert found.channels["lantern"].sent == 1
