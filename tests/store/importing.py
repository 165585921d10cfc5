"""A file of people and the steps of bringing it in."""

from meadowrun.base import clock, jobs
from meadowrun.core import people_file as pf
from meadowrun.imports import actions
from meadowrun.imports.models import Import
from meadowrun.people import keeping
from tests.conftest import NOW
from tests.store.people import IDA, add

FILE = (
    "Email,First name,Last name,Town,Company\n"
    'ann@a.example,Ann,"Rook, the elder",Farrow,Tarn School\n'
    "ben@a.example,Bén,Marsh,,tarn school\n"
    "no-at-sign,X,Y,,\n"
    "optout@a.example,Opal,Out,Farrow,\n"
    "never@a.example,Nev,Er,Farrow,\n"
)


NAMES = ("email", "first_name", "last_name", "town", "company")


def bring_in(database, content, new=None, **plan):
    """Uploads, checks and carries out an import; returns (dry counts, counts, import)."""
    with clock.at(NOW), database.session() as session:
        found = actions.upload(session, IDA, NOW, "fair.csv", content.encode())
        chosen = pf.Plan(**{"targets": tuple(found.plan["targets"]), **plan})
        actions.set_plan(session, IDA, NOW, found, chosen, new or {})
        ident = found.id
    jobs.run_here("imports.run", import_id=ident, dry=True)
    with clock.at(NOW), database.session() as session:
        found = session.get_one(Import, ident)
        assert found.state == "checked", found.problem
        dry = found.dry_counts
        actions.carry_out(session, IDA, NOW, found)
    jobs.run_here("imports.run", import_id=ident, dry=False)
    with database.session() as session:
        found = session.get_one(Import, ident)
        assert found.state == "done", found.problem
        return dry, found.counts, found


def known(database):
    with clock.at(NOW), database.session() as session:
        add(session, NOW, "ANN@a.example", agreed=True, first_name="Annie")
        add(session, NOW, "optout@a.example", agreed=False)
        keeping.suppress(session, NOW, "never@a.example", "asked by letter", "desk")
