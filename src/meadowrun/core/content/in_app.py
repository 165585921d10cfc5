"""In-app messages: what one holds besides its lines, when it may be shown, and what comes of a
button.

    {"shape", "buttons": [{"label", "act", "href", "days", "event"}], "event", "page", "from",
    "until", "times", "gap_days", "unless"}

`event` is what a visitor does for the in-app message to come (a key of the dictionary), `page`
where, for page views; `from` and `until` are days on the visitor's own clock, both taken in;
`times` how often it is shown at most, `gap_days` how long it then stays away; whoever did `unless`
since it was made ready does not see it any more.
"""

import dataclasses
import datetime as dt
import re
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from typing import Any

from meadowrun.core.content import fillins
from meadowrun.core.content.checks import checks, sorted_checks
from meadowrun.core.content.document import DocumentError, address_problem
from meadowrun.core.content.findings import About, Check, could, must, should
from meadowrun.core.content.lines import Json, among, listed, one_line
from meadowrun.core.language import Wording

SHAPES = {"box": Wording("a box in the middle"), "full": Wording("the full screen")}
#: what a button does → how that is said
ACTS = {
    "open": Wording("opens an address"),
    "allow": Wording("asks for permission to send push notifications"),
    "later": Wording("postpones the message"),
    "event": Wording("records an event"),
    "close": Wording("closes the message"),
}
PAGE_VIEWED = "page_viewed"
EMPTY: Json = {
    "shape": "box",
    "buttons": [{"label": "", "act": "open", "href": "", "days": 7, "event": ""}],
    "event": PAGE_VIEWED,
    "page": "",
    "from": "",
    "until": "",
    "times": 1,
    "gap_days": 1,
    "unless": "",
}
MOST_BUTTONS, MOST_TIMES, MOST_DAYS = 2, 50, 365
#: Characters of a button's words that a phone shows beside another button.
LABEL_SHOWN = 22
_KEY = re.compile(r"[a-z][a-z0-9_]{0,59}\Z")


def take_in_app(data: Any) -> Json:
    """What an in-app message holds besides its lines, checked. Raises DocumentError naming the
    slot."""
    given: Mapping[str, Any] = data if isinstance(data, Mapping) else {}
    buttons = [b for b in listed(given.get("buttons", EMPTY["buttons"])) if isinstance(b, Mapping)]
    if len(buttons) > MOST_BUTTONS:
        raise DocumentError(
            Wording(
                "An in-app message has at most %(most_buttons)s buttons.", most_buttons=MOST_BUTTONS
            ),
            "in_app",
            "buttons",
        )
    made: Json = {
        "shape": among(given.get("shape"), SHAPES, "box"),
        "buttons": [_button(b, f"buttons.{n}") for n, b in enumerate(buttons)],
        "page": one_line(given.get("page") or "", 200),
        "times": _whole(given.get("times", 1), "times", 1, MOST_TIMES),
        "gap_days": _whole(given.get("gap_days", 1), "gap_days", 0, MOST_DAYS),
    }
    for slot in ("from", "until"):
        made[slot] = str(given.get(slot) or "")
        if made[slot]:
            try:
                dt.date.fromisoformat(made[slot])
            except ValueError:
                raise DocumentError(
                    Wording("“%(made)s” is not a day.", made=made[slot]), "in_app", slot
                ) from None
    for slot, usual in (("event", PAGE_VIEWED), ("unless", "")):
        made[slot] = str(given.get(slot) or usual)
        if made[slot] and not _KEY.match(made[slot]):
            raise DocumentError(
                Wording("“%(made)s” is not the name of an event.", made=made[slot]), "in_app", slot
            )
    for slot, text in texts_of(made):
        try:
            fillins.tree(text)
        except fillins.FillInError as problem:
            raise DocumentError(str(problem), "in_app", slot) from None
    return made


def _button(data: Mapping[str, Any], place: str) -> Json:
    act = among(data.get("act"), ACTS, "open")
    return {
        "label": one_line(data.get("label") or "", 200),
        "act": act,
        "href": str(data.get("href") or "").strip()[:2000].rstrip(),
        "event": str(data.get("event") or "")[:60],
        "days": _whole(data.get("days", 7), f"{place}.days", 1, MOST_DAYS),
    }


def _whole(value: Any, slot: str, least: int, most: int) -> int:
    try:
        return max(least, min(most, int(value)))
    except (TypeError, ValueError, OverflowError):
        raise DocumentError(
            Wording("“%(value)s” is not a whole number.", value=value), "in_app", slot
        ) from None


def next_button(buttons: Sequence[Json]) -> Json:
    """Another button: the second one is a way to postpone the message."""
    first: Json = EMPTY["buttons"][0]
    return first | ({"act": "later"} if buttons else {})


def texts_of(in_app: Mapping[str, Any]) -> Iterator[tuple[str, str]]:
    """Every text of an in-app message's particulars that fill-ins may stand in: (slot, text)."""
    for number, button in enumerate(in_app["buttons"]):
        yield f"buttons.{number}.label", button["label"]
        yield f"buttons.{number}.href", button["href"]


def mapped(in_app: Mapping[str, Any], change: Callable[[str, str], str]) -> Json:
    """A copy with every text changed: `change` gets its slot and the text."""
    return dict(in_app) | {
        "buttons": [
            b | {slot: change(f"buttons.{n}.{slot}", b[slot]) for slot in ("label", "href")}
            for n, b in enumerate(in_app["buttons"])
        ]
    }


def counted(button: Mapping[str, Any]) -> bool:
    """Whether a press of this button is what the in-app message was for, rather than a way past
    it."""
    return button["act"] in ("open", "allow", "event")


def in_app_checks(document: Mapping[str, Any], about: About) -> list[Check]:
    """What is wrong with an in-app message, the gravest first. Slots of its particulars stand on
    the line “in-app message”."""
    in_app, found = document["in_app"], list[Check]()
    if not document["subject"]:
        found.append(must("There is no title; screen readers say it first.", "", "subject"))
    if not document["lines"] and not document.get("code"):
        found.append(must("The in-app message is empty.", "", "add"))
    if not in_app["buttons"]:
        found.append(could("There is no button; people can only close it.", "in_app", "buttons"))
    for place, button in enumerate(in_app["buttons"]):
        found += _of_button(place, button, about)
    found += _showing(in_app, about)
    # An in-app message has no preheader, no plain part of its own and no need of a way to
    # unsubscribe.
    body = checks(
        dict(document) | {"preheader": "x", "plain": None, "subject": document["subject"] or "y"},
        about,
    )
    found += [c for c in body if c.slot != "add" and "characters of a subject" not in c.text]
    return sorted_checks(found)


def _of_button(place: int, button: Mapping[str, Any], about: About) -> Iterator[Check]:
    """What is wrong with one of its buttons."""
    name, slot = Wording("Button %(number)s", number=place + 1), f"buttons.{place}"
    if not button["label"]:
        yield must("%(name)s has no text.", "in_app", f"{slot}.label", name=name)
    elif len(fillins.PART.sub("xxxxxx", button["label"])) > LABEL_SHOWN:
        yield could(
            "%(name)s: phones break words of more than %(most)s characters.",
            "in_app",
            f"{slot}.label",
            name=name,
            most=LABEL_SHOWN,
        )
    if button["act"] == "open" and (problem := address_problem(button["href"])):
        yield must("%(name)s %(problem)s.", "in_app", f"{slot}.href", name=name, problem=problem)
    if button["act"] == "event":
        records = Wording("%(name)s records", name=name)
        yield from _event(button["event"], records, f"{slot}.event", about)


def _showing(in_app: Mapping[str, Any], about: About) -> Iterator[Check]:
    """What is wrong with when it is shown."""
    if in_app["from"] and in_app["until"] and in_app["from"] > in_app["until"]:
        yield must("Its last day is before its first.", "in_app", "until")
    if not in_app["until"]:
        yield should(
            "It has no last day: somebody who comes in a year still sees it.", "in_app", "until"
        )
    if in_app["event"] != PAGE_VIEWED:
        yield from _event(in_app["event"], Wording("It waits for"), "event", about)
    if in_app["unless"]:
        yield from _event(in_app["unless"], Wording("It stays away after"), "unless", about)
    if in_app["times"] > 1 and in_app["gap_days"] == 0:
        yield should("It comes again at once, without a day between.", "in_app", "gap_days")


def _event(key: str, says: str, slot: str, about: About) -> list[Check]:
    if not key:
        return [must("%(says)s an event, but none was chosen.", "in_app", slot, says=says)]
    if about.events is not None and key not in about.events:
        return [
            must(
                "%(says)s “%(key)s”, an event that does not exist.",
                "in_app",
                slot,
                says=says,
                key=key,
            )
        ]
    return []


@dataclasses.dataclass(frozen=True)
class Place:
    """An in-app message made ready for one person, and what has come of it. Moments are aware."""

    times: int = 0
    last_at: dt.datetime | None = None
    not_before: dt.datetime | None = None
    ended: bool = False


def may_show(
    in_app: Mapping[str, Any],
    place: Place,
    event: str,
    page: str,
    now: dt.datetime,
    today: dt.date,
    overtaken: bool,
) -> str:
    """“show”, or why not, in this order: ended, other (not what it waits for), overtaken (they did
    what it asks for), outside (of its days; `today` on the visitor's clock), enough (shown as often
    as it may be), put_off, soon (too little time since)."""
    if place.ended:
        return "ended"
    if event != in_app["event"] or event == PAGE_VIEWED and not page_matches(in_app["page"], page):
        return "other"
    if overtaken:
        return "overtaken"
    if (
        in_app["from"]
        and today.isoformat() < in_app["from"]
        or in_app["until"]
        and today.isoformat() > in_app["until"]
    ):
        return "outside"
    if place.times >= in_app["times"]:
        return "enough"
    if place.not_before is not None and now < place.not_before:
        return "put_off"
    if place.last_at is not None and now < place.last_at + dt.timedelta(days=in_app["gap_days"]):
        return "soon"
    return "show"


def page_matches(pattern: str, page: str) -> bool:
    """Whether a path is the one that is meant: exactly, or with a star at the end everything that
    begins so; empty: any."""
    pattern, page = pattern.rstrip("/") or "", page.split("?")[0].rstrip("/") or ""
    return not pattern or (
        page.startswith(pattern[:-1]) if pattern.endswith("*") else page == pattern
    )


def first_of(waiting: Sequence[tuple[Mapping[str, Any], int]]) -> int:
    """Which of several in-app messages, given as (in-app message, send), is shown when all might
    be: the one whose days end soonest, then the newest."""
    return min(
        range(len(waiting)), key=lambda n: (waiting[n][0]["until"] or "9999", -waiting[n][1])
    )


def after(place: Place, button: Mapping[str, Any] | None, now: dt.datetime) -> Place:
    """What a button, or closing it (None), makes of a shown in-app message: put off, ended by what
    it was for, or left to come again."""
    if button is not None and button["act"] == "later":
        # Nothing is lost by putting it off: this time does not count.
        return dataclasses.replace(
            place,
            times=max(0, place.times - 1),
            last_at=None,
            not_before=now + dt.timedelta(days=button["days"]),
        )
    if button is not None and counted(button):
        return dataclasses.replace(place, ended=True)
    return place


def offered(types: Collection[str]) -> list[str]:
    """The kinds of line that an in-app message may get: those of an email, without its footer."""
    return [t for t in types if t != "footer"]
