"""From an uploaded file to a plan, and on to the jobs that check it and carry it out."""

import datetime as dt

from sqlalchemy import orm

from meadowrun.base import audit, jobs
from meadowrun.base.audit import Actor
from meadowrun.base.db import existing
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.core import countries
from meadowrun.core import people_file as pf
from meadowrun.core import table_file as tf
from meadowrun.core.language import Wording
from meadowrun.core.people_columns import guess, guess_country, guess_type
from meadowrun.imports.models import Import
from meadowrun.people import actions as people
from meadowrun.people.queries import dictionary

MOST_BYTES = 200_000_000


def get(session: orm.Session, import_id: int) -> Import:
    return existing(session, Import, import_id, "import")


#: Rows from which the sorts of columns and the country of numbers are guessed, and how many of them
#: a page shows.
GUESSED_FROM, SHOWN = 500, 8


def upload(
    session: orm.Session, actor: Actor, now: dt.datetime, name: str, content: bytes, home: str = ""
) -> Import:
    """Keeps a file, recognises how it is read and guesses what its columns are, and of which
    country its telephone numbers; `home` is the organisation's. Raises Invalid."""
    try:
        reading = tf.recognise(content)
        columns, rows = tf.header(content, reading, GUESSED_FROM)
    except tf.FileProblem as problem:
        raise Invalid(str(problem), "file") from None
    words = dictionary(session)
    targets = guess(columns, rows, list(words.fields.values()))
    plan = pf.Plan(
        targets=targets,
        country=guess_country(columns, rows, targets, home),
        bad_cells="leave_out",
    )
    types = [guess_type([row[i] for row in rows if i < len(row)]) for i in range(len(columns))]
    file = people.store_file(session, now, name, "application/octet-stream", content)
    made = Import(
        file_id=file.id,
        file_name=name[:200],
        state="matching",
        reading=reading.__dict__,
        columns=columns,
        sample=rows[:SHOWN],
        types=types,
        plan=plan.to_json(),
        created_at=now,
        created_by=actor.name,
    )
    session.add(made)
    session.flush()
    audit.record(session, actor, now, "uploaded", "import", made.id, name)
    return made


def set_plan(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    found: Import,
    plan: pf.Plan,
    new_fields: dict[int, tuple[str, str]],
) -> None:
    """Takes the author's matching; `new_fields` maps a column to (label, type) of a field to be
    made for it."""
    if found.state not in ("matching", "checked", "failed"):
        raise Conflict("This import is being carried out; it can no longer be changed.")
    targets, new = list(plan.targets), []
    with session.begin_nested() as trial:
        # Made only to see whether they can be: a dry run changes nothing, and neither does changing
        # one's mind.
        for index, (label, kind) in new_fields.items():
            field = people.add_field(session, actor, now, "contact", label, kind, filled_later=True)
            targets[index] = f"own:{field.key}"
            new.append([field.label, field.type, field.key])
        trial.rollback()
    plan = pf.Plan.from_json({**plan.to_json(), "targets": targets, "new": new})
    known = {*dictionary(session).fields, *(key for *_, key in new)}
    for target in targets:
        if (
            target
            and target not in (*pf.STANDARD, *pf.SAID, pf.TAGS, pf.COUNTRY)
            and target.removeprefix("own:") not in known
        ):
            raise Invalid(
                Wording("There is no field “%(target)s” any more.", target=target), "targets"
            )
    if plan.country and plan.country not in countries.names():
        raise Invalid("There is no such country.", "country")
    try:
        pf.check(plan, found.columns)
    except tf.FileProblem as problem:
        raise Invalid(str(problem), problem.where or "targets") from None
    found.plan = plan.to_json()
    found.state, found.rows_done, found.problem, found.dry_counts = "checking", 0, "", {}
    jobs.enqueue(session, "imports.run", import_id=found.id, dry=True)
    audit.record(session, actor, now, "matched the columns of", "import", found.id, found.file_name)


def carry_out(session: orm.Session, actor: Actor, now: dt.datetime, found: Import) -> None:
    """Starts the real import after its dry run."""
    session.refresh(found, with_for_update=True)
    if found.state != "checked":
        raise Conflict("This import was not checked yet, or was carried out already.")
    found.state, found.rows_done = "importing", 0
    jobs.enqueue(session, "imports.run", import_id=found.id, dry=False)
    audit.record(session, actor, now, "started the import of", "import", found.id, found.file_name)
