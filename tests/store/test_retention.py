"""What is older than it is kept goes at night, and nothing else: told by hand for each kind of
data."""

import datetime as dt
import zoneinfo

import pytest
import sqlalchemy as sa

from meadowrun.base import clock, jobs
from meadowrun.base.errors import Invalid
from meadowrun.people import actions as people
from meadowrun.people import keeping
from meadowrun.people.models import Contact
from meadowrun.retention import rules
from tests.conftest import NOW
from tests.store.people import IDA, add, kinds
from tests.store.sending import counts, run_all, started
from tests.store.web import sign_in, words

YEAR = dt.timedelta(days=365)


def night(database, at=NOW):
    """A night begins at which nothing was deleted yet."""
    with database.session() as session:
        session.execute(
            sa.text(
                "INSERT INTO retention (kind, months, changed_at, changed_by, last_at) VALUES "
                "('night', 0, :at, 'x', :at) "
                "ON CONFLICT (kind) DO UPDATE SET last_at = :at"
            ),
            {"at": at - dt.timedelta(days=2)},
        )
    with clock.at(at):
        jobs.run_here("retention.delete")


def keep(database, **months):
    with database.session() as session:
        for kind, number in months.items():
            rules.set_months(session, IDA, NOW, kind, number)


def number_of(database, sql, **values):
    with database.session() as session:
        return session.scalar(sa.text(sql), values)


@pytest.mark.parametrize(
    ("now", "months", "then"),
    [
        ("2026-11-29", 1, "2026-10-29"),
        ("2027-03-31", 1, "2027-02-28"),
        ("2028-03-31", 1, "2028-02-29"),
        ("2026-01-15", 2, "2025-11-15"),
        ("2026-12-31", 6, "2026-06-30"),
        ("2028-02-29", 12, "2027-02-28"),
        ("2026-12-01", 12, "2025-12-01"),
        ("2026-11-29", 120, "2016-11-29"),
    ],
)
def test_months_are_those_of_the_calendar(now, months, then):
    assert f"{rules.before(dt.datetime.fromisoformat(now), months):%Y-%m-%d}" == then


def test_by_itself_nothing_goes_that_somebody_may_still_need(database, job_context):
    with database.session() as session:
        ann = add(session, NOW - 9 * YEAR, "ann@post.example").id
        session.execute(
            sa.text("INSERT INTO events (contact_id, at, kind_id) VALUES (:c, :at, :k)"),
            {"c": ann, "at": NOW - 9 * YEAR, "k": kinds(session)["visited"]},
        )
    night(database)
    assert (
        number_of(database, "SELECT count(*) FROM contacts")
        == number_of(database, "SELECT count(*) FROM events")
        == 1
    )


def test_once_a_night_on_the_organisations_clock_and_not_before_the_first(database, job_context):
    # British summer time: three in the morning is two by UTC.
    for moment, due in (
        ("2026-07-01T12:00Z", False),
        ("2026-07-01T23:00Z", False),
        ("2026-07-02T01:59Z", False),
        ("2026-07-02T02:00Z", True),
        ("2026-07-02T02:02Z", False),
        ("2026-07-02T23:59Z", False),
        ("2026-07-05T20:00Z", True),
        ("2026-07-05T20:02Z", False),
    ):
        with database.session() as session:
            now = dt.datetime.fromisoformat(moment)
            assert rules.is_due(session, now, zoneinfo.ZoneInfo("Europe/London")) == due, moment


def test_events_go_in_many_steps_and_only_the_old(database, job_context, monkeypatch):
    monkeypatch.setattr(rules, "BATCH", 7)
    with database.session() as session:
        ann, visited = add(session, NOW, "ann@post.example").id, kinds(session)["visited"]
        session.execute(
            sa.text(
                "INSERT INTO events (contact_id, at, kind_id) SELECT :c, CAST(:now AS "
                "timestamptz) - n * interval '30 days', :k "
                "FROM generate_series(0, 39) n"
            ),
            {"c": ann, "now": NOW, "k": visited},
        )
    keep(database, events=12)
    night(database)
    # NOW is 23 November: 360 days back is younger than a year, 390 are not.
    assert number_of(database, "SELECT count(*) FROM events") == 13
    night(database)
    with database.session() as session:
        (row,) = session.execute(
            sa.text("SELECT months, last_count, last_at FROM retention WHERE kind = 'events'")
        ).all()
        assert tuple(row) == (12, 27, NOW), "a night that deletes nothing is no news"
        told = session.execute(
            sa.text("SELECT who, did, object_name, detail FROM audit WHERE who = 'Retention'")
        ).all()
        assert [tuple(one) for one in told] == [
            (
                "Retention",
                "deleted what was older than it is kept",
                "What people did",
                {"rows": 27, "months": 12},
            )
        ]


def test_imports_go_with_their_file_and_what_was_refused_and_the_people_stay(database, job_context):
    with database.session() as session:
        for ident, state, age in (
            (1, "done", 100),
            (2, "done", 80),
            (3, "importing", 100),
            (4, "failed", 100),
        ):
            at = NOW - dt.timedelta(days=age)
            session.execute(
                sa.text(
                    "INSERT INTO files (id, name, media_type, size, handle, content, created_at) "
                    "VALUES (:i, 'a.csv', 'text/csv', 1, :h, 'x', :at)"
                ),
                {"i": ident, "h": f"h{ident}", "at": at},
            )
            session.execute(
                sa.text(
                    "INSERT INTO imports (id, file_id, file_name, state, reading, columns, "
                    "sample, plan, created_at, created_by, "
                    "finished_at) VALUES (:i, :i, 'a.csv', :s, '{}', '{}', '[]', '{}', :at, "
                    "'Ida', :at)"
                ),
                {"i": ident, "s": state, "at": at},
            )
            session.execute(
                sa.text(
                    'INSERT INTO import_refusals (import_id, row, "column", reason, cells) '
                    "VALUES (:i, 2, 'A', 'x', '[]')"
                ),
                {"i": ident},
            )
        add(session, NOW - YEAR, "ann@post.example")
    night(database)
    for table, column in (("imports", "id"), ("files", "id"), ("import_refusals", "import_id")):
        assert number_of(database, f"SELECT array_agg({column} ORDER BY 1) FROM {table}") == [
            2,
            3,
        ], table
    assert number_of(database, "SELECT count(*) FROM contacts") == 1


def test_what_a_message_was_filled_in_with_goes_and_its_outcome_stays(
    database, settings, job_context, keeper
):
    ident = started(database, settings, 4)
    run_all(database, ident)
    before = counts(database, ident)[0]
    filled = "SELECT count(*) FROM deliveries WHERE filled IS NOT NULL OR address IS NOT NULL"
    assert number_of(database, filled) == 4
    with database.session() as session:
        session.execute(
            sa.text(
                "UPDATE deliveries SET outcome = 'in_doubt' WHERE contact_id = (SELECT "
                "min(contact_id) FROM deliveries)"
            )
        )
    night(database, NOW + 3 * YEAR)
    assert number_of(database, filled) == 1, "what is not settled yet keeps what it needs"
    night(database, NOW + 3 * YEAR)
    with database.session() as session:
        session.execute(sa.text("UPDATE deliveries SET outcome = 'delivered'"))
    assert counts(database, ident)[0] == before


def test_people_are_erased_who_agreed_to_nothing_and_of_whom_nothing_was_heard(
    database, job_context
):
    old, late = NOW - 3 * YEAR, NOW - dt.timedelta(days=40)
    with database.session() as session:
        visited = kinds(session)["visited"]
        ids = {}
        for name in (
            "silent",
            "agreed",
            "took_back_long_ago",
            "took_back_lately",
            "came",
            "changed",
            "new",
        ):
            with clock.at(late if name == "new" else old):
                ids[name] = add(
                    session, late if name == "new" else old, f"{name}@post.example", None
                ).id
        for name, agreed, at in (
            ("agreed", True, old),
            ("took_back_long_ago", False, old),
            ("took_back_lately", False, late),
        ):
            people.set_consent(session, at, ids[name], 0, agreed, "desk")
        session.execute(
            sa.text("INSERT INTO events (contact_id, at, kind_id) VALUES (:c, :at, :k)"),
            {"c": ids["came"], "at": late, "k": visited},
        )
        keeping.suppress(session, old, "silent@post.example", "asked", "desk", None)
    with database.session() as session:
        session.execute(
            sa.text(
                "UPDATE contacts SET updated_at = CASE WHEN id = ANY(:young) THEN CAST(:late AS "
                "timestamptz) ELSE :old END"
            ),
            {"old": old, "late": late, "young": [ids["changed"], ids["new"]]},
        )
    keep(database, people=24)
    night(database)
    with database.session() as session:
        left = set(session.scalars(sa.select(Contact.id)))
        assert left == {
            ids[name] for name in ("agreed", "took_back_lately", "came", "changed", "new")
        }
        assert session.scalar(sa.text("SELECT count(*) FROM suppressions")) == 1, (
            "a promise outlives the record"
        )
        assert (
            session.scalar(
                sa.text("SELECT count(*) FROM audit WHERE did = 'erased' AND who = 'Retention'")
            )
            == 2
        )


def test_sign_ins_and_the_audit(database, job_context):
    with database.session() as session:
        session.execute(
            sa.text(
                "INSERT INTO users (id, email, name, role, password_hash, created_at) "
                "VALUES (1, 'a@b.example', 'A', 'admin', 'x', :n)"
            ),
            {"n": NOW},
        )
        for days in (100, 300):
            at = NOW - dt.timedelta(days=days)
            session.execute(
                sa.text(
                    "INSERT INTO sign_ins (token_hash, user_id, started_at, seen_at, expires_at) "
                    "VALUES (:t, 1, :at, :at, :at)"
                ),
                {"t": f"t{days}", "at": at},
            )
            session.execute(
                sa.text("INSERT INTO sign_in_attempts (key, at) VALUES ('k', :at)"), {"at": at}
            )
        for years in (1, 4):
            session.execute(
                sa.text(
                    "INSERT INTO audit (at, who, did, object_kind, object_name, detail, "
                    "request_id) VALUES (:at, 'Ida', 'x', 'y', 'z', '{}', '')"
                ),
                {"at": NOW - years * YEAR},
            )
    night(database)
    assert number_of(database, "SELECT array_agg(token_hash) FROM sign_ins") == ["t100"]
    assert number_of(database, "SELECT count(*) FROM sign_in_attempts") == 1
    assert number_of(database, "SELECT count(*) FROM audit WHERE who = 'Ida'") == 1


class TestPage:
    def test_an_administrator_sees_what_would_go_and_sets_it(self, web, database):
        with database.session() as session:
            ann, visited = (
                add(session, clock.machine_now(), "ann@post.example").id,
                kinds(session)["visited"],
            )
            session.execute(
                sa.text(
                    "INSERT INTO events (contact_id, at, kind_id) VALUES (:c, now() - interval "
                    "'400 days', :k)"
                ),
                {"c": ann, "k": visited},
            )
        page = words(web.get("/retention").text)
        assert "Imported files" in page and "Always kept" in page
        assert web.get("/retention/events/older?months=12").json == {"older": 1}
        assert web.get("/retention/events/older?months=24").json == {"older": 0}
        assert "is deleted tonight" in words(
            web.post("/retention", data={"events": "12", "people": "0"}, follow_redirects=True).text
        )
        with database.session() as session:
            assert {one.rule.kind: one.months for one in rules.kept(session)} == {
                "imports": 3,
                "filled": 24,
                "events": 12,
                "people": 0,
                "audit": 36,
                "sign_ins": 6,
            }

    @pytest.mark.parametrize("months", ["2", "-1", "x", "9999999999"])
    def test_what_cannot_be_chosen(self, web, database, months):
        answer = web.post("/retention", data={"events": months})
        assert answer.status_code == 422 and "How long data is kept" in answer.text
        assert number_of(database, "SELECT count(*) FROM retention") == 0
        assert web.get(f"/retention/events/older?months={months}").status_code in (404, 422)

    def test_nobody_else_may(self, client):
        sign_in(client, "author")
        assert [
            client.get("/retention").status_code,
            client.post("/retention", data={"events": "12"}).status_code,
        ] == [403, 403]

    def test_there_is_no_other_kind(self, database):
        with database.session() as session, pytest.raises(Invalid):
            rules.set_months(session, IDA, NOW, "consents", 12)
