"""Push notifications: what one holds, checked when it comes in; its payload; and what is wrong with
it."""

import json
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

from meadowrun.core import webpush
from meadowrun.core.content import fillins
from meadowrun.core.content.checks import checks, sorted_checks
from meadowrun.core.content.document import DocumentError, address_problem
from meadowrun.core.content.drawn import drawn
from meadowrun.core.content.findings import COULD, MUST, SHOULD, About, Check
from meadowrun.core.content.lines import Json, among, listed, one_line

#: what a tap on the push notification does → how that is said
TAPS = {
    "address": "opens this address",
    "app": "opens the app",
    "page": "opens a full page of ours",
}
#: the systems a push notification can go to → what they are called
SYSTEMS = {"web": "web browsers", "android": "Android phones", "ios": "iPhones"}
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
            raise DocumentError(f"“{given.get(slot)}” is not a whole number.", None, slot) from None
    buttons = [
        b
        for b in listed(given.get("buttons"))
        if isinstance(b, Mapping) and (b.get("label") or b.get("href"))
    ]
    if len(buttons) > MOST_BUTTONS:
        raise DocumentError(
            f"A push notification has at most {MOST_BUTTONS} buttons.", None, "buttons"
        )
    made["buttons"] = [
        {"label": one_line(b.get("label") or ""), "href": str(b.get("href") or "").strip()}
        for b in buttons
    ]
    pairs = [
        p
        for p in listed(given.get("data"))
        if isinstance(p, list | tuple) and len(p) == 2 and str(p[0]).strip()
    ]
    if len(pairs) > MOST_DATA:
        raise DocumentError(
            f"A push notification carries at most {MOST_DATA} keys of your own.", None, "data"
        )
    made["data"] = [[one_line(k, 60), str(v)[:500]] for k, v in pairs]
    for slot, text in texts_of(made):
        try:
            fillins.tree(text)
        except fillins.FillInError as problem:
            raise DocumentError(str(problem), None, slot) from None
    return made


def texts_of(push: Mapping[str, Any]) -> Iterator[tuple[str, str]]:
    """Every text of a notification's particulars that fill-ins may stand in: (slot, text)."""
    for slot in ("picture", "icon", "href"):
        yield slot, push[slot]
    for number, button in enumerate(push["buttons"]):
        yield f"label{number}", button["label"]
        yield f"button{number}", button["href"]
    for number, (_, value) in enumerate(push["data"]):
        yield f"data{number}", value


def mapped(push: Mapping[str, Any], change: Callable[[str, str], str]) -> Json:
    """A copy with every text changed: `change` gets its slot and the text."""
    made = dict(push) | {slot: change(slot, push[slot]) for slot in ("picture", "icon", "href")}
    made["buttons"] = [
        {"label": change(f"label{n}", b["label"]), "href": change(f"button{n}", b["href"])}
        for n, b in enumerate(push["buttons"])
    ]
    made["data"] = [[k, change(f"data{n}", v)] for n, (k, v) in enumerate(push["data"])]
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
        "data": dict(push["data"]),
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
    push, found = document["push"], list[Check]()
    title, body = document["subject"], document["plain"] or ""
    if not title:
        found.append(Check(MUST, "There is no title.", "", "subject"))
    if not body:
        found.append(Check(SHOULD, "There is no text; a title alone says little.", "", "plain"))
    for text, name, slot in ((title, "title", "subject"), (body, "body", "plain")):
        shown = len(fillins.PART.sub("xxxxxx", text))
        if shown > SHOWN[name]:
            found.append(
                Check(
                    COULD,
                    f"Some systems cut {'a title' if name == 'title' else 'the text'} at about "
                    f"{SHOWN[name]} characters; "
                    f"this one has {shown}.",
                    "",
                    slot,
                )
            )
    if push["tap"] == "address" and (problem := address_problem(push["href"])):
        found.append(
            Check(
                MUST,
                f"The push notification itself {problem}. Its buttons have addresses of their own.",
                "",
                "href",
            )
        )
    if push["tap"] == "page" and not push["page"]:
        found.append(Check(MUST, "Choose the page that a tap opens.", "", "page"))
    if not push["systems"]:
        found.append(Check(MUST, "Choose at least one system that it goes to.", "", "system-web"))
    phones = set(push["systems"]) - {"web"}
    if push["inbox"] and not phones:
        found.append(
            Check(COULD, "Browsers have no inbox of ours; this goes to browsers only.", "", "inbox")
        )
    if push["buttons"] and "ios" in push["systems"]:
        found.append(Check(COULD, "iPhones show buttons only after a long press.", "", "label0"))
    if push["tap"] == "app":
        found.append(
            Check(
                COULD,
                (
                    "Taps that open the app cannot be counted; those that open an address or a "
                    "page of ours are."
                ),
                "",
                "tap",
            )
        )
    if push["close_after"] and phones:
        found.append(
            Check(
                COULD,
                "Phones do not close a push notification by themselves; browsers do.",
                "",
                "close_after",
            )
        )
    for number, button in enumerate(push["buttons"]):
        if not button["label"]:
            found.append(Check(MUST, f"Button {number + 1} has no text.", "", f"label{number}"))
        elif len(button["label"]) > SHOWN["label"]:
            found.append(
                Check(
                    COULD,
                    f"Some systems cut button texts at {SHOWN['label']} characters.",
                    "",
                    f"label{number}",
                )
            )
        if problem := address_problem(button["href"]):
            found.append(Check(MUST, f"Button {number + 1} {problem}.", "", f"button{number}"))
    for slot in ("picture", "icon"):
        if push[slot] and not push[slot].startswith("/f/") and address_problem(push[slot]):
            found.append(Check(MUST, f"The {slot} {address_problem(push[slot])}.", "", slot))
        if about.weights.get(push[slot], 0) > 1_000_000:
            found.append(
                Check(
                    SHOULD,
                    (
                        f"The {slot} weighs {about.weights[push[slot]] // 1000} kB; phones drop "
                        "pictures over 1 MB."
                    ),
                    "",
                    slot,
                )
            )
    size, most = len(payload(title, body, push)), largest(title, body, push, about.longest)
    if most > webpush.MOST_BYTES >= size:
        found.append(
            Check(
                MUST,
                f"For the longest values it takes {most:,} bytes; {webpush.MOST_BYTES:,} are the "
                "most that is carried. "
                "Leave out the long field, or say it in your own words.",
                "",
                "plain",
            )
        )
    if size > webpush.MOST_BYTES:
        found.append(
            Check(
                MUST,
                f"It takes {size:,} bytes; {webpush.MOST_BYTES:,} are the most that is carried.",
                "",
                "data",
            )
        )
    texts = " ".join([title, body, *(t for _, t in texts_of(push))])
    found += [
        Check(c.level, c.text, "", "plain")
        for c in checks(
            {
                "subject": "x",
                "preheader": "x",
                "plain": texts,
                "code": None,
                "text_only": True,
                "lines": [],
                "settings": document["settings"],
            },
            about,
        )
        if c.slot == "plain"
    ]
    return sorted_checks(found)
