"""Whoever is brought into the demo later gets mail like the others, and reacts to it; colleagues
who get a proof do not."""

import dataclasses
import email.message
import email.policy

import pytest

from meadowrun.base import clock, jobs
from meadowrun.village import jobs as village_jobs
from meadowrun.village.post import fate_of, take
from meadowrun.village.store import DOMAINS, Resident, Store
from tests.conftest import NOW
from tests.store.people import add

KEEN = Resident("ann@tarn.example", "takes", 1.0, 1.0, 0.0, 0.0, 0.0, False, 9)


@pytest.fixture
def village(tmp_path):
    store = Store(tmp_path / "village.db")
    store.settle([KEEN])
    yield store
    store.close()


def mail(number, **headers):
    message = email.message.EmailMessage(policy=email.policy.SMTP)
    message["From"], message["Subject"], message["Message-ID"] = (
        "desk@farrowhill.example",
        "The dome is open",
        f"<{number}@hill.example>",
    )
    message["Date"] = "Mon, 23 Nov 2026 12:00:00 +0000"
    for name, value in headers.items():
        message[name.replace("_", "-")] = value
    message.set_content("Come up.")
    message.add_alternative(
        '<a href="http://hill.example/c/abc">Come up</a><img src="http://hill.example/o/abc">',
        subtype="html",
    )
    return message.as_bytes()


def deeds(store):
    return [row["deed"] for row in store.rows("SELECT deed FROM plans ORDER BY due")]


def test_somebody_new_opens_and_clicks_with_the_habits_of_one_who_lives_here(village):
    take(
        village,
        "New.Person@mail.example",
        mail(1, List_Unsubscribe="<http://hill.example/u/abc>"),
        "",
    )
    newcomer = village.resident("new.person@mail.example")
    assert newcomer == Resident(
        "new.person@mail.example", "takes", 1.0, 1.0, 0.0, 0.0, 0.0, False, 9
    )
    assert "open" in deeds(village) and "click" in deeds(village)


def test_a_colleague_with_a_proof_does_not_move_in(village):
    take(village, "ida@farrowhill.example", mail(2), "")
    assert village.resident("ida@farrowhill.example") is None and deeds(village) == []


def test_nobody_moves_into_a_village_of_nobody(tmp_path):
    store = Store(tmp_path / "empty.db")
    take(store, "new@mail.example", mail(3, List_Unsubscribe="<http://hill.example/u/abc>"), "")
    assert store.resident("new@mail.example") is None
    store.close()


def test_somebody_new_gets_texts_and_comes_by_like_the_others(village):
    village.take_in([("7", "New@mail.example", "+447700900123"), ("9", "", "+447700900124")])
    assert village.last_known() == 9
    assert village.resident_of("7") == Resident(
        "new@mail.example", "takes", 1.0, 1.0, 0.0, 0.0, 0.0, False, 9
    )
    assert village.resident_of("9").opens == 1.0, "who has only a telephone has habits, too"
    # Mail to a host that knows nobody is still refused.
    village.take_in([("8", f"x@{next(iter(DOMAINS))}", "")])
    assert fate_of(village, f"x@{next(iter(DOMAINS))}") == DOMAINS[next(iter(DOMAINS))] != "takes"
    # Told twice is no change.
    village.take_in([("7", "new@mail.example", "+447700900123")])
    assert len(village.rows("SELECT 1 FROM known_as")) == 3


def test_whoever_was_brought_in_since_is_told_to_the_village(database, settings, monkeypatch):
    told = []

    def village(path, data):
        told.extend(data["people"])
        return {"known": max([1, *(person[0] for person in data["people"])])}

    monkeypatch.setattr(village_jobs, "_village", village)
    monkeypatch.setattr(village_jobs, "_NEW", village_jobs._NEW.replace("LIMIT 500", "LIMIT 2"))
    jobs.set_context(
        jobs.Context(database, dataclasses.replace(settings, village_url="http://127.0.0.1:9"))
    )
    with clock.at(NOW), database.session() as session:
        for number in range(1, 6):
            add(
                session,
                NOW,
                f"P{number}@mail.example",
                phone="+44 7700 900 123" if number == 2 else None,
            )
    jobs.run_here("village.newcomers")
    assert [person[0] for person in told] == [2, 3, 4, 5] and told[0] == (
        2,
        "p2@mail.example",
        "+447700900123",
    )
