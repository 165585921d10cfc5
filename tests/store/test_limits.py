"""An audience limit, and a control group: picked by chance, counted, listed, the same
every time."""

import csv
import datetime as dt
import hashlib
import io
import zoneinfo

import pytest
import sqlalchemy as sa

from meadowrun.base import clock, jobs
from meadowrun.base.errors import Invalid
from meadowrun.core.audience.persons import share_number
from meadowrun.people import actions as people
from meadowrun.people.models import ListMember, PeopleList
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary, uses_of_list
from meadowrun.segments.actions import save
from meadowrun.sends import actions
from meadowrun.sends.estimates import estimate
from meadowrun.sends.models import Send
from meadowrun.sends.queries import of_segment
from tests.conftest import NOW
from tests.store.people import IDA, add, kinds, many, ready_send
from tests.store.sending import counts, mixed, run_all, start
from tests.store.web import word, words

ZONE = zoneinfo.ZoneInfo("Europe/London")
EVERYONE = {"in": [{"everyone": True}], "out": []}


def made(session, **limits):
    send = ready_send(session, NOW, EVERYONE)
    for name, value in limits.items():
        setattr(send, name, value)
    session.flush()
    return send


def _list(session, ids):
    kept = PeopleList(name="Kept", source="by hand", taken_at=NOW)
    session.add(kept)
    session.flush()
    session.add_all(ListMember(list_id=kept.id, contact_id=i) for i in ids)
    session.flush()
    return kept


def outcomes(database, ident):
    with database.session() as session:
        return dict(
            session.execute(
                sa.text(
                    "SELECT contact_id, outcome FROM deliveries d JOIN sends s USING "
                    "(dispatch_id) WHERE s.id = :id"
                ),
                {"id": ident},
            )
            .tuples()
            .all()
        )


def by_chance(ids, ident):
    """The order in which an audience limit picks, by the rule it states."""
    return sorted(ids, key=lambda i: hashlib.md5(f"{i}:send:{ident}".encode()).hexdigest())


class TestAudienceLimit:
    def test_so_many_are_picked_by_chance_among_those_who_would_get_it(
        self, database, settings, job_context, keeper
    ):
        with clock.at(NOW), database.session() as session:
            mixed(session)
            send = made(session, audience_limit=4)
            ident, guess = send.id, estimate(Moment(session, dictionary(session), NOW, ZONE), send)
        # Of 13, six would get it (as without an audience limit, see test_sending); four do.
        assert (
            guess.going,
            guess.outcomes["over_limit"],
            guess.total,
            sum(guess.outcomes.values()),
        ) == (4, 2, 13, 13)
        start(database, settings, ident, 4)
        run_all(database, ident)
        found, _ = counts(database, ident)
        assert found == {"delivered" if k == "go" else k: v for k, v in guess.outcomes.items()}
        got = outcomes(database, ident)
        would = [i for i, outcome in got.items() if outcome in ("delivered", "over_limit")]
        assert [i for i in by_chance(would, ident) if got[i] == "delivered"] == by_chance(
            would, ident
        )[:4]
        # Those shown on the sheet are among those who get it.
        assert set(guess.some) <= {i for i in would if got[i] == "delivered"}

    def test_who_leaves_before_it_goes_makes_room_for_nobody(
        self, database, settings, job_context, keeper
    ):
        with clock.at(NOW), database.session() as session:
            many(session, NOW, 10)
            ident = made(session, audience_limit=6).id
        start(database, settings, ident, 6)
        with clock.at(NOW):
            jobs.run_here("sends.take", send_id=ident)
        chosen = [i for i, outcome in outcomes(database, ident).items() if outcome == "waiting"]
        with database.session() as session:
            people.set_consent(session, NOW, chosen[0], 0, False, "asked")
        run_all(database, ident)
        assert (
            counts(database, ident)[0] == {"delivered": 5, "over_limit": 4, "no_consent": 1}
            and len(keeper.letters) == 5
        )

    def test_one_that_stops_is_told_before_and_asked_again_when_it_goes(
        self, database, settings, job_context, keeper
    ):
        with clock.at(NOW), database.session() as session:
            many(session, NOW, 3)
            send = made(
                session, audience_limit=3, limit_rule="stop", leaves_at=NOW + dt.timedelta(hours=1)
            )
            ident, guess = send.id, estimate(Moment(session, dictionary(session), NOW, ZONE), send)
            assert (guess.going, guess.outcomes) == (3, {"go": 3})
        start(database, settings, ident, 3)
        with clock.at(NOW), database.session() as session:
            add(session, NOW, "late@post.example")
        later = NOW + dt.timedelta(hours=1)
        with clock.at(later):
            jobs.run_here("sends.sweep")
            jobs.run_here("sends.take", send_id=ident)
        with database.session() as session:
            send = session.get_one(Send, ident)
            assert send.state == "draft" and send.problem.startswith(
                "Nothing went. 4 people would get it, and the audience limit is 3."
            )
            assert (
                session.scalar(sa.text("SELECT count(*) FROM deliveries")) == 0
                and keeper.letters == []
            )
            send.leaves_at = None
            with clock.at(later), pytest.raises(Invalid, match="audience limit is 3"):
                actions.start(session, IDA, later, send, settings.public_url, 4, send.version)

    def test_the_control_group_does_not_count_against_it(
        self, database, settings, job_context, keeper
    ):
        with clock.at(NOW), database.session() as session:
            many(session, NOW, 10)
            ident = made(
                session, audience_limit=5, control={"list": _list(session, [1, 2, 3]).id}
            ).id
        start(database, settings, ident, 5)
        run_all(database, ident)
        assert counts(database, ident)[0] == {"delivered": 5, "control": 3, "over_limit": 2}


class TestControlGroup:
    def test_a_share_by_chance_the_same_in_every_send_of_a_campaign(
        self, database, settings, job_context, keeper
    ):
        with clock.at(NOW), database.session() as session:
            many(session, NOW, 400)
            session.execute(sa.text("DELETE FROM consents WHERE contact_id <= 40"))
            first = made(session, control={"percent": 12.5})
            campaign, ident = first.campaign_id, first.id
            guess = estimate(Moment(session, dictionary(session), NOW, ZONE), first)
        kept = {i for i in range(1, 401) if share_number(i, f"campaign:{campaign}") < 1250}
        assert 20 < len(kept) < 80, "a share by chance, not all and not none"
        qualify = {i for i in kept if i > 40}
        assert guess.outcomes == {
            "go": 360 - len(qualify),
            "control": len(qualify),
            "no_consent": 40,
        }
        start(database, settings, ident, guess.going)
        run_all(database, ident)
        got = outcomes(database, ident)
        assert {i for i, outcome in got.items() if outcome == "control"} == qualify
        assert {letter.contact_id for letter in keeper.letters} == set(range(41, 401)) - qualify
        assert counts(database, ident)[1].state == "done"
        with clock.at(NOW), database.session() as session:
            again = made(session, control={"percent": 12.5})
            again.campaign_id = campaign
            session.flush()
            second = estimate(Moment(session, dictionary(session), NOW, ZONE), again)
            again.campaign_id += 1 if again.campaign_id == 1 else -1
            elsewhere = estimate(Moment(session, dictionary(session), NOW, ZONE), again)
        assert second.outcomes == guess.outcomes and elsewhere.outcomes != guess.outcomes

    def test_whoever_is_in_a_segment_also_one_that_changes(
        self, database, settings, job_context, keeper
    ):
        with clock.at(NOW), database.session() as session:
            for name, town in (
                ("ann", "Farrow"),
                ("bo", "Farrow"),
                ("cy", None),
                ("di", "Tarnside"),
            ):
                add(session, NOW, f"{name}@post.example", town=town)
            group = save(
                session,
                IDA,
                NOW,
                dictionary(session),
                "Farrow",
                {
                    "lines": [
                        {
                            "id": "a",
                            "kind": "field",
                            "field": "town",
                            "op": "is",
                            "value": ["Farrow"],
                        }
                    ]
                },
            )
            send = made(session, control={"segment": group.id})
            ident = send.id
            assert estimate(Moment(session, dictionary(session), NOW, ZONE), send).outcomes == {
                "go": 2,
                "control": 2,
            }
            assert [s.id for s in of_segment(session, group.id)] == [ident]
        start(database, settings, ident, 2)
        run_all(database, ident)
        assert outcomes(database, ident) == {
            1: "control",
            2: "control",
            3: "delivered",
            4: "delivered",
        }

    def test_a_list_that_is_the_control_group_is_in_use(self, database):
        with clock.at(NOW), database.session() as session:
            many(session, NOW, 3)
            kept = _list(session, [2])
            made(session, control={"list": kept.id})
            assert uses_of_list(session, kept.id) == ["the send “A send”"]

    def test_after_a_dead_worker_and_a_stop_it_still_adds_up(
        self, database, settings, job_context, keeper
    ):
        with clock.at(NOW), database.session() as session:
            many(session, NOW, 30)
            ident = made(session, control={"percent": 40.0}).id
        with database.session() as session:
            going = estimate(
                Moment(session, dictionary(session), NOW, ZONE), session.get_one(Send, ident)
            ).going
        start(database, settings, ident, going)
        keeper.break_after = 3
        run_all(database, ident)
        found, send = counts(database, ident)
        assert (
            found["delivered"] == 3
            and found["waiting"] == going - 3
            and found["control"] == 30 - going
        )
        with clock.at(NOW), database.session() as session:
            actions.stop(session, IDA, NOW, session.get_one(Send, send.id))
        assert counts(database, ident)[0] == {
            "delivered": 3,
            "control": 30 - going,
            "stopped": going - 3,
        }


class TestWorth:
    @pytest.fixture
    def sent(self, database, settings, job_context, keeper):
        """Contacted: 8, of whom one bounces; in the control group: 4. Six of the former
        and one of the latter bought; another too late."""
        with clock.at(NOW), database.session() as session:
            kind = kinds(session)["ticket_bought"]
            many(session, NOW, 12)
            ident = made(session, control={"list": _list(session, [9, 10, 11, 12]).id}).id
        keeper.refuse = ("p8@post.example",)
        start(database, settings, ident, 8)
        run_all(database, ident)
        with database.session() as session:
            for contact, days in (
                (1, 1),
                (2, 2),
                (3, 3),
                (4, 6),
                (5, 6),
                (8, 1),
                (9, 2),
                (10, 8),
                (6, 8),
                (1, 2),
            ):
                session.execute(
                    sa.text(
                        "INSERT INTO events (contact_id, at, kind_id, details) VALUES (:c, :at, "
                        ":k, '{\"amount\": 5}')"
                    ),
                    {"c": contact, "at": NOW + dt.timedelta(days=days), "k": kind},
                )
        return ident

    def test_every_number_is_right_and_leads_to_its_people(self, web, database, sent):
        with clock.at(NOW + dt.timedelta(days=9)):
            shown = words(web.get(f"/results/{sent}").text)
            # Five of the seven who got it, and the one whose mail came back: six of eight, against
            # one of four.
            assert (
                "Contacted 8 6 75.00% bought a ticket" in shown
                and "Control group 4 1 25.00%" in shown
            )
            # The list was picked by hand: nothing is claimed for the sending.
            assert (
                "the difference is due to sending only if that group was picked at random" in shown
            )
            assert (
                "+50.0 points" in shown
                and "Control group 4" in shown
                and "Too early to tell." in shown
            )
            behind = words(web.get(f"/results/{sent}/people/control_converted").text)
            assert "p9@post.example" in behind and "p10@post.example" not in behind
            rows = list(
                csv.reader(io.StringIO(web.get(f"/results/{sent}.csv").text.lstrip("\ufeff")))
            )
        assert ["Success among those contacted", "6", "contacted", "75.00%"] in rows
        assert ["Success in the control group", "1", "control group", "25.00%"] in rows
        # By hand: Wilson's bounds of 6/8 are 0.40928 and 0.92852, of 1/4 0.04559 and 0.69936. Down
        # by √(0.34072² + 0.44936²) = 0.56393,
        # up by √(0.17852² + 0.20441²) = 0.27139.
        assert [r for r in rows if r and r[0].startswith("Difference")][0][1:] == [
            "+50.00",
            "-6.39",
            "+77.14",
        ]

    def test_only_chance_lets_sending_claim_the_difference(
        self, web, database, settings, job_context, keeper
    ):
        with clock.at(NOW), database.session() as session:
            kind = kinds(session)["ticket_bought"]
            many(session, NOW, 200)
            ident = made(session, control={"list": _list(session, range(101, 201)).id}).id
        start(database, settings, ident, 100)
        run_all(database, ident)
        with database.session() as session:
            session.execute(
                sa.text(
                    "INSERT INTO events (contact_id, at, kind_id, details) SELECT n, :at, :k, "
                    "'{}' FROM generate_series(11, 110) n"
                ),
                {"at": NOW + dt.timedelta(days=1), "k": kind},
            )
        with clock.at(NOW + dt.timedelta(days=2)):
            # 90 of 100 against 10 of 100: eighty points, which of 100 people are eighty.
            shown = words(web.get(f"/results/{ident}").text)
            assert (
                "+80.0 points . This is very unlikely to be chance." in shown
                and "80 people more" not in shown
            )
            with database.session() as session:
                session.get_one(Send, ident).control = {"percent": 50.0}
            shown = words(web.get(f"/results/{ident}").text)
            assert (
                "+80.0 points , about 80 people more. This is very unlikely to be chance." in shown
            )
            assert "Picked at random from everyone who would have got it." in shown

    def test_nothing_is_compared_without_success(self, web, database, sent):
        with database.session() as session:
            session.get_one(Send, sent).success_event = None
        assert "Effect of sending" not in web.get(f"/results/{sent}").text


class TestSheet:
    @pytest.mark.parametrize(
        ("slot", "form", "kept", "said"),
        [
            (
                "limit",
                {"how": "some", "most": "1"},
                {"audience_limit": 1, "limit_rule": "some"},
                "goes to at most 1 person, picked at random",
            ),
            (
                "limit",
                {"how": "stop", "most": "5"},
                {"audience_limit": 5, "limit_rule": "stop"},
                "at most 5 people; if more may get it, nothing is sent",
            ),
            (
                "limit",
                {"how": "", "most": "5"},
                {"audience_limit": None},
                "goes to everyone who may get it",
            ),
            (
                "control",
                {"how": "share", "percent": "12,5"},
                {"control": {"percent": 12.5}},
                "with a control group of 12.5%, picked at random",
            ),
            (
                "control",
                {"how": "group", "group": "segment:1"},
                {"control": {"segment": 1}},
                "with everyone in Everybody as the control group",
            ),
            ("control", {"how": ""}, {"control": {}}, "with no control group"),
        ],
    )
    def test_words(self, web, ready, database, still, slot, form, kept, said):
        assert "Apply" in web.get(f"/sends/{ready}/word/{slot}").text
        assert word(web, ready, slot, database, **form).status_code == 303
        with database.session() as session:
            send = session.get_one(Send, ready)
            assert {name: getattr(send, name) for name in kept} == kept
        assert said in words(web.get(f"/sends/{ready}").text)
        assert web.get(f"/sends/{ready}/word/{slot}").status_code == 200

    @pytest.mark.parametrize(
        ("slot", "form", "says"),
        [
            ("limit", {"how": "some", "most": "0"}, "1 at least"),
            ("limit", {"how": "stop", "most": "many"}, "number"),
            ("control", {"how": "share", "percent": "51"}, "between 0.1 and 50 of 100"),
            ("control", {"how": "share", "percent": "x"}, "between 0.1 and 50"),
            ("control", {"how": "group", "group": ""}, "Choose the segment or list"),
            (
                "control",
                {"how": "group", "group": "segment:77"},
                "This segment does not exist any more",
            ),
        ],
    )
    def test_what_cannot_be(self, web, ready, database, still, slot, form, says):
        answer = word(web, ready, slot, database, **form)
        assert answer.status_code in (404, 422) and says in words(answer.text)
        with database.session() as session:
            send = session.get_one(Send, ready)
            assert send.audience_limit is None and send.control == {}

    def test_all_said_on_the_sheet_the_last_look_and_after(self, web, ready, database, still):
        word(web, ready, "limit", database, how="some", most="1")
        word(web, ready, "control", database, how="group", group="segment:1")
        shown = words(web.get(f"/sends/{ready}").text)
        assert (
            "2 in the control group" in shown
            and "Is the control group big enough?" in shown
            and "Nobody would get this." in shown
        )
        word(web, ready, "control", database, how="")
        look = words(web.get(f"/sends/{ready}/look").text)
        assert (
            "It goes to at most 1 person, picked at random" in look
            and "Over the audience limit 1" in look
            and "Send to 1 person" in look
        )
        word(web, ready, "success", database, event="")
        word(web, ready, "control", database, how="share", percent="10")
        shown = words(web.get(f"/sends/{ready}").text)
        # By their numbers neither of the two falls among ten in a hundred.
        assert not {i for i in (1, 2) if share_number(i, "campaign:1") < 1000}
        assert (
            "nothing counts as success yet" in shown
            and "Nobody in this audience falls into the control group" in shown
        )
