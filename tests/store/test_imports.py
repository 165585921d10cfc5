import pytest
import sqlalchemy as sa

from meadowrun.base import clock, jobs
from meadowrun.base.errors import Invalid
from meadowrun.core import people_file as pf
from meadowrun.imports import actions
from meadowrun.imports.jobs import MOST_CHOICES
from meadowrun.imports.models import Import, ImportRefusal
from meadowrun.people import keeping
from meadowrun.people.models import Consent, Contact, Field
from tests.conftest import NOW
from tests.store.importing import FILE, bring_in, known
from tests.store.people import IDA


def snapshot(database):
    with database.session() as session:
        rows = (
            session.execute(
                sa.text("SELECT to_jsonb(c) - 'updated_at' FROM contacts c ORDER BY id")
            )
            .scalars()
            .all()
        )
        consents = (
            session.execute(
                sa.text("SELECT to_jsonb(c) FROM consents c ORDER BY contact_id, topic_id")
            )
            .scalars()
            .all()
        )
        return rows, consents


def test_the_dry_run_says_what_happens_and_changes_nothing(database, job_context):
    known(database)
    before = snapshot(database)
    with clock.at(NOW), database.session() as session:
        found = actions.upload(session, IDA, NOW, "fair.csv", FILE.encode())
        actions.set_plan(
            session, IDA, NOW, found, pf.Plan(tuple(found.plan["targets"]), consent="in_app"), {}
        )
        ident = found.id
    jobs.run_here("imports.run", import_id=ident, dry=True)
    assert snapshot(database) == before
    with database.session() as session:
        counts = session.get_one(Import, ident).dry_counts
        assert counts == {
            "rows": 5,
            "new": 2,
            "changed": 2,
            "unchanged": 0,
            "refused": 1,
            "left_out": 0,
            "stay_out": 2,
            "tagged": 0,
            "agreed_email": 1,
            "declined_email": 0,
            "agreed_sms": 0,
            "declined_sms": 0,
        }
        refusal = session.scalars(sa.select(ImportRefusal)).one()
        assert (refusal.row, refusal.column, refusal.cells[0]) == (4, "Email", "no-at-sign")


ASKED = (
    "Email,Phone,Consent,SMS consent\n"
    "ann@a.example,+44 7700 900101,no,yes\n"
    "ben@a.example,+44 7700 900102,yes,YES\n"
    "cy@a.example,,,no\n"
    "dot@a.example,+44 7700 900104,perhaps,\n"
    "optout@a.example,,yes,\n"
    "never@a.example,+44 7700 900105,y,1\n"
    "edda@a.example,+44 7700 900106,0,y\n"
)


def test_a_no_in_a_row_that_repeats_somebody_counts(database, job_context):
    """By address and by reference number; a yes in such a row does not take back a no."""
    text = (
        "Email,Reference,Consent\nnew@a.example,R1,yes\nother@a.example,R2,no\n"
        "NEW@a.example,R1,no\nother@a.example,R2,yes\n"
    )
    for identify in ("email", "reference"):
        with database.session() as session:
            session.execute(sa.text("DELETE FROM contacts WHERE email_key LIKE '%@a.example'"))
        _, counts, _ = bring_in(database, text, consent="ticked", channels=(), identify=identify)
        assert (counts["refused"], counts["agreed_email"], counts["declined_email"]) == (2, 0, 2)
        with database.session() as session:
            said = session.execute(sa.text("SELECT agreed FROM consents WHERE channel = 'email'"))
            assert [one.agreed for one in said] == [False, False]


def test_a_no_in_a_row_that_is_refused_counts_for_whom_it_names(database, job_context):
    """Of a contact who was there before, and of somebody in another row; not of a stranger."""
    known(database)
    text = (
        "Email,Phone,Consent\nANN@a.example,not a number,no\nnew@a.example,,yes\n"
        "new@a.example,12,no\nstranger@a.example,12,no\n"
    )
    dry, counts, _ = bring_in(database, text, consent="ticked", channels=())
    assert dry == counts
    assert (counts["refused"], counts["new"], counts["declined_email"]) == (3, 1, 2)
    with database.session() as session:
        said = session.execute(
            sa.select(Contact.email_key, Consent.agreed, Consent.how)
            .join(Consent, Consent.contact_id == Contact.id)
            .where(Contact.email_key != "optout@a.example")
            .order_by(Contact.email_key)
        )
        assert [tuple(one) for one in said] == [
            ("ann@a.example", False, "a no in the file fair.csv"),
            ("new@a.example", False, "a no in the file fair.csv"),
        ]


def test_columns_may_say_who_agreed_to_what(database, job_context):
    """A yes counts where nothing else was ever said, a no always; blank says nothing; neither is
    refused."""
    known(database)
    with clock.at(NOW), database.session() as session:
        keeping.suppress(session, NOW, "+447700900106", "asked by letter", "desk")
    with clock.at(NOW), database.session() as session:
        assert actions.upload(session, IDA, NOW, "asked.csv", ASKED.encode()).plan["targets"] == [
            "email",
            "phone",
            "agreed:email",
            "agreed:sms",
        ]
    dry, counts, _ = bring_in(database, ASKED, consent="ticked at the fair", channels=())
    assert dry == counts
    assert {k: v for k, v in counts.items() if v} == {
        "rows": 7,
        "new": 4,
        "changed": 1,
        "unchanged": 1,
        "refused": 1,
        "stay_out": 2,
        "agreed_email": 1,
        "declined_email": 2,
        "agreed_sms": 3,
        "declined_sms": 1,
    }
    with database.session() as session:
        said = {
            (row[0].partition("@")[0], row[1]): row[2:]
            for row in session.execute(
                sa.text(
                    "SELECT c.email_key, k.channel, k.agreed, k.how FROM consents k JOIN "
                    "contacts c ON c.id = k.contact_id"
                )
            )
        }
        yes, no = (
            (True, "ticked at the fair (import of fair.csv)"),
            (False, "a no in the file fair.csv"),
        )
        # Never's address is suppressed, so the yes to email is not written; Edda's number is, so
        # the yes to texts is not.
        assert {key: value for key, value in said.items() if key != ("optout", "email")} == {
            ("ann", "email"): no,
            ("ann", "sms"): yes,
            ("ben", "email"): yes,
            ("ben", "sms"): yes,
            ("cy", "sms"): no,
            ("never", "sms"): yes,
            ("edda", "email"): no,
        }
        assert said["optout", "email"][0] is False
    before = snapshot(database)
    bring_in(database, ASKED, consent="ticked at the fair", channels=())
    assert snapshot(database) == before


def test_everyone_new_may_have_agreed_to_texts(database, job_context):
    _, counts, _ = bring_in(
        database,
        "Email,Phone\nann@a.example,+44 7700 900101\nben@a.example,\n",
        consent="at the till",
        channels=("sms",),
    )
    assert (counts["agreed_email"], counts["agreed_sms"]) == (0, 1)


@pytest.mark.parametrize(
    ("plan", "why"),
    [
        ({"consent": ""}, "Fill in “How and when they agreed”"),
        ({"consent": "fair", "channels": ("email",)}, "Either every newcomer agreed to email"),
        (
            {"consent": "fair", "targets": ("email", "agreed:sms", "agreed:sms", "")},
            "Two columns are matched to agreed to sms",
        ),
    ],
)
def test_a_column_of_consent_needs_evidence_and_stands_alone(database, job_context, plan, why):
    with clock.at(NOW), database.session() as session:
        found = actions.upload(session, IDA, NOW, "asked.csv", ASKED.encode())
        with pytest.raises(Invalid, match=why):
            actions.set_plan(
                session,
                IDA,
                NOW,
                found,
                pf.Plan(**{"targets": tuple(found.plan["targets"]), "channels": (), **plan}),
                {},
            )


def test_who_opted_out_or_is_suppressed_stays_so(database, job_context):
    known(database)
    _, counts, _ = bring_in(database, FILE, consent="signed the card")
    assert counts["stay_out"] == 2
    with database.session() as session:
        agreed = dict(
            session.execute(
                sa.select(Contact.email_key, Consent.agreed).outerjoin(
                    Consent, Consent.contact_id == Contact.id
                )
            ).all()
        )
        assert agreed == {
            "ann@a.example": True,
            "ben@a.example": True,
            "optout@a.example": False,
            "never@a.example": None,
        }
        how = session.scalar(
            sa.select(Consent.how)
            .join(Contact, Contact.id == Consent.contact_id)
            .where(Contact.email_key == "ben@a.example")
        )
        assert how == "signed the card (import of fair.csv)"


def test_the_same_file_twice_changes_nothing(database, job_context):
    known(database)
    bring_in(database, FILE, known="update", consent="in_app")
    before = snapshot(database)
    dry, counts, _ = bring_in(database, FILE, known="update", consent="in_app")
    assert (counts["new"], counts["changed"], counts["unchanged"], counts["refused"]) == (
        0,
        0,
        4,
        1,
    )
    assert dry == counts
    assert snapshot(database) == before


def test_filling_updating_and_keeping(database, job_context):
    for mode, first, town in (
        ("keep", "Annie", None),
        ("fill", "Annie", "Farrow"),
        ("update", "Ann", "Farrow"),
    ):
        with database.session() as session:
            session.execute(sa.text("TRUNCATE contacts CASCADE"))
        known(database)
        bring_in(database, FILE, known=mode)
        with database.session() as session:
            ann = session.scalars(
                sa.select(Contact).where(Contact.email_key == "ann@a.example")
            ).one()
            assert (ann.first_name, ann.town) == (first, town)


def test_companies_are_shared_and_a_list_is_made(database, job_context):
    _, _, found = bring_in(database, FILE, list_name="Spring fair")
    with database.session() as session:
        assert session.execute(
            sa.text(
                "SELECT name, (SELECT count(*) FROM contacts c WHERE c.company_id = k.id) "
                "FROM companies k"
            )
        ).all() == [("Tarn School", 2)]
        assert (
            session.execute(
                sa.text("SELECT count(*) FROM list_members WHERE list_id = :id"),
                {"id": found.list_id},
            ).scalar()
            == 4
        )


def test_new_fields_come_from_columns(database, job_context):
    bring_in(
        database,
        "email,Shoe size\na@a.example,38\n",
        {1: ("Shoe size", "number")},
        targets=("email", ""),
    )
    with database.session() as session:
        assert session.scalars(sa.select(Contact.attributes)).one() == {"shoe_size": 38}


def test_a_new_field_of_choices_takes_those_of_the_file(database, job_context):
    content = (
        "email,Tier,Likes\na@a.example,gold,tea;Cake\nb@a.example,Gold,cake\nc@a.example,gold,\nd@a.example,silver,cake;CAKE;tea\n"
        "e@a.example,,\n"
    )
    new = {1: ("Tier", "choice"), 2: ("Likes", "choices")}
    bring_in(database, content, new, targets=("email", "", ""))
    with database.session() as session:
        assert dict(session.execute(sa.select(Field.key, Field.options)).all()) == {
            "tier": ["gold", "silver"],
            "likes": ["cake", "tea"],
        }
        found = session.scalars(sa.select(Contact.attributes).order_by(Contact.email_key)).all()
    assert found == [
        {"tier": "gold", "likes": ["cake", "tea"]},
        {"tier": "gold", "likes": ["cake"]},
        {"tier": "gold"},
        {"tier": "silver", "likes": ["cake", "tea"]},
        {},
    ]
    before = snapshot(database)
    counts = bring_in(database, content)[1]
    assert (counts["new"], counts["changed"], snapshot(database)) == (0, 0, before)
    # The next file is held to them; a field that somebody has a value of keeps what it takes.
    assert (
        bring_in(database, "email,Tier\nf@a.example,SILVER\ng@a.example,lead\n")[1]["refused"] == 1
    )


def test_a_column_of_too_many_values_stays_free(database, job_context):
    rows = "".join(f"p{i}@a.example,t{i}\n" for i in range(MOST_CHOICES + 1))
    bring_in(database, "email,Tier\n" + rows, {1: ("Tier", "choice")}, targets=("email", ""))
    with database.session() as session:
        assert session.scalars(sa.select(Field.options)).one() == []


def test_two_records_may_share_an_address_by_reference(database, job_context):
    bring_in(
        database,
        "Reference,Email,First name\n1,two@a.example,Ann\n2,two@a.example,Ben\n",
        identify="reference",
    )
    with database.session() as session:
        assert session.scalars(sa.select(Contact.email_key)).all() == ["two@a.example"] * 2


def test_a_dry_run_makes_no_field_and_its_type_can_still_be_changed(database, job_context, web):
    content = "Email,Level,Telefon\nann@a.example,Patron,0171/6990876\nbo@a.example,,0221 4710123\n"
    with clock.at(NOW), database.session() as session:
        ident = actions.upload(session, IDA, NOW, "fair.csv", content.encode(), "GB").id

    def match(kind):
        with clock.at(NOW), database.session() as session:
            found = session.get_one(Import, ident)
            plan = pf.Plan.from_json({**found.plan, "targets": ["email", "", "phone"]})
            actions.set_plan(session, IDA, NOW, found, plan, {1: ("Level", kind)})
        jobs.run_here("imports.run", import_id=ident, dry=True)

    def fields():
        with database.session() as session:
            return session.execute(sa.text("SELECT label, type FROM fields")).all()

    match("text")
    assert fields() == []
    page = web.get(f"/imports/{ident}?change=1").text
    assert 'value="Level"' in page and "+49 171 6990876" in page, (
        "numbers are shown as they would be kept"
    )
    assert (
        "+49" in web.get(f"/imports/{ident}/numbers?country=DE").text
        and "begin it" in web.get(f"/imports/{ident}/numbers?country=GB").text
    )
    match("choice")
    assert fields() == []
    with database.session() as session:
        actions.carry_out(session, IDA, NOW, session.get_one(Import, ident))
    jobs.run_here("imports.run", import_id=ident, dry=False)
    assert fields() == [("Level", "choice")]
    with database.session() as session:
        assert session.execute(
            sa.text("SELECT phone, attributes->>'level' FROM contacts ORDER BY id")
        ).all() == [("+49 171 6990876", "Patron"), ("+49 221 4710123", None)]


def test_cells_left_out_are_counted_and_listed(database, job_context, web):
    content = "Email,Phone\nann@a.example,12\nbo@a.example,+44 7700 900123\n"
    with clock.at(NOW), database.session() as session:
        found = actions.upload(session, IDA, NOW, "fair.csv", content.encode(), "GB")
        actions.set_plan(session, IDA, NOW, found, pf.Plan.from_json(found.plan), {})
        ident = found.id
    jobs.run_here("imports.run", import_id=ident, dry=True)
    with database.session() as session:
        counts = session.get_one(Import, ident).dry_counts
        assert (counts["new"], counts["refused"], counts["left_out"]) == (2, 0, 1)
    page = web.get(f"/imports/{ident}").text
    assert "Imported without a cell" in page and "does not say its country" in page


def test_an_import_resumes_soon_after_its_worker_died(database, job_context, still):
    with database.session() as session:
        found = actions.upload(session, IDA, NOW, "fair.csv", b"Email\nann@a.example\n")
        actions.set_plan(session, IDA, NOW, found, pf.Plan.from_json(found.plan), {})
        found.rows_done = 1
        ident = found.id
        # Its job was taken by a worker, which died.
        session.execute(sa.text("UPDATE procrastinate_jobs SET status = 'doing'"))
    with database.session() as session:
        # While somebody still works on it nothing is started.
        session.execute(sa.text("SELECT pg_advisory_xact_lock(7203413, :id)"), {"id": ident})
        jobs.run_here("imports.revive")
        assert waiting(database) == 0
    jobs.run_here("imports.revive")
    assert waiting(database) == 1
    jobs.run_here("imports.revive")
    assert waiting(database) == 1
    with database.session() as session:
        assert session.get_one(Import, ident).rows_done == 0


def waiting(database):
    with database.session() as session:
        return session.scalar(
            sa.text(
                "SELECT count(*) FROM procrastinate_jobs WHERE task_name = 'imports.run' AND "
                "status = 'todo'"
            )
        )
