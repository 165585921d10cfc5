"""In-app messages: made ready for the people of a dispatch, shown when they come to the website,
ended by what they do."""

import dataclasses
import datetime as dt
import zoneinfo
from collections.abc import Mapping
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import signing
from meadowrun.base.settings import Settings
from meadowrun.core.content import in_app as in_app_messages
from meadowrun.core.content.compiled import Compiled
from meadowrun.core.content.filling import CannotRender
from meadowrun.core.content.rendering import Renderer
from meadowrun.core.timing.zones import zone_of
from meadowrun.messages.feeds import NoAnswer
from meadowrun.messages.models import Edition
from meadowrun.messages.values import Needs, nested, of_people
from meadowrun.outgoing.models import Delivery, Dispatch
from meadowrun.people.kinds import merged_kinds
from meadowrun.people.models import Contact
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary

#: Writes what has come of an in-app message for one person.
SHOWN_AGAIN = """UPDATE in_app_places SET times = :times, last_at = :last, not_before = :not_before,
    ended_at = CASE WHEN :ended THEN coalesce(ended_at, :now) END, put_off = put_off + :later
WHERE contact_id = :contact AND delivery = :delivery"""


#: What has come of the in-app messages of a dispatch, counted.
TALLY = """SELECT coalesce(sum(times + put_off), 0) AS showings,
    count(*) FILTER (WHERE put_off > 0) AS put_off,
    count(*) FILTER (WHERE overtaken) AS overtaken, coalesce(sum(outside), 0) AS outside,
    count(*) FILTER (WHERE times + put_off = 0 AND ended_at IS NULL) AS not_yet
FROM in_app_places WHERE dispatch_id = :dispatch"""


@dataclasses.dataclass(frozen=True)
class Shown:
    """An in-app message as the website's script draws it. `html` is a page for a closed frame;
    buttons without a way to lead anywhere but back to us."""

    token: str
    title: str
    html: str
    in_app: dict[str, Any]

    def to_json(self, looks: Mapping[str, Any]) -> dict[str, Any]:
        return {
            "token": self.token,
            "title": self.title,
            "html": self.html,
            "shape": self.in_app["shape"],
            "looks": {
                k: looks[k]
                for k in ("width", "sheet", "ink", "accent", "on_accent", "round", "text_font")
            },
            "buttons": [
                {
                    "label": b["label"],
                    "act": b["act"],
                    "href": b["href"] if b["act"] == "open" else "",
                }
                for b in self.in_app["buttons"]
            ],
        }


def _place(row: Any) -> in_app_messages.Place:
    return in_app_messages.Place(row.times, row.last_at, row.not_before, row.ended_at is not None)


#: What lies ready for one person, locked.
_PLACES = """
SELECT p.*, s.edition_id, s.facts
FROM in_app_places p JOIN dispatches s ON s.id = p.dispatch_id
WHERE p.contact_id = :id AND p.ended_at IS NULL AND s.state IN ('running', 'done')
ORDER BY p.delivery
FOR UPDATE OF p
"""
_SHOWN = """
UPDATE in_app_places SET times = times + 1, last_at = :now, not_before = NULL
WHERE contact_id = :contact AND delivery = :delivery
"""
#: What is written down about one that does not come, by why.
_NOTED = {
    "outside": """
UPDATE in_app_places SET outside = outside + 1
WHERE contact_id = :contact AND delivery = :delivery
""",
    "overtaken": """
UPDATE in_app_places SET ended_at = :now, overtaken = TRUE
WHERE contact_id = :contact AND delivery = :delivery
""",
}


def in_app_for(
    session: orm.Session,
    contact: Contact,
    event: str,
    page: str,
    now: dt.datetime,
    settings: Settings,
) -> dict[str, Any] | None:
    """The in-app message that comes now that a known visitor did something, written down as shown;
    None when none does.

    The places are locked, so that two windows of one visitor cannot show the same in-app message at
    once.
    """
    rows = session.execute(sa.text(_PLACES), {"id": contact.id}).all()
    # An edition names kinds of event as they were called when it was made.
    merged = merged_kinds(session) if rows else {}
    event = merged.get(event, event)
    here = zone_of(contact.timezone) or zoneinfo.ZoneInfo(settings.timezone)
    waiting: list[tuple[Any, Compiled, Edition]] = []
    for row in rows:
        edition = session.get_one(Edition, row.edition_id)
        compiled = Compiled.from_json(edition.compiled)
        assert compiled.in_app is not None
        in_app = compiled.in_app | {
            slot: merged.get(compiled.in_app[slot], compiled.in_app[slot])
            for slot in ("event", "unless")
        }
        why = in_app_messages.may_show(
            in_app,
            _place(row),
            event,
            page,
            now,
            now.astimezone(here).date(),
            _did_since(session, contact.id, in_app["unless"], row.laid_at),
        )
        if why == "show":
            waiting.append((row, compiled, edition))
        elif why in _NOTED:
            _note(session, _NOTED[why], contact, row, now)
    while waiting:
        chosen = in_app_messages.first_of(
            [(compiled.in_app or {}, row.delivery) for row, compiled, _ in waiting]
        )
        row, compiled, edition = waiting.pop(chosen)
        shown = _filled_in(session, contact, row, compiled, now, settings)
        if shown is not None:
            _note(session, _SHOWN, contact, row, now)
            return shown.to_json(edition.document["settings"])
    return None


def _note(session: orm.Session, sql: str, contact: Contact, row: Any, now: dt.datetime) -> None:
    session.execute(sa.text(sql), {"contact": contact.id, "delivery": row.delivery, "now": now})


def _did_since(session: orm.Session, contact_id: int, event: str, since: dt.datetime) -> bool:
    return (
        bool(event)
        and session.execute(
            sa.text(
                "SELECT 1 FROM events e JOIN event_kinds k ON k.id = e.kind_id WHERE "
                "e.contact_id = :id AND k.key = :key AND e.at >= :since LIMIT 1"
            ),
            {"id": contact_id, "key": event, "since": since},
        ).scalar()
        is not None
    )


def _filled_in(
    session: orm.Session,
    contact: Contact,
    place: Any,
    compiled: Compiled,
    now: dt.datetime,
    settings: Settings,
) -> Shown | None:
    """The in-app message with the person's values as they are now; kept with the delivery, so that
    what was seen can be shown again. None when a feed does not answer, or nothing can be made of
    it."""
    delivery = session.scalars(
        sa.select(Delivery).where(
            Delivery.number == place.delivery, Delivery.contact_id == contact.id
        )
    ).one()
    zone = zoneinfo.ZoneInfo(settings.timezone)
    try:
        fresh = of_people(
            Moment(session, dictionary(session), now, zone),
            [contact.id],
            Needs.of(compiled),
            sample=False,
            hosts=settings.feed_hosts,
        )
    except NoAnswer:
        return None
    flat = (delivery.filled or {}) | fresh[contact.id]
    tokens = signing.Tokens(settings.secret, place.delivery, contact.id)
    try:
        mail = Renderer(compiled).render(nested(flat, place.facts, tokens))
    except CannotRender:
        return None
    assert mail.in_app is not None
    delivery.filled = flat
    return Shown(tokens["in_app"], mail.subject, mail.html, mail.in_app)


def answered(
    session: orm.Session, contact_id: int, delivery: int, number: int | None, now: dt.datetime
) -> dict[str, Any] | None:
    """Somebody pressed a button of an in-app message, or closed it (None). Says what was pressed,
    with the number of its link; None when there is no such in-app message or button."""
    row = session.execute(
        sa.text(
            "SELECT * FROM in_app_places WHERE contact_id = :contact AND delivery = :delivery FOR "
            "UPDATE"
        ),
        {"contact": contact_id, "delivery": delivery},
    ).first()
    if row is None:
        return None
    in_app = Compiled.from_json(
        session.get_one(Edition, session.get_one(Dispatch, row.dispatch_id).edition_id).compiled
    ).in_app or {"buttons": []}
    if number is not None and not 0 <= number < len(in_app["buttons"]):
        return None
    button = in_app["buttons"][number] if number is not None else None
    left = in_app_messages.after(_place(row), button, now)
    session.execute(
        sa.text(SHOWN_AGAIN),
        {
            "contact": contact_id,
            "delivery": delivery,
            "times": left.times,
            "last": left.last_at,
            "not_before": left.not_before,
            "ended": left.ended,
            "now": now,
            "later": int(button is not None and button["act"] == "later"),
        },
    )
    return button or {"act": "close"}


def tally(session: orm.Session, dispatch_id: int | None) -> dict[str, int]:
    """What became of the in-app messages of a dispatch besides openings and clicks: people and
    times."""
    row = session.execute(
        sa.text(TALLY),
        {"dispatch": dispatch_id},
    ).one()
    return {k: int(v) for k, v in row._mapping.items()}
