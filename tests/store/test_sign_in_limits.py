"""Guessing is stopped, and keeps nobody out whose password is guessed at, nor who sits behind the
same address."""

import contextlib
import threading
import time

import pytest
import sqlalchemy as sa

from meadowrun.base.errors import Invalid
from meadowrun.shell import accounts, attempts, passwords
from tests.store.web import browser, sign_in


def wrong(client, name="admin", place="192.0.2.1", password="not it"):
    return client.post(
        "/sign-in",
        data={"email": f"{name}@farrowhill.example", "password": password},
        environ_overrides={"REMOTE_ADDR": place},
    ).status_code


@pytest.fixture
def fresh(database, settings, web):
    """Another browser, never used by anybody."""
    return browser(database, settings)


def test_from_one_place_few_guesses_are_taken(fresh):
    assert [wrong(fresh) for _ in range(attempts.FOR_ADDRESS_FROM_PLACE + 1)] == [
        422
    ] * attempts.FOR_ADDRESS_FROM_PLACE + [429]
    assert wrong(fresh, password="a long password") == 429, (
        "the right one as well, or guessing would go on"
    )
    assert wrong(fresh, "author") == 422, "others at the same place sign in"
    assert wrong(fresh, place="192.0.2.2") == 422


def test_from_many_places_fewer_than_a_hundred_an_hour_are_taken(fresh):
    answers = [wrong(fresh, place=f"192.0.2.{n}") for n in range(attempts.FOR_ADDRESS + 1)]
    assert answers == [422] * attempts.FOR_ADDRESS + [429]
    assert attempts.FOR_ADDRESS * (3600 / attempts.WINDOW.total_seconds()) <= 100


def test_a_browser_that_its_owner_has_used_is_not_kept_out(web, fresh):
    for n in range(attempts.FOR_ADDRESS + 1):
        wrong(fresh, place=f"192.0.2.{n}")
    assert wrong(fresh, place="192.0.2.77", password="a long password") == 429
    web.post("/sign-out")
    assert sign_in(web).status_code == 303
    forged = web.get_cookie("meadowrun_known").value
    for value in (
        forged[:-1] + ("0" if forged[-1] != "0" else "1"),
        "1.x.y",
        "..",
        "²",
        forged.replace(".", ""),
    ):
        fresh.set_cookie("meadowrun_known", value)
        assert wrong(fresh, place="192.0.2.77", password="a long password") == 429


def test_a_known_browser_has_a_limit_of_its_own(web):
    web.post("/sign-out")
    answers = [wrong(web) for _ in range(attempts.FROM_KNOWN_BROWSER + 1)]
    assert answers == [422] * attempts.FROM_KNOWN_BROWSER + [429]


def test_a_changed_password_forgets_known_browsers(web, database, settings):
    before = web.get_cookie("meadowrun_known").value
    web.post("/password", data={"old": "a long password", "new": "quite another long one"})
    with database.session() as session:
        user = session.scalar(
            sa.select(accounts.User).where(accounts.User.email.startswith("admin@"))
        )
        assert accounts._browser(settings.secret, user, before) is None
        assert accounts._browser(
            settings.secret, user, accounts.known_browser(settings.secret, user)
        )


def test_many_at_once_count_as_many(database, settings, web):
    """Each in a thread of its own, all begun together: no more are judged than one after the
    other."""
    app, ready, answers = browser(database, settings).application, threading.Barrier(30), []

    def guess():
        ready.wait(20)
        answers.append(wrong(app.test_client()))

    threads = [threading.Thread(target=guess) for _ in range(30)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(60)
    assert sorted(answers) == [422] * attempts.FOR_ADDRESS_FROM_PLACE + [429] * (
        30 - attempts.FOR_ADDRESS_FROM_PLACE
    )


def test_right_ones_are_taken_back(fresh):
    for _ in range(attempts.FOR_ADDRESS + 2):
        assert wrong(fresh, password="a long password") == 303


def test_ones_own_password_cannot_be_guessed_in_a_browser_left_open(web):
    answers = [
        web.post(
            "/password", data={"old": f"guess number {n}", "new": "quite another long one"}
        ).status_code
        for n in range(attempts.OF_OWN + 1)
    ]
    assert answers == [422] * attempts.OF_OWN + [429]


def test_a_place_of_ipv6_is_its_network():
    assert (
        attempts.network("2001:db8:1:2:3:4:5:6")
        == attempts.network("2001:db8:1:2::9")
        == "2001:db8:1:2::/64"
    )
    assert attempts.network("192.0.2.1") == "192.0.2.1" and attempts.network("") == ""


@pytest.mark.parametrize(
    "password",
    [
        "short",
        "elevenchars",
        "password1234",
        "passwordpassword",
        "123456789012",
        "qwertyuiop12",
        "farrowhill2026",
        "IdaVance2026",
        "ida@farrowhill",
        "Meadowrun2026",
        "aaaaaaaaaaaaaaaa",
        "letmeinletmein",
        "x" * 129,
        "Ida Vance at Farrow Hill 2026",
        "vance.ida@farrowhill",
    ],
)
def test_passwords_that_are_guessed_are_refused(password):
    with pytest.raises(Invalid):
        passwords.judge(
            password, ("ida@farrowhill.example", "Ida Vance", "Farrow Hill Observatory")
        )


@pytest.mark.parametrize(
    "password",
    [
        "a long password",
        "clear-night-sky",
        "kettle orbit 9 violet",
        "Дом над рекой зимой",
        "七つの星が丘の上に光る夜だ",
        "x7!Qm2#vT9$k",
    ],
)
def test_passwords_that_nobody_guesses_are_taken(password):
    passwords.judge(password, ("ida@farrowhill.example", "Ida Vance", "Farrow Hill Observatory"))


def test_what_is_kept_of_a_password_holds_the_installations_secret(web, database, settings):
    """A leaked table alone does not allow guessing: the same hash is nobody's password under
    another secret."""
    with database.session() as session:
        kept = {
            user.email.partition("@")[0]: user for user in session.scalars(sa.select(accounts.User))
        }
    assert kept["admin"].password_hash.startswith("p:$argon2id$"), "from the first sign-in on"
    assert accounts._matches(kept["admin"], "a long password", settings.secret)
    assert not accounts._matches(kept["admin"], "a long password", "o" * 40)
    assert accounts._matches(kept["author"], "a long password", settings.secret), (
        "made on the command line, not used yet"
    )


def test_a_password_is_judged_while_it_is_typed(web, client):
    for new, good in (
        ("short", False),
        ("kettle orbit 9 violet", True),
        ("admin farrowhill", False),
    ):
        assert web.post("/password/strength", data={"new": new}).json["good"] is good
    assert (
        browser(client.application.config["DATABASE"], client.application.config["MEADOWRUN"])
        .post("/password/strength", data={"new": "x"})
        .status_code
        == 404
    ), "not for strangers"


@pytest.mark.parametrize(
    "password",
    [
        "4@8({[<369&#!1/|0$5+7%2" * 5,
        "1!|/7+4@5$0" * 11,
        "aA" * 64,
        "qwertyuiop" * 12,
        "12/12/2012" * 12,
    ],
)
def test_judging_takes_no_longer_for_what_is_made_to_take_long(password):
    def seconds(text):
        # The time that it computes: what else this machine does says nothing.
        began = time.process_time()
        with contextlib.suppress(Invalid):
            passwords.judge(text[:128], ("ida@farrowhill.example", "Ida Vance"))
        return time.process_time() - began

    usual = max(seconds("kettle orbit 9 violet"), 0.002)
    assert min(seconds(password) for _ in range(3)) < max(200 * usual, 1.0)
