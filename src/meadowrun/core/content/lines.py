"""The lines of a message: what kinds there are, what each holds, and how to go through those inside
others."""

import copy
import secrets
from collections.abc import Collection, Iterator, Mapping, Sequence
from typing import Any

from meadowrun.core.language import Wording

Json = dict[str, Any]
#: type → what it is called, and its settings with their defaults
LINE_TYPES: dict[str, tuple[str, Json]] = {
    "heading": (Wording("Heading"), {"text": "", "align": "left", "colour": ""}),
    "text": (Wording("Text"), {"html": "<p></p>", "align": "left", "colour": ""}),
    "picture": (
        Wording("Picture"),
        {"src": "", "alt": "", "link": "", "width": 100, "align": "center"},
    ),
    "button": (
        Wording("Button"),
        {"label": "", "href": "", "align": "center", "fill": "", "colour": ""},
    ),
    "columns": (Wording("Columns"), {"split": [50, 50], "reverse": False, "columns": [[], []]}),
    "only": (Wording("Only if"), {"grouping": 0, "cases": [], "otherwise": []}),
    "shared": (Wording("Shared part"), {"part": 0, "version": 0}),
    "feed": (Wording("List from a feed"), {"feed": "", "most": 5, "html": "<p></p>"}),
    "icons": (Wording("Icons"), {"icons": [], "align": "center"}),
    "quote": (Wording("Quote"), {"html": "<p></p>", "by": ""}),
    "divider": (Wording("Divider"), {"colour": ""}),
    "space": (Wording("Space"), {"height": 24}),
    "code": (Wording("Code"), {"code": ""}),
    "footer": (Wording("Footer"), {"html": "<p></p>", "unsubscribe": True}),
}
#: How columns can be arranged at a click: their widths in percent.
SPLITS = (
    [50, 50],
    [33, 67],
    [67, 33],
    [33, 33, 34],
    [25, 50, 25],
    [25, 25, 25, 25],
)
#: Every line has these besides.
EVERY: Json = {"off": False}
#: What an icon of an icons line may show; the pictures ship with the application.
ICONS = {
    "web": "website",
    "mail": "email",
    "phone": "telephone",
    "map": "map",
    "calendar": "calendar",
    "camera": "pictures",
    "film": "films",
    "chat": "chat",
    "news": "news",
    "ticket": "tickets",
    "hedgerow": "Hedgerow",
    "millpond": "Millpond",
    "rookery": "Rookery",
}


def icon_name(icon: Json) -> str:
    """What an icon is called, where pictures are off or a page is read aloud."""
    return icon.get("name") or str(ICONS[icon["icon"]])


#: Networks of the demo's own world: offered nowhere else.
MADE_UP = frozenset({"hedgerow", "millpond", "rookery"})
#: Slots of a line that hold text in which fill-ins may stand.
TEXT_SLOTS = ("text", "html", "label", "href", "src", "alt", "link", "by", "code")
MOST_CASES = 60


def fresh_id() -> str:
    return secrets.token_hex(4)


def new_line(kind: str, **given: Any) -> Json:
    """A line with its defaults. Raises KeyError for a kind that does not exist."""
    return {"id": fresh_id(), "type": kind, **copy.deepcopy(LINE_TYPES[kind][1]), **EVERY, **given}


def among(value: Any, allowed: Collection[str], otherwise: str | None = None) -> str | None:
    """A value from outside that is one of some words; anything else becomes `otherwise`."""
    return value if isinstance(value, str) and value in allowed else otherwise


def listed(value: Any) -> list[Any]:
    """A value from outside as a list; what is none is an empty one."""
    return value if isinstance(value, list) else []


def one_line(value: Any, most: int | None = None) -> str:
    """A value from outside as one line of at most so many characters, without spaces at its
    ends."""
    return " ".join(str(value).split())[:most].rstrip()


def inside(line: Mapping[str, Any]) -> list[tuple[str, list[Json]]]:
    """The lists of lines a line holds, each with what it is called."""
    if line["type"] == "columns":
        return [(Wording("column %(n)s", n=n), held) for n, held in enumerate(line["columns"], 1)]
    if line["type"] == "only":
        return [
            (case["name"] or Wording("a version"), case["content"]) for case in line["cases"]
        ] + [(Wording("everyone else"), line["otherwise"])]
    return []


def walk(lines: Sequence[Json]) -> Iterator[Json]:
    """Every line, each before those inside it."""
    for line in lines:
        yield line
        for _, held in inside(line):
            yield from walk(held)


def places(lines: Sequence[Json], prefix: str = "") -> dict[str, str]:
    """How each line is spoken of, by its id: “3”, inside it “3, column 2, line 1”."""
    found: dict[str, str] = {}
    for number, line in enumerate(lines, 1):
        found[line["id"]] = f"{prefix}{number}"
        for name, held in inside(line):
            found |= places(
                held,
                Wording(
                    "%(prefix)s%(number)s, %(name)s, line ", prefix=prefix, number=number, name=name
                ),
            )
    return found


def live(lines: Sequence[Json]) -> list[Json]:
    """The lines that are not switched off, at any depth."""
    made = []
    for line in lines:
        if line["off"]:
            continue
        if line["type"] == "columns":
            line = line | {"columns": [live(held) for held in line["columns"]]}
        elif line["type"] == "only":
            line = line | {
                "cases": [case | {"content": live(case["content"])} for case in line["cases"]],
                "otherwise": live(line["otherwise"]),
            }
        made.append(line)
    return made


def with_parts(
    lines: Sequence[Json], shared: Mapping[tuple[int, int], Sequence[Json]], within: str = ""
) -> list[Json]:
    """The lines with what shared parts hold in their places. Ids of those begin with their place's,
    so that each stays single.

    A part that is not there leaves nothing; parts hold no parts.
    """
    made = []
    for line in lines:
        if line["type"] == "shared":
            held = shared.get((line["part"], line["version"]), ())
            if not line["off"]:
                made += [
                    own
                    for own in with_parts(held, {}, within=line["id"] + "-")
                    if own["type"] != "shared"
                ]
            continue
        line = line | {"id": within + line["id"]}
        if line["type"] == "columns":
            line["columns"] = [with_parts(held, shared, within) for held in line["columns"]]
        elif line["type"] == "only":
            line["cases"] = [
                case
                | {
                    "id": within.replace("-", "_") + case["id"],
                    "content": with_parts(case["content"], shared, within),
                }
                for case in line["cases"]
            ]
            line["otherwise"] = with_parts(line["otherwise"], shared, within)
        made.append(line)
    return made


def parts_used(lines: Sequence[Json]) -> set[tuple[int, int]]:
    """The shared parts named by lines, as (part, version)."""
    return {(line["part"], line["version"]) for line in walk(lines) if line["type"] == "shared"}
