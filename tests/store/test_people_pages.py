"""The pages of contacts and of imports over HTTP, as somebody at the desk uses them all day."""

import io
import re

import pytest
import sqlalchemy as sa

from meadowrun.base import clock, jobs
from meadowrun.people import duplicates, keeping
from meadowrun.people.models import Consent, Contact, Field
from tests.conftest import NOW
from tests.store.people import IDA, add, many
from tests.store.web import words


class TestContacts:
    def test_found_by_a_part_of_a_name_or_address_and_sorted(self, web, three):
        shown = words(web.post("/people", data={"q": "ben"}, follow_redirects=True).text)
        assert "ben@post.example" in shown and "ann@post.example" not in shown
        newest = web.get("/people?sort=added").text
        assert newest.index("cy@post.example") < newest.index("ann@post.example")
        assert web.get("/people?sort=nonsense").status_code == 200

    def test_no_address_of_a_page_tells_whom_it_is_about(self, web, database):
        with database.session() as session:
            for n in range(60):
                add(
                    session,
                    NOW,
                    f"p{n:02}@post.example",
                    first_name="Secret",
                    last_name="Quist",
                    town="Farrow",
                )
        for path, words_of in (
            ("/people", "quist"),
            ("/people/suppressions/search", "p0"),
            ("/companies", "quist"),
        ):
            answer = web.post(path, data={"q": words_of})
            assert (
                answer.status_code == 303
                and words_of not in answer.location.lower().partition("search=")[0]
            )
            shown = web.get(answer.location)
            assert shown.status_code == 200 and f'value="{words_of}"' in shown.text
            links = re.findall(r'href="([^"]*)"', shown.text)
            assert links and not [
                link for link in links if re.search("quist|secret|post", link, re.IGNORECASE)
            ]
        assert len(web.post("/people", data={"q": "é" * 9_000}).location) < 4_000, (
            "as long as proxies take"
        )
        assert web.get("/people?search=Quist").status_code == 200, (
            "what we did not make is no search"
        )
        assert 'value=""' in web.get("/people?search=Quist").text

    def test_pages_follow_one_another_without_gap_or_duplicate(self, web, database):
        with database.session() as session:
            for n in range(120):
                add(session, NOW, f"p{n:03}@post.example", first_name="Same", last_name="Name")
        seen, at = [], "/people"
        while at:
            page = web.get(at).text
            seen += re.findall(r"p\d{3}@post\.example", page)
            further = re.search(r'href="(/people\?[^"]*at=[^"]*)"[^>]*>(?:Next|Further)', page)
            at = further and further[1].replace("&amp;", "&")
        assert len(seen) == 120 and len(set(seen)) == 120

    def test_added_with_evidence_or_not_at_all(self, web, three, database):
        given = {
            "first_name": "Dov",
            "email": "dov@post.example",
            "score": "seven",
            "agreed": "yes",
            "how": "at the till",
        }
        answer = web.post("/people/new", data=given)
        assert (
            answer.status_code == 422
            and 'value="seven"' in answer.text
            and 'value="at the till"' in answer.text
        )
        answer = web.post("/people/new", data=given | {"score": "7", "how": " "})
        assert (
            answer.status_code == 422
            and "Say how this person agreed" in answer.text
            and 'value="dov@post.example"' in answer.text
        )
        with database.session() as session:
            assert (
                session.scalar(sa.select(Contact).where(Contact.email_key == "dov@post.example"))
                is None
            )
        answer = web.post("/people/new", data=given | {"score": "7"}, follow_redirects=True)
        assert "Dov was added." in answer.text and "at the till" in answer.text

    def test_changed_and_refused_with_what_was_typed(self, web, three, database):
        at = f"/people/{three['Ann']}/edit"
        assert 'value="ann@post.example"' in web.get(at).text
        given = {
            "first_name": "Anna",
            "last_name": "Marsh",
            "email": "ann@post.example",
            "timezone": "Mars/Base",
            "membership": "Patron",
        }
        answer = web.post(at, data=given)
        assert (
            answer.status_code == 422
            and 'value="Anna"' in answer.text
            and "Mars/Base" in answer.text
        )
        assert (
            web.post(at, data=given | {"timezone": "Europe/Paris"}).location
            == f"/people/{three['Ann']}"
        )
        with database.session() as session:
            assert session.get_one(Contact, three["Ann"]).timezone == "Europe/Paris"

    def test_a_yes_or_no_by_channel_and_topic(self, web, three, database):
        at = f"/people/{three['Ben']}"
        assert "Text messages" not in words(web.get(at).text).partition("Data and privacy")[0]
        answer = web.post(f"{at}/consent", data={"about": "sms:0", "agreed": "yes", "how": ""})
        assert (
            answer.status_code == 422
            and "Say how this person agreed" in answer.text
            and '<option value="sms:0" selected>' in answer.text
        )
        assert (
            web.post(
                f"{at}/consent", data={"about": "fax:0", "agreed": "no", "how": "kept"}
            ).status_code
            == 422
        )
        for about, agreed, how in (
            ("sms:0", "yes", "on the phone"),
            ("email:1", "no", ""),
            ("sms:0", "no", "changed his mind"),
        ):
            assert (
                web.post(
                    f"{at}/consent", data={"about": about, "agreed": agreed, "how": how}
                ).status_code
                == 303
            )
        shown = words(web.get(at).text)
        assert (
            "Text messages : no changed his mind" in shown
            and "Sky diary : no withdrawn by Admin" in shown
        )
        history = shown.partition("Consent history")[2]
        assert (
            "Text messages: no, changed his mind" in history
            and "Text messages: yes, on the phone" in history
        )
        assert "All email: no" not in history
        with database.session() as session:
            assert set(
                session.execute(
                    sa.select(Consent.channel, Consent.topic_id, Consent.agreed).where(
                        Consent.contact_id == three["Ben"]
                    )
                ).tuples()
            ) == {("email", 0, True), ("email", 1, False), ("sms", 0, False)}
            assert session.execute(
                sa.text(
                    "SELECT detail->>'about' FROM audit WHERE did = 'set the consent of' ORDER "
                    "BY id"
                )
            ).scalars().all() == ["Text messages", "Sky diary", "Text messages"]

    def test_viewers_look_and_change_nothing(self, client, three):
        from tests.store.web import sign_in

        sign_in(client, "viewer")
        assert client.get(f"/people/{three['Ann']}").status_code == 200
        assert (
            client.post(
                f"/people/{three['Ann']}/consent", data={"about": "email:0", "agreed": "no"}
            ).status_code
            == 403
        )
        assert client.post("/people/new", data={"first_name": "X"}).status_code == 403
        assert client.post(f"/people/{three['Ann']}/erase").status_code == 403

    def test_nobody_and_a_page_of_the_timeline_that_is_none(self, web, three):
        assert web.get("/people/999").status_code == 404
        assert web.get(f"/people/{three['Ann']}?before=yesterday").status_code == 422


class TestImports:
    FILE = (
        "Email,First "
        "name,Texts\nann@post.example,Anna,\ndov@post.example,Dov,yes\nedda@post.example,Edda,no\nbad,B,\n"
    )

    def begin(self, web, content=FILE, name="fair.csv"):
        return web.post(
            "/imports/new",
            data={"file": (io.BytesIO(content.encode()), name)},
            content_type="multipart/form-data",
        )

    def test_a_file_goes_in_and_its_refused_rows_come_back(self, web, three, database, job_context):
        assert self.begin(web).location == "/imports/1"
        page = web.get("/imports/1").text
        assert "Columns to match" in page and page.count('<option value="email" selected>') == 1
        plan = {
            "target0": "email",
            "target1": "first_name",
            "target2": "agreed:sms",
            "identify": "email",
            "known": "update",
            "day_first": "yes",
        }
        # Refused: a column says who agreed, and nobody says how. All that was chosen stays chosen.
        answer = web.post("/imports/1/plan", data=plan)
        assert answer.status_code == 422 and "Fill in “How and when they agreed”" in answer.text
        assert (
            '<option value="agreed:sms" selected>' in answer.text
            and '<option value="update" selected>' in answer.text
        )
        assert (
            web.post("/imports/1/plan", data=plan | {"consent": "ticked at the fair"}).status_code
            == 303
        )
        jobs.run_here("imports.run", import_id=1, dry=True)
        said = words(web.get("/imports/1").text)
        assert (
            "Preview: nothing has changed yet" in said
            and "Agreed to text messages 1" in said
            and "Said no to text messages 1" in said
        )
        assert "Rejected 1" in said and "New people 2" in said
        assert web.post("/imports/1/go").status_code == 303
        assert "Importing" in web.get("/imports/1/progress").text
        jobs.run_here("imports.run", import_id=1, dry=False)
        assert "What happened" in web.get("/imports/1").text
        assert (
            web.get("/imports/1/refused.csv").text.splitlines()[1]
            == "bad,B,,5,Email: “bad” has no @"
        )
        assert web.post("/imports/1/go").status_code == 409
        with database.session() as session:
            assert session.get_one(Contact, three["Ann"]).first_name == "Anna"

    def test_a_column_becomes_a_new_field(self, web, three, database, job_context):
        self.begin(web, "Email,Shoe size\ndov@post.example,44\n")
        web.post(
            "/imports/1/plan",
            data={
                "target0": "email",
                "target1": "new",
                "label1": "shoe size",
                "type1": "number",
                "as_list": "yes",
                "list_name": "Feet",
            },
        )
        jobs.run_here("imports.run", import_id=1, dry=True)
        web.post("/imports/1/go")
        jobs.run_here("imports.run", import_id=1, dry=False)
        assert "Everyone in the file is on the list Feet" in words(web.get("/imports/1").text)
        with database.session() as session:
            assert (
                session.scalars(
                    sa.select(Contact.attributes).where(Contact.email_key == "dov@post.example")
                ).one()["shoe_size"]
                == 44
            )

    @pytest.mark.parametrize(
        ("content", "says"),
        [
            ("", "The file is empty"),
            ("Email\n", "only its header"),
            ("ann@post.example,Ann\nb@post.example,B\n", "names of the columns are missing"),
        ],
    )
    def test_what_is_no_file_of_people_is_refused_with_the_remedy(self, web, content, says):
        answer = self.begin(web, content)
        assert answer.status_code == 422 and says in answer.text

    def test_nothing_chosen(self, web):
        answer = web.post("/imports/new", data={})
        assert answer.status_code == 422 and "Choose a file first" in answer.text


def test_a_suppressed_contact_says_so_on_their_page(web, three, database):
    with database.session() as session:
        keeping.suppress(session, NOW, "cy@post.example", "asked by letter", "desk")
    assert "Never: asked by letter (desk" in words(web.get(f"/people/{three['Cy']}").text)


def test_fields_are_edited_as_what_they_are(web, database):
    """Yes or no, a number and several choices, of which none may be left."""
    with database.session() as session:
        many(session, NOW, 1)
        for key, kind in (("keen", "yes_no"), ("visits", "number"), ("likes", "choices")):
            session.add(
                Field(
                    owner="contact",
                    key=key,
                    label=key,
                    type=kind,
                    options=["comets", "planets"] if kind == "choices" else [],
                    created_at=NOW,
                )
            )
    at = "/people/1/edit"
    page = web.get(at).text
    assert '<option value="yes"' in page and 'type="number"' in page and 'value="comets"' in page
    given = {"first_name": "Ann", "email": "ann@post.example", "keen": "no", "visits": "2.5"}
    ticked = {"likes": ["", "comets", "planets"], "timezone": "Asia/Kathmandu"}
    assert web.post(at, data=given | ticked).status_code == 303
    assert held(database) == {"keen": False, "visits": 2.5, "likes": ["comets", "planets"]}
    page = re.sub(r"\s+", " ", web.get(at).text)
    assert '<option value="no" selected' in page and page.count("checked> ") == 2
    assert "<option selected>Asia/Kathmandu" in page
    assert web.post(at, data=given | {"likes": "", "keen": ""}).status_code == 303
    assert held(database) == {"visits": 2.5}
    # What is refused stays as it was typed.
    wrong = web.post(at, data=given | {"visits": "many", "likes": ["", "comets"]})
    page = re.sub(r"\s+", " ", wrong.text)
    assert wrong.status_code == 422 and 'value="many"' in page
    assert '<option value="no" selected' in page and page.count("checked> ") == 1


def test_what_can_be_chosen_no_more_is_not_lost(web, database):
    with database.session() as session:
        many(session, NOW, 1)
        for key, kind in (("tier", "choice"), ("likes", "choices")):
            session.add(
                Field(owner="contact", key=key, label=key, type=kind, options=["a"], created_at=NOW)
            )
        session.get_one(Contact, 1).attributes = {"tier": "old", "likes": ["a", "gone"]}
    page = re.sub(r"\s+", " ", web.get("/people/1/edit").text)
    assert "<option selected>old</option>" in page
    assert page.count('name="likes" value="gone" checked') == 1
    assert page.count("checked> ") == 2


def held(database):
    with database.session() as session:
        return session.get_one(Contact, 1).attributes


def test_a_merge_is_undone_on_the_contact(web, database):
    with database.session() as session:
        many(session, NOW, 2)
    with clock.at(NOW), database.session() as session:
        duplicates.merge(session, IDA, NOW, 1, 2, set())
    with clock.at(NOW):
        page = web.get("/people/1").text
    assert "Merged with" in page and "/people/duplicates/undo/1" in page
    with clock.at(NOW):
        parted = web.post("/people/duplicates/undo/1")
        assert parted.location.endswith("/people/2")
        assert "Merged with" not in web.get("/people/1").text
