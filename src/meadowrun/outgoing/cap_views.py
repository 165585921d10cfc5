"""The page of message limits: numbers are tried on what really happened before they are saved."""

import dataclasses
import re
from collections.abc import Mapping

import flask

from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.core.audience.definition import DefinitionError
from meadowrun.core.channels import KINDS
from meadowrun.core.language import Wording
from meadowrun.core.values import is_whole
from meadowrun.core.wording import count_of
from meadowrun.gateways.channels import CHANNELS
from meadowrun.outgoing import caps, pressure, tried
from meadowrun.outgoing.caps import Wanted
from meadowrun.outgoing.models import MessageLimit
from meadowrun.people.asked import moment
from meadowrun.segments.models import Segment
from meadowrun.segments.queries import segments
from meadowrun.shell.later import comes_later
from meadowrun.shell.request import Answer, actor, db, done, integer, needs, now, zone
from meadowrun.tags.queries import paths

pages = flask.Blueprint("caps", __name__, url_prefix="/message-limits")

#: The units that a limit can be said in.
UNITS = {
    "minute": Wording("minutes"),
    "day": Wording("days"),
    "week": Wording("weeks"),
    "month": Wording("months"),
}
#: The columns of the table.
USUAL = (("day", Wording("a day")), ("week", Wording("a week")), ("month", Wording("a month")))
#: The name of a number's field: what it is about, and for how long.
_FIELD = re.compile(r"most:(?P<channel>\w*):(?P<tag>\d*):(?P<unit>\w+):(?P<length>\d+)\Z")


@dataclasses.dataclass(frozen=True)
class Line:
    """One line of the table: what its limits are about, and how many there may be by unit."""

    channel: str
    tag_id: int | None
    name: str
    most: Mapping[str, int]

    def field(self, unit: str) -> str:
        """The name of the field of a unit's number."""
        return _name(self.channel, self.tag_id, unit, 1)


def _name(channel: str, tag_id: int | None, unit: str, length: int) -> str:
    return f"most:{channel}:{tag_id or ''}:{unit}:{length}"


def _channels() -> dict[str, str]:
    """The channels that limits are about, with what their messages are called."""
    return {key: KINDS[key].several for key, one in CHANNELS.items() if not one.waits_there}


@pages.get("/people")
@comes_later("Counting the messages of the last weeks")
def pressure_page() -> Answer:
    """How many messages people get in a week: everyone, or the people of a segment."""
    number = flask.request.args.get("segment", "")
    segment = db().get(Segment, int(number)) if is_whole(number) else None
    found, problem = [], None
    try:
        found = pressure.weeks(moment(), list(_channels()), segment)
    except DefinitionError as wrong:
        problem = wrong
    return flask.render_template(
        "outgoing/pressure.html",
        weeks=found,
        problem=problem,
        segment=segment,
        segments=segments(db()),
        many=pressure.MANY,
        numbers=range(1, pressure.MANY + 1),
    )


@pages.get("")
@comes_later("Reading the last 90 days")
def table() -> Answer:
    """All limits, and what they would have done on the last 90 days."""
    return _page([_wanted_of(one) for one in caps.limits(db())], None)


def _wanted_of(limit: MessageLimit) -> Wanted:
    return Wanted(limit.channel, limit.tag_id, limit.unit, limit.length, limit.most)


def _page(wanted: list[Wanted], problem: MeadowrunError | None) -> str:
    """The page with limits as they are wanted, and why they were refused."""
    known = paths(db())
    usual = [one for one in wanted if one.length == 1 and one.unit != "minute"]
    lines = []
    for channel, tag, name in _lines(usual, known):
        most = {one.unit: one.most for one in usual if _of(one) == (channel, tag)}
        lines.append(Line(channel, tag, name, most))
    others = [
        (_name(one.channel, one.tag_id, one.unit, one.length), one, _about(one, known))
        for one in wanted
        if one not in usual
    ]
    return flask.render_template(
        "outgoing/caps.html",
        lines=lines,
        others=others,
        period=lambda one: count_of(one.length, one.unit),
        usual=USUAL,
        channels=_channels(),
        units=UNITS,
        tags=known,
        problem=problem,
        tried=_tried(wanted),
    )


def _of(one: Wanted) -> tuple[str, int | None]:
    return one.channel, one.tag_id


def _lines(usual: list[Wanted], known: Mapping[int, str]) -> list[tuple[str, int | None, str]]:
    """What the lines of the table are about: all channels, each of them, and each tag that has a
    limit."""
    found: list[tuple[str, int | None, str]] = [("", None, Wording("all channels together"))]
    found += [(key, None, name) for key, name in _channels().items()]
    tagged = sorted({_of(one) for one in usual if one.tag_id}, key=lambda of: known[of[1] or 0])
    return found + [(channel, tag, known[tag or 0]) for channel, tag in tagged]


def _about(one: Wanted, known: Mapping[int, str]) -> str:
    """Whose messages a limit is about, in words."""
    what = _channels().get(one.channel, Wording("messages of all channels"))
    if one.tag_id is None:
        return what
    return Wording("%(what)s with “%(tag)s”", what=what, tag=known.get(one.tag_id, ""))


def _tried(wanted: list[Wanted]) -> tried.Tried | None:
    """What limits would have done; None where they cannot be."""
    try:
        made = caps.as_caps(db(), wanted)
    except Invalid:
        return None
    people, found = tried.past(db(), now(), zone(), list(_channels()))
    return tried.tried(people, found, made)


def _read(form: Mapping[str, str]) -> list[Wanted]:
    """The limits that a form names; a blank number is none. Raises Invalid."""
    found = []
    for name, value in form.items():
        match = _FIELD.match(name)
        if not match or not value.strip():
            continue
        tag = int(match["tag"]) if is_whole(match["tag"]) else None
        most, length = integer(value, "most"), integer(match["length"], "length")
        found.append(Wanted(match["channel"], tag, match["unit"], length, most))
    if form.get("more"):
        tag = integer(form["tag"], "tag") if form.get("tag") else None
        most, length = integer(form.get("most"), "most"), integer(form.get("length"), "length")
        found.append(Wanted(form.get("channel", ""), tag, form.get("unit", ""), length, most))
    return found


@pages.post("/try")
@needs("admin")
def try_them() -> Answer:
    """What the numbers of the form would have done, for the page to show."""
    try:
        wanted = _read(flask.request.form)
        caps.as_caps(db(), wanted)
    except MeadowrunError as problem:
        return flask.render_template("outgoing/tried.html", tried=None, problem=problem)
    return flask.render_template("outgoing/tried.html", tried=_tried(wanted), problem=None)


@pages.post("")
@needs("admin")
def save() -> Answer:
    """Makes the numbers of the form the limits."""
    wanted: list[Wanted] = []
    try:
        wanted = _read(flask.request.form)
        changed = caps.set_all(db(), actor(), now(), wanted)
    except MeadowrunError as problem:
        db().rollback()
        return _page(wanted or [_wanted_of(one) for one in caps.limits(db())], problem), 422
    if not changed:
        return done("caps.table", "Nothing was changed.")
    return done(
        "caps.table",
        Wording(
            "%(limits)s changed. People waiting for room are checked again.",
            limits=count_of(changed, "limit"),
        ),
    )
