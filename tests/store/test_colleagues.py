"""Who works here: let in, given another role, shut out; and one's own password."""

import pytest
import sqlalchemy as sa

from meadowrun.shell.models import User
from tests.store.web import sign_in, words

FORM = {"name": "Noor Said", "email": "Noor@farrowhill.example", "role": "author", "password": "a first password"}


def number(database, name):
    with database.session() as session:
        return session.scalars(sa.select(User.id).where(User.name == name)).one()


def fresh(client):
    """A browser of somebody else."""
    return client.application.test_client()


class TestAdministrators:
    def test_let_somebody_in_who_then_signs_in(self, web, database):
        assert "Noor Said can sign in now." in web.post("/colleagues", data=FORM, follow_redirects=True).text
        other = fresh(web)
        assert sign_in(other, "noor", "a first password").status_code == 303
        assert other.get("/people/new").status_code == 200 and other.get("/colleagues").status_code == 403
        with database.session() as session:
            assert session.execute(sa.text("SELECT who FROM audit WHERE did = 'let in' AND object_name = 'Noor Said'")).scalar() == "Admin"

    @pytest.mark.parametrize(("change", "says"), [
        ({"password": "short"}, "at least 12 characters"), ({"email": "noor"}, "at-sign"), ({"role": "queen"}, "A role is one of"),
        ({"email": "author@farrowhill.example"}, "can sign in already")])
    def test_what_is_refused_keeps_what_was_typed(self, web, change, says):
        answer = web.post("/colleagues", data={**FORM, **change})
        assert answer.status_code in (409, 422) and says in words(answer.text) and 'value="Noor Said"' in answer.text
        assert "first password" not in answer.text

    def test_another_role_holds_at_once(self, web, database):
        other = fresh(web)
        sign_in(other, "viewer")
        assert other.get("/people/new").status_code == 403
        assert web.post(f"/colleagues/{number(database, 'Viewer')}", data={"role": "author"}).status_code == 303
        assert other.get("/people/new").status_code == 200
        assert web.post(f"/colleagues/{number(database, 'Viewer')}", data={"role": "queen"}).status_code == 422

    def test_who_is_shut_out_is_out_at_once_and_may_come_back(self, web, database):
        other = fresh(web)
        sign_in(other, "author")
        at = f"/colleagues/{number(database, 'Author')}"
        web.post(at, data={"may": "out"})
        assert other.get("/people").status_code in (302, 303) and "shut out" in web.get("/colleagues").text
        assert "sign-in" in other.get("/people").location and sign_in(other, "author").status_code != 303
        web.post(at, data={"may": "in"})
        assert sign_in(other, "author").status_code == 303

    def test_a_new_password_ends_what_they_are_signed_in_with(self, web, database):
        other = fresh(web)
        sign_in(other, "author")
        assert web.post(f"/colleagues/{number(database, 'Author')}", data={"password": "short"}).status_code == 422
        assert other.get("/people").status_code == 200
        web.post(f"/colleagues/{number(database, 'Author')}", data={"password": "another password"})
        assert other.get("/people").status_code in (302, 303)
        assert sign_in(other, "author", "another password").status_code == 303

    def test_nothing_typed_changes_nothing(self, web, database):
        answer = web.post(f"/colleagues/{number(database, 'Author')}", data={"password": ""})
        assert answer.status_code == 422 and "Type the new password for Author first." in answer.text
        assert web.post("/colleagues/99", data={"role": "author"}).status_code == 404
        with database.session() as session:
            assert session.execute(sa.text("SELECT count(*) FROM audit WHERE object_kind = 'colleague'")).scalar() == 0

    def test_the_last_administrator_stays_one(self, web, database):
        at = f"/colleagues/{number(database, 'Admin')}"
        for change in ({"role": "author"}, {"may": "out"}):
            answer = web.post(at, data=change)
            assert answer.status_code == 409 and "only administrator" in answer.text
        web.post(f"/colleagues/{number(database, 'Author')}", data={"role": "admin"})
        assert web.post(at, data={"role": "author"}).status_code == 303
        assert web.get("/colleagues").status_code == 403

    def test_only_they_do(self, client, database):
        sign_in(client, "author")
        assert client.get("/colleagues").status_code == client.post("/colleagues", data=FORM).status_code == 403
        assert client.post(f"/colleagues/{number(database, 'Author')}", data={"role": "admin"}).status_code == 403


class TestOwnPassword:
    @pytest.mark.parametrize(("old", "new", "says"), [
        ("not my password", "a better password", "not your password"), ("a long password", "short", "at least 12 characters"),
        ("a long password", "a long password", "is the old one")])
    def test_refused(self, web, old, new, says):
        answer = web.post("/password", data={"old": old, "new": new})
        assert answer.status_code == 422 and says in words(answer.text)

    def test_changed_and_every_other_browser_signed_out(self, web):
        other = fresh(web)
        sign_in(other)
        assert web.post("/password", data={"old": "a long password", "new": "a better password"}).status_code == 303
        assert web.get("/people").status_code == 200 and other.get("/people").status_code in (302, 303)
        assert sign_in(other).status_code != 303 and sign_in(other, "admin", "a better password").status_code == 303
