"""Carrying an import out: clean rows are copied into a table beside, and merged into contacts in a
few statements."""

import json
from collections.abc import Iterator
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import clock, jobs, own_writes
from meadowrun.base.audit import Actor
from meadowrun.base.db import Database, driver, rows_changed
from meadowrun.base.jobs import context
from meadowrun.base.logs import log
from meadowrun.core import people_file as pf
from meadowrun.core import table_file as tf
from meadowrun.core.values import email_key
from meadowrun.core.wording import fold
from meadowrun.imports import consents
from meadowrun.imports.models import Import
from meadowrun.people import actions as people
from meadowrun.people import keeping
from meadowrun.people.models import Field, StoredFile
from meadowrun.people.queries import dictionary
from meadowrun.tags import actions as tagging

COLUMNS = ("first_name", "last_name", "phone", "town", "language", "timezone")
#: What a column may say yes or no to.
_REPORT_EVERY = 5000
#: More different values than this are no choice to pick from.
MOST_CHOICES = 100

STAGE = """
CREATE TEMPORARY TABLE staged (
    row integer, email text, email_key text, reference text, first_name text, last_name text,
    phone text, town text,
    language text, timezone text, company text, company_key text, attributes jsonb, name_key text,
    search_key text,
    email_usable boolean, said_email boolean, said_sms boolean, tags text[], contact_id bigint,
    company_id bigint, is_new boolean DEFAULT false,
    is_changed boolean DEFAULT false) ON COMMIT DROP
"""


#: Adds the companies of the file that are not there yet.
NEW_COMPANIES = """INSERT INTO companies (name, name_key, attributes, created_at)
SELECT min(company), company_key, '{}', :now FROM staged WHERE company_key <> ''
GROUP BY company_key ON CONFLICT (name_key) DO NOTHING"""


#: Writes down a no that is said in another row of the same person, which was refused.
REFUSED_NO = "UPDATE staged SET said_{channel} = false WHERE {key} = ANY(:who)"


#: Writes what contacts are searched and sorted by.
PUT_KEYS = """UPDATE contacts c SET name_key = v.n, search_key = v.s
FROM unnest(CAST(:ids AS bigint[]), CAST(:names AS text[]), CAST(:searches AS text[]))
    AS v(id, n, s)
WHERE c.id = v.id"""


#: How many rows are of people who are suppressed, or said no to email.
STAY_OUT = """SELECT count(*) FROM staged s
WHERE EXISTS (SELECT 1 FROM suppressions x
    WHERE x.address_key IN (s.email_key, '@' || split_part(s.email_key, '@', 2)))
OR EXISTS (SELECT 1 FROM consents k WHERE k.contact_id = s.contact_id
    AND k.channel = 'email' AND k.topic_id = 0 AND NOT k.agreed)"""


#: Whether somebody has a value of a field already.
_HELD = "SELECT EXISTS (SELECT 1 FROM contacts c WHERE jsonb_exists(c.attributes, :key))"
#: The different texts of the file for a field of one choice, or of several, the commonest first.
_SINGLE = """
SELECT s.attributes->>:key AS value FROM staged s WHERE jsonb_exists(s.attributes, :key)
GROUP BY 1 ORDER BY count(*) DESC, 1 LIMIT :most
"""
_SEVERAL = """
SELECT v AS value FROM staged s, jsonb_array_elements_text(s.attributes->:key) AS v
WHERE jsonb_exists(s.attributes, :key) GROUP BY 1 ORDER BY count(*) DESC, 1 LIMIT :most
"""
#: Writes other spellings as they mostly are: {text: as it mostly is}.
_SPELL_SINGLE = """
UPDATE staged s SET attributes = jsonb_set(s.attributes, ARRAY[:key], to_jsonb(
    coalesce(CAST(:other AS jsonb)->>(s.attributes->>:key), s.attributes->>:key)))
WHERE jsonb_exists(s.attributes, :key)
"""
_SPELL_SEVERAL = """
UPDATE staged s SET attributes = jsonb_set(s.attributes, ARRAY[:key], (
    SELECT jsonb_agg(DISTINCT coalesce(CAST(:other AS jsonb)->>(v), v))
    FROM jsonb_array_elements_text(s.attributes->:key) AS v))
WHERE jsonb_exists(s.attributes, :key)
"""
#: Gives the tags of staged rows; how many contacts got one that they had not.
GIVE_TAGS = """WITH given AS (
    INSERT INTO contact_tags (contact_id, tag_id)
    SELECT DISTINCT s.contact_id, t.id FROM {who}, unnest(s.tags) p JOIN tags t ON t.path = p
    ON CONFLICT DO NOTHING RETURNING contact_id)
SELECT count(DISTINCT contact_id) FROM given"""


class _Dry(Exception):
    """Rolls a dry run back."""


@jobs.task("imports.run", "waited")
def run(import_id: int, dry: bool) -> None:
    """The dry run or the real one. Twice the same file changes nothing; a run that died starts
    anew."""
    database = context().database
    with database.session() as session:
        found = session.get(Import, import_id)
        if found is None or found.state != ("checking" if dry else "importing"):
            return
        content = session.get_one(StoredFile, found.file_id).content
    counts: dict[str, int] = {}
    try:
        with database.session() as session:
            if not session.execute(
                sa.text("SELECT pg_try_advisory_xact_lock(:space, :id)"),
                {"space": _LOCKS, "id": import_id},
            ).scalar():
                # Another run of it is under way.
                return
            counts = _Run(session, database, import_id, content, dry).carry_out()
            if dry:
                raise _Dry
        with database.session() as session:
            own_writes.note(session, session.get_one(Import, import_id).created_by)
    except _Dry:
        with database.session() as session:
            found = session.get_one(Import, import_id)
            found.state, found.dry_counts, found.rows_total = "checked", counts, counts["rows"]
    except Exception as problem:
        log.exception("import failed", import_id=import_id)
        with database.session() as session:
            found = session.get_one(Import, import_id)
            found.state = "failed"
            found.problem = (
                str(problem)
                if isinstance(problem, tf.FileProblem)
                else (
                    "The import stopped because of a fault on our side; nothing was changed. Try "
                    "again, or ask for help."
                )
            )


class _Run:
    """One run inside one transaction."""

    def __init__(
        self, session: orm.Session, database: Database, import_id: int, content: bytes, dry: bool
    ):
        self.session, self.database, self.content, self.dry = session, database, content, dry
        self.found = session.get_one(Import, import_id)
        self.plan = pf.Plan.from_json(self.found.plan)
        self.reading = tf.Reading(**self.found.reading)
        self.now = clock.now(session)
        self.refused: list[pf.Refusal] = []
        self.left_out: list[pf.Row] = []
        self.rows = 0

    def carry_out(self) -> dict[str, int]:
        execute = self.session.execute
        people.lock_people(self.session)
        self._make_fields()
        execute(sa.text(STAGE))
        self._stage()
        execute(sa.text("ANALYZE staged"))
        key = "email_key" if self.plan.identify == "email" else "reference"
        self._refused_noes(key)
        execute(
            sa.text(
                f"UPDATE staged s SET contact_id = m.id FROM (SELECT c.{key} AS key, min(c.id) AS "
                f"id FROM contacts c WHERE c.{key} IN (SELECT {key} FROM staged) GROUP BY "
                f"c.{key}) m WHERE m.key = s.{key}"
            )
        )
        self._companies()
        self._choices()
        new = self._insert()
        changed = self._update()
        tagged = self._tag()
        known = execute(sa.text("SELECT count(*) FROM staged WHERE NOT is_new")).scalar_one()
        stay_out = execute(sa.text(STAY_OUT)).scalar_one()
        counts = {
            "rows": self.rows,
            "new": new,
            "changed": changed,
            "unchanged": known - changed,
            "refused": len(self.refused),
            "left_out": len(self.left_out),
            "stay_out": stay_out,
            "tagged": tagged,
        }
        staged = consents.Staged(self.plan, self.now, self.found.file_name, key)
        for channel in consents.BROUGHT:
            counts[f"agreed_{channel}"], counts[f"declined_{channel}"] = (
                consents.agreed(self.session, staged, channel),
                consents.declined(self.session, staged, channel, self._said_no(channel)),
            )
        if not self.dry:
            self._finish(counts)
        else:
            self._keep_refusals()
        return counts

    def _make_fields(self) -> None:
        """The new fields of the plan: in a dry run they go again with everything else."""
        known = dictionary(self.session).fields
        for label, kind, key in self.plan.new:
            if key not in known:
                people.add_field(
                    self.session,
                    Actor(None, self.found.created_by),
                    self.now,
                    "contact",
                    label,
                    kind,
                    filled_later=True,
                )

    def _stage(self) -> None:
        own = {
            f.key: f
            for f in dictionary(self.session).fields.values()
            if f.owner == "contact" and not f.column
        }
        names = (
            "row",
            "email",
            "email_key",
            "reference",
            *COLUMNS,
            "company",
            "company_key",
            "attributes",
            "name_key",
            "search_key",
            "email_usable",
            "said_email",
            "said_sms",
            "tags",
        )
        with (
            driver(self.session).cursor() as cursor,
            cursor.copy(f"COPY staged ({', '.join(names)}) FROM STDIN") as copy,
        ):
            for item in self._read(own):
                standard = item.standard
                address = standard.get("email")
                name_key, search_key = people.search_keys(
                    standard.get("first_name"), standard.get("last_name"), address
                )
                company = standard.get("company")
                copy.write_row(
                    (
                        item.number,
                        address,
                        email_key(address) if address else None,
                        standard.get("reference"),
                        *(standard.get(c) for c in COLUMNS),
                        company,
                        fold(company) if company else None,
                        json.dumps(item.own),
                        name_key,
                        search_key,
                        item.email_usable,
                        item.said.get("email"),
                        item.said.get("sms"),
                        list(item.tags),
                    )
                )

    def _read(self, own: Any) -> Iterator[pf.Row]:
        for item in pf.read(self.content, self.reading, self.plan, own, self.found.columns):
            self.rows += 1
            if self.rows % _REPORT_EVERY == 0:
                self._progress()
            if isinstance(item, pf.Refusal):
                self.refused.append(item)
                continue
            if item.left_out:
                self.left_out.append(item)
            yield item

    def _refused_noes(self, key: str) -> None:
        """A row that is refused is not taken, but its no counts, whatever another row of the same
        person says."""
        for channel in consents.BROUGHT:
            statement = REFUSED_NO.format(channel=channel, key=key)
            self.session.execute(sa.text(statement), {"who": self._said_no(channel)})

    def _said_no(self, channel: str) -> list[str]:
        """Whose refused rows say no to a channel, by what the plan knows people by."""
        return [r.who for r in self.refused if r.who and channel in r.declined]

    def _progress(self) -> None:
        """Told on a connection of its own, so that people see it while the import's transaction is
        still open."""
        with self.database.session() as other:
            other.execute(
                sa.update(Import).where(Import.id == self.found.id).values(rows_done=self.rows)
            )

    def _companies(self) -> None:
        self.session.execute(
            sa.text(NEW_COMPANIES),
            {"now": self.now},
        )
        self.session.execute(
            sa.text(
                "UPDATE staged s SET company_id = k.id FROM companies k "
                "WHERE k.name_key = s.company_key"
            )
        )

    def _choices(self) -> None:
        """A field of choices that this file brings takes what stands in the file: the commonest
        first, each spelled as it mostly is. One that somebody has a value of already, or with
        choices of its own, stays as it is."""
        keys = [t.removeprefix("own:") for t in self.plan.targets if t.startswith("own:")]
        for field in self.session.scalars(
            sa.select(Field).where(
                Field.owner == "contact",
                Field.key.in_(keys),
                Field.type.in_(("choice", "choices")),
                sa.func.cardinality(Field.options) == 0,
            )
        ):
            single, about = field.type == "choice", {"key": field.key}
            if self.session.execute(sa.text(_HELD), about).scalar_one():
                continue
            texts = _SINGLE if single else _SEVERAL
            found = self.session.scalars(sa.text(texts), about | {"most": MOST_CHOICES + 1}).all()
            if len(found) > MOST_CHOICES:
                continue
            spelled: dict[str, str] = {}
            for text in found:
                spelled.setdefault(fold(text), text)
            other = {text: spelled[fold(text)] for text in found if spelled[fold(text)] != text}
            if other:
                spell = _SPELL_SINGLE if single else _SPELL_SEVERAL
                self.session.execute(sa.text(spell), about | {"other": json.dumps(other)})
            field.options = list(spelled.values())

    def _insert(self) -> int:
        # Numbers are drawn first, so that staged rows and contacts can be told apart and joined
        # afterwards.
        self.session.execute(
            sa.text(
                "UPDATE staged SET is_new = true, contact_id = "
                "nextval(pg_get_serial_sequence('contacts', 'id')) "
                "WHERE contact_id IS NULL"
            )
        )
        # Planned by what was known of the rows before, whatever asks for newcomers would expect one
        # of them.
        self.session.execute(sa.text("ANALYZE staged"))
        columns = (
            f"email, email_key, reference, {', '.join(COLUMNS)}, company_id, attributes, "
            "name_key, search_key, "
            "email_usable"
        )
        made = self.session.execute(
            sa.text(
                f"INSERT INTO contacts (id, {columns}, source, created_at, updated_at) "
                "OVERRIDING SYSTEM VALUE "
                f"SELECT contact_id, {columns}, :source, :now, :now FROM staged WHERE is_new"
            ),
            {"source": f"import of {self.found.file_name}", "now": self.now},
        )
        return rows_changed(made)

    def _update(self) -> int:
        """Known people, by the plan; a blank cell never empties a field, an address is only changed
        by reference."""
        if self.plan.known == "keep":
            return 0
        wins = self.plan.known == "update"
        names = ["reference", *COLUMNS, "company_id"]
        if self.plan.identify == "reference":
            names += ["email", "email_key"]

        def merged(name: str) -> str:
            return f"coalesce(s.{name}, c.{name})" if wins else f"coalesce(c.{name}, s.{name})"

        attributes = "c.attributes || s.attributes" if wins else "s.attributes || c.attributes"
        differs = " OR ".join(f"c.{n} IS DISTINCT FROM {merged(n)}" for n in names)
        sets = ", ".join(f"{n} = {merged(n)}" for n in names)
        usable = (
            ", email_usable = c.email_usable OR s.email_usable, bounced_at = CASE WHEN "
            "c.email_key IS DISTINCT FROM "
            f"{merged('email_key')} THEN NULL ELSE c.bounced_at END"
            if "email" in names
            else ""
        )
        rows = self.session.execute(
            sa.text(
                f"UPDATE contacts c SET {sets}, attributes = {attributes}{usable}, updated_at = "
                f":now FROM staged s WHERE c.id = s.contact_id AND NOT s.is_new AND ({differs} OR "
                f"c.attributes <> {attributes}) RETURNING c.id, c.first_name, c.last_name, c.email"
            ),
            {"now": self.now},
        ).all()
        keys = [(r.id, *people.search_keys(r.first_name, r.last_name, r.email)) for r in rows]
        if keys:
            self.session.execute(
                sa.text(PUT_KEYS),
                {
                    "ids": [k[0] for k in keys],
                    "names": [k[1] for k in keys],
                    "searches": [k[2] for k in keys],
                },
            )
        return len(rows)

    def _tag(self) -> int:
        """Gives the tags of the file, to known people unless these stay as they are; none is taken.
        Says how many got one."""
        who = "staged s" if self.plan.known != "keep" else "(SELECT * FROM staged WHERE is_new) s"
        paths = self.session.scalars(
            sa.text(f"SELECT DISTINCT unnest(s.tags) AS path FROM {who} ORDER BY path")
        ).all()
        tagging.numbers(self.session, self.now, paths)
        given: int = self.session.execute(sa.text(GIVE_TAGS.format(who=who))).scalar_one()
        return given

    def _keep_refusals(self) -> None:
        """Refused rows are kept beside the transaction that a dry run rolls back."""
        with self.database.session() as other:
            _write_refusals(other, self.found.id, self.refused, self.left_out)

    def _finish(self, counts: dict[str, int]) -> None:
        _write_refusals(self.session, self.found.id, self.refused, self.left_out)
        if self.plan.list_name:
            made = keeping.make_list(
                self.session,
                Actor(None, self.found.created_by),
                self.now,
                self.plan.list_name,
                f"import of {self.found.file_name}",
            )
            self.session.execute(
                sa.text(
                    "INSERT INTO list_members (list_id, contact_id) SELECT :id, contact_id "
                    "FROM staged ON CONFLICT DO NOTHING"
                ),
                {"id": made.id},
            )
            self.found.list_id = made.id
        self.found.state, self.found.counts, self.found.finished_at = "done", counts, self.now
        self.found.rows_total = self.found.rows_done = self.rows


def _write_refusals(
    session: orm.Session, import_id: int, refused: list[pf.Refusal], left_out: list[pf.Row]
) -> None:
    session.execute(sa.text("DELETE FROM import_refusals WHERE import_id = :id"), {"id": import_id})
    with (
        driver(session).cursor() as cursor,
        cursor.copy(
            'COPY import_refusals (import_id, row, "column", reason, cells, taken) FROM STDIN'
        ) as copy,
    ):
        for r in refused:
            copy.write_row((import_id, r.number, r.column, r.reason, json.dumps(r.cells), False))
        for row in left_out:
            columns, reasons = zip(*row.left_out, strict=True)
            copy.write_row(
                (
                    import_id,
                    row.number,
                    ", ".join(columns),
                    "; ".join(reasons),
                    json.dumps(row.cells),
                    True,
                )
            )


#: The space of advisory locks that imports hold while they run.
_LOCKS = 7203413
#: Imports in work without a job that waits, and without a run that holds their lock: their worker
#: died.
STALLED = f"""
SELECT i.id FROM imports i WHERE i.state IN ('checking', 'importing') AND NOT EXISTS (
    SELECT 1 FROM procrastinate_jobs j WHERE j.task_name = 'imports.run' AND j.status = 'todo'
    AND (j.args->>'import_id')::bigint = i.id) AND pg_try_advisory_xact_lock({_LOCKS}, i.id::int)
"""


def stalled(session: orm.Session) -> list[int]:
    """Imports whose worker died."""
    return list(session.execute(sa.text(STALLED)).scalars())


@jobs.task("imports.revive", "sweeps", every="* * * * * */5")
def revive() -> None:
    """Starts imports anew whose worker died; their transaction was rolled back, so nothing is half
    done."""
    with context().database.session() as session:
        for import_id in stalled(session):
            found = session.get_one(Import, import_id)
            # It begins with the first row again, and says so.
            found.rows_done = 0
            jobs.enqueue(session, "imports.run", import_id=import_id, dry=found.state == "checking")
