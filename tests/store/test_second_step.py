"""The second step of signing in: set up, asked for, used once; recovery codes; who has to have
one."""

import dataclasses
import re

import pyotp
import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.shell import accounts, attempts, second_step
from meadowrun.shell.models import User
from tests.store.web import browser, sign_in, words

PASSWORD = "a long password"


def secret_of(web):
    return re.search(r'name="secret" value="(\w+)"', web.get("/second-step").text)[1]


def steps_on(database, many=1):
    """Lets the next code be another one: as though so many times 30 seconds had gone since the last
    one."""
    with database.session() as session:
        session.execute(
            sa.text("UPDATE users SET second_step_used = second_step_used - :n"), {"n": many}
        )


@pytest.fixture
def armed(web):
    """The administrator's browser, with a second step: (client, the app's secret, the recovery
    codes)."""
    secret = secret_of(web)
    answer = web.post(
        "/second-step",
        data={"secret": secret, "code": pyotp.TOTP(secret).now(), "password": PASSWORD},
    )
    assert answer.status_code == 200
    return web, secret, re.findall(r"<code>([a-z2-9]{5}-[a-z2-9]{5})</code>", answer.text)


def test_setting_it_up_needs_the_app_and_the_password(web, database):
    page = web.get("/second-step").text
    secret = re.search(r'name="secret" value="(\w+)"', page)[1]
    assert "<svg" in page and secret in page
    for wrong, says in (
        ({"code": "000000"}, "shows another code"),
        ({"password": "not my password"}, "not your password"),
        ({"secret": "short"}, "open for too long"),
        ({"code": "१२३४५६"}, "shows another code"),
    ):
        answer = web.post(
            "/second-step",
            data={"secret": secret, "code": pyotp.TOTP(secret).now(), "password": PASSWORD} | wrong,
        )
        assert answer.status_code == 422 and says in words(answer.text)
    with database.session() as session:
        assert session.scalars(sa.select(User.second_step)).all() == [None] * len(
            session.scalars(sa.select(User)).all()
        )


def test_the_secret_is_not_in_the_table_as_it_is(armed, database):
    with database.session() as session:
        kept = session.scalar(sa.select(User.second_step).where(User.second_step.is_not(None)))
        hashes = session.scalars(sa.text("SELECT code_hash FROM recovery_codes")).all()
    assert armed[1] not in kept and len(armed[2]) == len(hashes) == second_step.CODES
    assert not set(armed[2]) & set(hashes)


def test_a_code_is_asked_for_and_taken_once(armed, database, settings):
    web, secret, _ = armed
    other = browser(database, settings)
    halfway = sign_in(other)
    assert halfway.location.startswith("/sign-in/code?to=/people")
    assert other.get("/people").status_code == 302, "the password alone opens nothing"
    code = pyotp.TOTP(secret).now()
    assert other.post("/sign-in/code", data={"code": code}).status_code == 422, (
        "the code of the set-up was used already"
    )
    steps_on(database)
    cookie = other.get_cookie("meadowrun_in").value
    assert (
        other.post(
            "/sign-in/code", data={"code": f"{code[:3]} {code[3:]}", "to": "/people"}
        ).location
        == "/people"
    )
    assert (
        other.get_cookie("meadowrun_in").value != cookie and other.get("/people").status_code == 200
    )
    third = browser(database, settings)
    sign_in(third)
    with database.session() as session:
        assert (
            session.scalar(sa.text("SELECT count(*) FROM told WHERE subject LIKE '%used twice%'"))
            == 1
        )
    assert third.post("/sign-in/code", data={"code": code}).status_code == 422, (
        "who looked on does not come in by it"
    )


def test_a_recovery_code_lets_in_once(armed, database, settings):
    _, _, codes = armed
    for code, status in (
        (codes[0], 303),
        (codes[0], 422),
        (codes[1].upper().replace("-", " "), 303),
        ("aaaaa-aaaaa", 422),
        ("", 422),
    ):
        client = browser(database, settings)
        sign_in(client)
        assert client.post("/sign-in/code", data={"code": code}).status_code == status, code
    with database.session() as session:
        assert (
            session.scalar(sa.text("SELECT count(*) FROM recovery_codes")) == second_step.CODES - 2
        )


def test_codes_cannot_be_guessed(armed, database, settings):
    client = browser(database, settings)
    sign_in(client)
    answers = [
        client.post("/sign-in/code", data={"code": f"{n:06d}"}).status_code
        for n in range(attempts.OF_OWN + 1)
    ]
    assert answers == [422] * attempts.OF_OWN + [429]


def test_without_the_password_there_is_no_code_to_type(client):
    assert client.get("/sign-in/code").location == "/sign-in"
    assert client.post("/sign-in/code", data={"code": "000000"}).status_code == 303


def test_turning_it_off_and_new_codes_need_both(armed, database):
    web, secret, codes = armed
    steps_on(database)
    assert "10 recovery codes" in words(web.get("/password").text)
    for path in ("/second-step/off", "/second-step/codes"):
        assert web.post(path, data={"password": PASSWORD, "code": "000000"}).status_code == 422
        assert (
            web.post(path, data={"password": "wrong", "code": pyotp.TOTP(secret).now()}).status_code
            == 422
        )
    fresh = re.findall(
        r"<code>([a-z2-9]{5}-[a-z2-9]{5})</code>",
        web.post(
            "/second-step/codes", data={"password": PASSWORD, "code": pyotp.TOTP(secret).now()}
        ).text,
    )
    assert len(fresh) == second_step.CODES and not set(fresh) & set(codes)
    assert (
        web.post("/second-step/off", data={"password": PASSWORD, "code": fresh[0]}).status_code
        == 303
    )
    with database.session() as session:
        assert session.scalar(sa.text("SELECT count(*) FROM recovery_codes")) == 0
        told = session.scalars(sa.text("SELECT subject FROM told ORDER BY id")).all()
    assert told == ["Your sign-in asks for a code now", "Your sign-in asks for no code any more"]


def test_a_new_password_needs_the_code_as_well(armed, database):
    web, secret, _ = armed
    steps_on(database)
    new = {"old": PASSWORD, "new": "quite another long one"}
    assert web.post("/password", data=new).status_code == 422
    assert web.post("/password", data=new | {"code": pyotp.TOTP(secret).now()}).status_code == 303


def test_who_has_to_have_one_comes_no_further_without(web, database, settings):
    strict = dataclasses.replace(settings, second_step="admin")
    admin = browser(database, strict)
    sign_in(admin)
    assert (
        admin.get("/people").location == "/second-step"
        and admin.post("/segments/look", json={}).status_code == 403
    )
    assert "Your role needs a second step" in admin.get("/second-step").text
    author = browser(database, strict)
    sign_in(author, "author")
    assert author.get("/people").status_code == 200
    secret = secret_of(admin)
    codes = re.findall(
        r"<code>([a-z2-9]{5}-[a-z2-9]{5})</code>",
        admin.post(
            "/second-step",
            data={"secret": secret, "code": pyotp.TOTP(secret).now(), "password": PASSWORD},
        ).text,
    )
    assert admin.get("/people").status_code == 200
    refused = admin.post("/second-step/off", data={"password": PASSWORD, "code": codes[0]})
    assert refused.status_code == 422 and "Your role needs" in refused.text


def test_an_administrator_helps_who_lost_everything(web, database, settings):
    author = browser(database, settings)
    sign_in(author, "author")
    secret = secret_of(author)
    author.post(
        "/second-step",
        data={"secret": secret, "code": pyotp.TOTP(secret).now(), "password": PASSWORD},
    )
    with database.session() as session:
        ident = session.scalar(sa.select(User.id).where(User.email.startswith("author@")))
        mine = session.scalar(sa.select(User.id).where(User.email.startswith("admin@")))
    assert author.post(f"/colleagues/{ident}", data={"step": "off"}).status_code == 403
    assert web.post(f"/colleagues/{mine}", data={"step": "off"}).status_code == 409
    assert web.post(f"/colleagues/{ident}", data={"step": "off"}).status_code == 303
    assert author.get("/people").status_code == 302, "signed out"
    assert sign_in(author, "author").location == "/people"
    assert "turned off the second step of" in words(web.get("/changes").text)


def test_halfway_ends_soon(armed, database, settings):
    client = browser(database, settings)
    sign_in(client)
    with database.session() as session:
        session.execute(
            sa.text("UPDATE sign_ins SET expires_at = :now WHERE halfway"),
            {"now": clock.machine_now()},
        )
    assert client.post("/sign-in/code", data={"code": armed[2][0]}).location.startswith("/sign-in")
    assert accounts.HALFWAY.total_seconds() <= 600
