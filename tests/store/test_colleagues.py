"""Who works here: let in, given another role, shut out; and one's own password."""

import datetime as dt
import re

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.shell import accounts
from meadowrun.shell.models import User
from tests.store.web import sign_in, words

FORM = {"name": "Noor Said", "email": "Noor@farrowhill.example", "role": "author"}


def number_of(database, name):
    with database.session() as session:
        return session.scalars(sa.select(User.id).where(User.name == name)).one()


def fresh(client):
    """A browser of somebody else."""
    return client.application.test_client()


def link_in(answer):
    return re.search(r"<code>http://127\.0\.0\.1:1(/invited/[^<]+)</code>", answer.text)[1]


class TestAdministrators:
    def test_let_somebody_in_who_sets_a_password_and_signs_in(self, web, database):
        path = link_in(web.post("/colleagues", data=FORM))
        assert (
            path not in web.get("/colleagues").text
            and "no password yet" in web.get("/colleagues").text
        )
        other = fresh(web)
        assert (
            sign_in(other, "noor", "").status_code == sign_in(other, "noor", "!").status_code == 422
        )
        assert "Noor Said" in other.get(path).text
        for weak, says in (
            ("short", "at least 12 characters"),
            ("noorsaid2026", "others know"),
            ("passwordpassword", "easily guessed"),
        ):
            answer = other.post(path, data={"new": weak})
            assert answer.status_code == 422 and says in words(answer.text)
        assert other.post(path, data={"new": "a first password"}).location == "/sign-in"
        assert sign_in(other, "noor", "a first password").status_code == 303
        assert (
            other.get("/people/new").status_code == 200
            and other.get("/colleagues").status_code == 403
        )
        assert (
            fresh(web).get(path).status_code
            == fresh(web).post(path, data={"new": "another good password"}).status_code
            == 404
        ), "used"
        with database.session() as session:
            assert (
                session.execute(
                    sa.text(
                        "SELECT who FROM audit WHERE did = 'added' AND object_name = 'Noor Said'"
                    )
                ).scalar()
                == "Admin"
            )
            assert session.execute(
                sa.text("SELECT array_agg(subject ORDER BY id) FROM told")
            ).scalar() == ["Admin invited you to Meadowrun", "Your password was set"]

    def test_an_invitation_ends_and_cannot_be_made(self, web, database, settings):
        path = link_in(web.post("/colleagues", data=FORM))
        with database.session() as session:
            user = session.scalar(sa.select(User).where(User.name == "Noor Said"))
            old = accounts.invitation(
                settings.secret,
                user,
                clock.machine_now() - accounts.INVITED_FOR - dt.timedelta(minutes=1),
            )
            other = accounts.invitation("o" * 40, user, clock.machine_now())
        ident, _, rest = path.removeprefix("/invited/").partition(".")
        assert fresh(web).get(path).status_code == 200
        for wrong in (
            old,
            other,
            f"/invited/1.{rest}",
            "/invited/x",
            "/invited/1.2",
            path[:-1] + "x",
        ):
            assert fresh(web).get(wrong).status_code == 404, wrong
        web.post(f"/colleagues/{ident}", data={"may": "out"})
        assert fresh(web).get(path).status_code == 404

    @pytest.mark.parametrize(
        ("change", "says"),
        [
            ({"email": "noor"}, "has no @"),
            ({"role": "queen"}, "A role is one of"),
            ({"email": "author@farrowhill.example"}, "can sign in already"),
        ],
    )
    def test_what_is_refused_keeps_what_was_typed(self, web, change, says):
        answer = web.post("/colleagues", data={**FORM, **change})
        assert (
            answer.status_code in (409, 422)
            and says in words(answer.text)
            and 'value="Noor Said"' in answer.text
        )

    def test_another_role_holds_at_once(self, web, database):
        other = fresh(web)
        sign_in(other, "viewer")
        assert other.get("/people/new").status_code == 403
        assert (
            web.post(
                f"/colleagues/{number_of(database, 'Viewer')}", data={"role": "author"}
            ).status_code
            == 303
        )
        assert other.get("/people/new").status_code == 200
        assert (
            web.post(
                f"/colleagues/{number_of(database, 'Viewer')}", data={"role": "queen"}
            ).status_code
            == 422
        )

    def test_who_is_shut_out_is_out_at_once_and_may_come_back(self, web, database):
        other = fresh(web)
        sign_in(other, "author")
        at = f"/colleagues/{number_of(database, 'Author')}"
        web.post(at, data={"may": "out"})
        assert other.get("/people").status_code in (302, 303) and "deactivated" in words(
            web.get("/colleagues").text
        )
        assert (
            "sign-in" in other.get("/people").location
            and sign_in(other, "author").status_code != 303
        )
        web.post(at, data={"may": "in"})
        assert sign_in(other, "author").status_code == 303

    def test_a_new_password_ends_the_old_and_what_they_are_signed_in_with(self, web, database):
        other = fresh(web)
        sign_in(other, "author")
        path = link_in(
            web.post(f"/colleagues/{number_of(database, 'Author')}", data={"password": "new"})
        )
        assert (
            other.get("/people").status_code in (302, 303)
            and sign_in(other, "author").status_code == 422
        )
        assert other.post(path, data={"new": "another password"}).status_code == 303
        assert sign_in(other, "author", "another password").status_code == 303

    def test_nobody_is_changed_who_is_not_there(self, web, database):
        assert web.post("/colleagues/99", data={"role": "author"}).status_code == 404
        with database.session() as session:
            assert (
                session.execute(
                    sa.text("SELECT count(*) FROM audit WHERE object_kind = 'colleague'")
                ).scalar()
                == 0
            )

    def test_the_last_administrator_stays_one(self, web, database):
        at = f"/colleagues/{number_of(database, 'Admin')}"
        for change in ({"role": "author"}, {"may": "out"}):
            answer = web.post(at, data=change)
            assert answer.status_code == 409 and "only administrator" in answer.text
        web.post(f"/colleagues/{number_of(database, 'Author')}", data={"role": "admin"})
        assert web.post(at, data={"role": "author"}).status_code == 303
        assert web.get("/colleagues").status_code == 403

    def test_only_they_do(self, client, database):
        sign_in(client, "author")
        assert (
            client.get("/colleagues").status_code
            == client.post("/colleagues", data=FORM).status_code
            == 403
        )
        assert (
            client.post(
                f"/colleagues/{number_of(database, 'Author')}", data={"role": "admin"}
            ).status_code
            == 403
        )


class TestOwnPassword:
    @pytest.mark.parametrize(
        ("old", "new", "says"),
        [
            ("not my password", "a better password", "not your password"),
            ("a long password", "short", "at least 12 characters"),
            ("a long password", "a long password", "is the old one"),
        ],
    )
    def test_refused(self, web, old, new, says):
        answer = web.post("/password", data={"old": old, "new": new})
        assert answer.status_code == 422 and says in words(answer.text)

    def test_changed_and_every_other_browser_signed_out(self, web):
        other = fresh(web)
        sign_in(other)
        assert (
            web.post(
                "/password", data={"old": "a long password", "new": "a better password"}
            ).status_code
            == 303
        )
        assert web.get("/people").status_code == 200 and other.get("/people").status_code in (
            302,
            303,
        )
        assert (
            sign_in(other).status_code != 303
            and sign_in(other, "admin", "a better password").status_code == 303
        )
