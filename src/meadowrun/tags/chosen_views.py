"""What is done with people who were chosen in a table: tagged, put on a list, written to, taken
along as a file."""

import flask

from meadowrun.base import audit
from meadowrun.base.db import existing
from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.core.language import Wording
from meadowrun.core.wording import people as people_words
from meadowrun.gateways.channels import CHANNELS
from meadowrun.people import keeping, people_csv, queries, wholly
from meadowrun.people.actions import set_consent
from meadowrun.people.asked import words
from meadowrun.people.models import PeopleList
from meadowrun.people.tagged import asked
from meadowrun.shell import hidden
from meadowrun.shell.accounts import require
from meadowrun.shell.request import (
    Answer,
    actor,
    csv_file,
    database,
    db,
    done,
    integer,
    needs,
    not_done,
    now,
)
from meadowrun.tags import actions

pages = flask.Blueprint("chosen", __name__)

#: What of the table's address is kept, so that it is shown again as it was.
_KEPT = ("search", "sort", "tag", "at")


@pages.post("/people/chosen")
@needs("author")
def act() -> Answer:
    """Does one thing with those who were chosen."""
    form = flask.request.form
    back = {key: form[key] for key in _KEPT if form.get(key)}
    ids = _chosen()
    if not ids:
        return not_done("Choose people first, by the boxes before their names.", _TABLE, **back)
    deed = form.get("do", "")
    try:
        if deed == "tag":
            return done(_TABLE, _tag(form.get("tags", ""), ids), **back)
        if deed == "list":
            kept = _put(form.get("list", ""), form.get("name", ""), ids)
            said = Wording(
                "%(people)s put on “%(name)s”.", people=people_words(len(ids)), name=kept.name
            )
            return done(_TABLE, said, **back)
        if deed == "consent":
            return done(_TABLE, _note_consent(ids), **back)
        if deed == "erase":
            return done(_TABLE, _erase(ids), **back)
    except MeadowrunError as problem:
        db().rollback()
        return not_done(problem, _TABLE, **back)
    if deed == "write":
        name = Wording("Chosen: %(people)s", people=people_words(len(ids)))
        kept = keeping.make_list(db(), actor(), now(), name, str(_BY_HAND), ids)
        return done("beginning.new", people=f"list:{kept.id}")
    audit.record(db(), actor(), now(), "downloaded", "contacts", None, "", people=len(ids))
    return csv_file(people_csv.lines(database(), ids, words()), str(Wording("People")))


_TABLE = "people.table"
#: So many people are changed, or erased, at once.
MOST, MOST_ERASED = 20_000, 200
_BY_HAND = Wording("chosen by hand")


def _chosen() -> list[int]:
    """Who was chosen: by their boxes, or everybody whom the table finds."""
    form = flask.request.form
    if not form.get("everybody"):
        return [integer(one, "contact") for one in form.getlist("contact")]
    tag, _, under = asked(form.get("tag", ""))
    return queries.contact_ids(db(), hidden.shown(form.get("search", "")), under if tag else None)


def _note_consent(ids: list[int]) -> Wording:
    """Records for people what they said to a channel, and says of how many that is new. Raises
    Invalid."""
    form = flask.request.form
    channel, how = form.get("channel", ""), form.get("how", "").strip()
    if channel not in CHANNELS:
        raise Invalid("Choose a channel.", "channel")
    if not how:
        raise Invalid("Say how they told us, so that it can be shown later.", "how")
    if len(ids) > MOST:
        raise Invalid(_too_many(MOST), "contact")
    agreed, new = form.get("agreed") == "yes", 0
    for ident in ids:
        queries.contact(db(), ident)
        new += set_consent(db(), now(), ident, 0, agreed, how[:300], channel)
    audit.record(
        db(), actor(), now(), "recorded consent of", "contacts", None, "", people=new, agreed=agreed
    )
    said = people_words(new)
    return (
        Wording("Recorded: %(people)s newly agreed.", people=said)
        if agreed
        else Wording("Recorded: %(people)s newly refused.", people=said)
    )


def _erase(ids: list[int]) -> Wording:
    """Erases people for good. Raises Invalid, NotAllowed."""
    require(actor(), "approver")
    if len(ids) > MOST_ERASED:
        raise Invalid(_too_many(MOST_ERASED), "contact")
    for ident in ids:
        wholly.erase(db(), actor(), now(), ident)
    return Wording("Erased for good: %(people)s.", people=people_words(len(ids)))


def _too_many(most: int) -> Wording:
    return Wording("Choose at most %(people)s for that.", people=people_words(most))


def _tag(text: str, ids: list[int]) -> Wording:
    """Gives people tags, and says to how many of them each is new. Raises Invalid."""
    paths = actions.read(text)
    if not paths:
        raise Invalid("Give a tag, like season/winter.", "tags")
    count = max(actions.give(db(), actor(), now(), path, ids) for path in paths)
    return Wording("Tagged: new to %(people)s.", people=people_words(count))


def _put(chosen: str, name: str, ids: list[int]) -> PeopleList:
    """Puts people on a list that there is, or on a new one. Raises Invalid."""
    if chosen:
        kept = existing(db(), PeopleList, integer(chosen, "list"), "list")
        keeping.put_in(db(), kept.id, ids)
        return kept
    if not name.strip():
        raise Invalid("Choose a list, or name a new one.", "name")
    return keeping.make_list(db(), actor(), now(), name, str(_BY_HAND), ids)
