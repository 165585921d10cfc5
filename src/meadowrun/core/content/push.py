"""Push notifications: what one holds, checked when it comes in; its payload; and what is wrong with
it."""

import json
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

from meadowrun.core import webpush, wording
from meadowrun.core.content import fillins
from meadowrun.core.content.checks import checks_of_words, sorted_checks
from meadowrun.core.content.document import DocumentError, address_problem
from meadowrun.core.content.drawn import drawn
from meadowrun.core.content.findings import COULD, MUST, SHOULD, About, Check
from meadowrun.core.content.lines import Json, among, listed, one_line
from meadowrun.core.language import Wording

#: what a tap on the push notification does → how that is said
TAPS = {
    "address": Wording("opens this address"),
    "app": Wording("opens the app"),
    "page": Wording("opens a full page of ours"),
}
#: the systems a push notification can go to → what they are called
SYSTEMS = {"web": Wording("web browsers"), "android": Wording("Android phones"), "ios": "iPhones"}
#: `page` is the number of the message that a tap opens as a page. `ttl` is how long a service keeps
#: an undelivered one, in
#: seconds; `close_after` closes a shown one by itself, 0 never.
EMPTY: Json = {
    "picture": "",
    "icon": "",
    "href": "",
    "tap": "address",
    "page": 0,
    "buttons": [],
    "ttl": 86_400,
    "close_after": 0,
    "data": [],
    "inbox": False,
    "systems": list(SYSTEMS),
}
MOST_BUTTONS, MOST_DATA = 2, 10
MOST_TTL = 28 * 86_400
#: Characters that are shown by the narrowest of the systems: web browsers and the two systems of
#: phones.
SHOWN = {"title": 50, "body": 120, "label": 18}
#: Bytes of a picture above which phones drop it.
HEAVY = 1_000_000


def take_push(data: Any) -> Json:
    """What a push notification holds besides title and text, checked. Raises DocumentError
    naming the slot."""
    given: Mapping[str, Any] = data if isinstance(data, Mapping) else {}
    made = dict(EMPTY)
    for slot in ("picture", "icon", "href"):
        made[slot] = one_line(given.get(slot) or "")
    made["tap"] = among(given.get("tap"), TAPS, "address")
    made["inbox"] = bool(given.get("inbox"))
    wanted = given.get("systems", EMPTY["systems"])
    made["systems"] = [s for s in SYSTEMS if isinstance(wanted, list) and s in wanted]
    for slot, most in (("ttl", MOST_TTL), ("close_after", 3600), ("page", 2**53)):
        try:
            made[slot] = max(0, min(most, int(given.get(slot, EMPTY[slot]))))
        except (TypeError, ValueError, OverflowError):
            raise DocumentError(
                Wording("“%(slot)s” is not a whole number.", slot=given.get(slot)), "push", slot
            ) from None
    buttons = [b for b in listed(given.get("buttons")) if isinstance(b, Mapping)]
    if len(buttons) > MOST_BUTTONS:
        raise DocumentError(
            Wording(
                "A push notification has at most %(most_buttons)s buttons.",
                most_buttons=MOST_BUTTONS,
            ),
            "push",
            "buttons",
        )
    made["buttons"] = [
        {"label": one_line(b.get("label") or ""), "href": str(b.get("href") or "").strip()}
        for b in buttons
    ]
    pairs = [p for p in listed(given.get("data")) if isinstance(p, list | tuple) and len(p) == 2]
    if len(pairs) > MOST_DATA:
        raise DocumentError(
            Wording(
                "A push notification carries at most %(most_data)s keys of your own.",
                most_data=MOST_DATA,
            ),
            "push",
            "data",
        )
    made["data"] = [[one_line(k, 60), str(v)[:500]] for k, v in pairs]
    for slot, text in texts_of(made):
        try:
            fillins.tree(text)
        except fillins.FillInError as problem:
            raise DocumentError(str(problem), "push", slot) from None
    return made


def next_button(buttons: Sequence[Json]) -> Json:
    """Another button."""
    return {"label": "", "href": ""}


def texts_of(push: Mapping[str, Any]) -> Iterator[tuple[str, str]]:
    """Every text of a notification's particulars that fill-ins may stand in: (slot, text)."""
    for slot in ("picture", "icon", "href"):
        yield slot, push[slot]
    for number, button in enumerate(push["buttons"]):
        yield f"buttons.{number}.label", button["label"]
        yield f"buttons.{number}.href", button["href"]
    for number, (_, value) in enumerate(push["data"]):
        yield f"data.{number}.1", value


def mapped(push: Mapping[str, Any], change: Callable[[str, str], str]) -> Json:
    """A copy with every text changed: `change` gets its slot and the text."""
    made = dict(push) | {slot: change(slot, push[slot]) for slot in ("picture", "icon", "href")}
    made["buttons"] = [
        b | {slot: change(f"buttons.{n}.{slot}", b[slot]) for slot in ("label", "href")}
        for n, b in enumerate(push["buttons"])
    ]
    made["data"] = [[k, change(f"data.{n}.1", v)] for n, (k, v) in enumerate(push["data"])]
    return made


def payload(title: str, body: str, push: Mapping[str, Any]) -> bytes:
    """What a device gets, as JSON."""
    made = {
        "title": title,
        "body": body,
        "tap": push["tap"],
        "url": push["href"],
        "picture": push["picture"],
        "icon": push["icon"],
        "buttons": push["buttons"],
        "close_after": push["close_after"],
        "data": {key: value for key, value in push["data"] if key},
        "inbox": push["inbox"],
    }
    return json.dumps(
        {k: v for k, v in made.items() if v not in ("", [], {}, 0, False)},
        ensure_ascii=False,
        separators=(",", ":"),
    ).encode()


def largest(
    title: str, body: str, push: Mapping[str, Any], values: Mapping[str, Sequence[str]]
) -> int:
    """Bytes of what a device gets, for the longest values that its fill-ins really have."""

    def at_most(text: str) -> str:
        return drawn(text, values, lambda t: len(t.encode()))

    return len(
        payload(at_most(title), at_most(body), mapped(push, lambda slot, text: at_most(text)))
    )


def push_checks(document: Mapping[str, Any], about: About) -> list[Check]:
    """What is wrong with a push notification, the gravest first."""
    push, title, body = document["push"], document["subject"], document["plain"] or ""
    texts = " ".join([title, body, *(t for _, t in texts_of(push))])
    return sorted_checks(
        [
            *_words(title, body),
            *_tap(push),
            *_systems(push),
            *_buttons(push["buttons"]),
            *_pictures(push, about),
            *_weight(title, body, push, about),
            *checks_of_words(texts, document["settings"], about),
        ]
    )


def _found(level: str, slot: str, text: str) -> Check:
    return Check(level, text, "" if slot in ("subject", "plain") else "push", slot)


def _words(title: str, body: str) -> Iterator[Check]:
    if not title:
        yield _found(MUST, "subject", Wording("There is no title."))
    if not body:
        yield _found(SHOULD, "plain", Wording("There is no text; a title alone says little."))
    for text, name, slot in ((title, "title", "subject"), (body, "body", "plain")):
        shown = len(fillins.PART.sub("xxxxxx", text))
        if shown > SHOWN[name]:
            what = Wording("a title") if name == "title" else Wording("the text")
            yield _found(
                COULD,
                slot,
                Wording(
                    "Some systems cut %(what)s at about %(shown)s characters; this one has "
                    "%(shown_2)s.",
                    what=what,
                    shown=SHOWN[name],
                    shown_2=shown,
                ),
            )


def _tap(push: Mapping[str, Any]) -> Iterator[Check]:
    if push["tap"] == "address" and (problem := address_problem(push["href"])):
        yield _found(
            MUST,
            "href",
            Wording(
                "The push notification itself %(problem)s. Its buttons have addresses of their "
                "own.",
                problem=problem,
            ),
        )
    if push["tap"] == "page" and not push["page"]:
        yield _found(MUST, "page", Wording("Choose the page that a tap opens."))
    if push["tap"] == "app":
        yield _found(
            COULD,
            "tap",
            Wording(
                "Taps that open the app cannot be counted; those that open an address or a page of "
                "ours are."
            ),
        )


def _systems(push: Mapping[str, Any]) -> Iterator[Check]:
    phones = set(push["systems"]) - {"web"}
    if not push["systems"]:
        yield _found(MUST, "systems.web", Wording("Choose at least one system that it goes to."))
    if push["inbox"] and not phones:
        yield _found(
            COULD, "inbox", Wording("Browsers have no inbox of ours; this goes to browsers only.")
        )
    if push["buttons"] and "ios" in push["systems"]:
        yield _found(
            COULD, "buttons.0.label", Wording("iPhones show buttons only after a long press.")
        )
    if push["close_after"] and phones:
        yield _found(
            COULD,
            "close_after",
            Wording("Phones do not close a push notification by themselves; browsers do."),
        )


def _buttons(buttons: Sequence[Mapping[str, Any]]) -> Iterator[Check]:
    for number, button in enumerate(buttons):
        if not button["label"]:
            yield _found(
                MUST,
                f"buttons.{number}.label",
                Wording("Button %(value)s has no text.", value=number + 1),
            )
        elif len(button["label"]) > SHOWN["label"]:
            yield _found(
                COULD,
                f"buttons.{number}.label",
                Wording(
                    "Some systems cut button texts at %(label)s characters.", label=SHOWN["label"]
                ),
            )
        if problem := address_problem(button["href"]):
            yield _found(
                MUST,
                f"buttons.{number}.href",
                Wording("Button %(value)s %(problem)s.", value=number + 1, problem=problem),
            )


def _pictures(push: Mapping[str, Any], about: About) -> Iterator[Check]:
    for slot in ("picture", "icon"):
        address = push[slot]
        problem = address_problem(address) if address else ""
        if problem and not address.startswith("/f/"):
            yield _found(
                MUST, slot, Wording("The %(slot)s %(problem)s.", slot=slot, problem=problem)
            )
        weight = about.weights.get(address, 0)
        if weight > HEAVY:
            yield _found(
                SHOULD,
                slot,
                Wording(
                    "The %(slot)s weighs %(value)s kB; phones drop pictures over 1 MB.",
                    slot=slot,
                    value=weight // 1000,
                ),
            )


def _weight(title: str, body: str, push: Mapping[str, Any], about: About) -> Iterator[Check]:
    most = webpush.MOST_BYTES
    size, largest_size = len(payload(title, body, push)), largest(title, body, push, about.longest)
    if size > most:
        yield _found(
            MUST,
            "data",
            Wording(
                "It takes %(size)s bytes; %(most)s are the most that is carried.",
                size=wording.number(size),
                most=wording.number(most),
            ),
        )
    elif largest_size > most:
        yield _found(
            MUST,
            "plain",
            Wording(
                "For the longest values it takes %(largest_size)s bytes; %(most)s are the most "
                "that is carried. Leave out the long field, or say it in your own words.",
                largest_size=wording.number(largest_size),
                most=wording.number(most),
            ),
        )
