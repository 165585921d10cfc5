"""Whoever is brought into the demo later gets mail like the others, and reacts to it; colleagues who get a proof do not."""

import email.message
import email.policy

import pytest

from meadowrun.village.post import take
from meadowrun.village.store import Resident, Store

KEEN = Resident("ann@tarn.example", "takes", 1.0, 1.0, 0.0, 0.0, 0.0, False, 9)


@pytest.fixture
def village(tmp_path):
    store = Store(tmp_path / "village.db")
    store.settle([KEEN])
    yield store
    store.close()


def mail(number, **headers):
    message = email.message.EmailMessage(policy=email.policy.SMTP)
    message["From"], message["Subject"], message["Message-ID"] = "desk@farrowhill.example", "The dome is open", f"<{number}@hill.example>"
    message["Date"] = "Mon, 23 Nov 2026 12:00:00 +0000"
    for name, value in headers.items():
        message[name.replace("_", "-")] = value
    message.set_content("Come up.")
    message.add_alternative('<a href="http://hill.example/c/abc">Come up</a><img src="http://hill.example/o/abc">', subtype="html")
    return message.as_bytes()


def deeds(store):
    return [row["deed"] for row in store.rows("SELECT deed FROM plans ORDER BY due")]


def test_somebody_new_opens_and_clicks_with_the_habits_of_one_who_lives_here(village):
    take(village, "New.Person@mail.example", mail(1, List_Unsubscribe="<http://hill.example/u/abc>"), "")
    newcomer = village.resident("new.person@mail.example")
    assert newcomer == Resident("new.person@mail.example", "takes", 1.0, 1.0, 0.0, 0.0, 0.0, False, 9)
    assert "open" in deeds(village) and "click" in deeds(village)


def test_a_colleague_with_a_proof_does_not_move_in(village):
    take(village, "ida@farrowhill.example", mail(2), "")
    assert village.resident("ida@farrowhill.example") is None and deeds(village) == []


def test_nobody_moves_into_a_village_of_nobody(tmp_path):
    store = Store(tmp_path / "empty.db")
    take(store, "new@mail.example", mail(3, List_Unsubscribe="<http://hill.example/u/abc>"), "")
    assert store.resident("new@mail.example") is None
    store.close()
