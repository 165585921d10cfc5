"""What a message says, free of its channel: its words, buttons and picture, as each channel tells
them and takes them in.

Nothing is made up: the words are the author's own, fill-ins and all; what another channel cannot
hold is named as left behind.
"""

import dataclasses
import html
import re
from collections.abc import Callable, Sequence

from meadowrun.core.content import fillins
from meadowrun.core.content.lines import Json, live, new_line
from meadowrun.core.content.plain import html_text
from meadowrun.core.language import Wording

#: A greeting on a line of its own; a text message and a push notification have no room for one.
_SALUTATION = re.compile(
    r"(?i)(dear|hello|hi|good (morning|day|afternoon|evening)|greeting)\b[^.!?\n]{0,60}[,!]?\Z"
)
#: A condition as lines → the key under which words in a text may ask it.
Asked = Callable[[list[Json]], str]


@dataclasses.dataclass
class Gist:
    """What a message says: plain texts in which fill-ins stand, buttons as (words, address)."""

    subject: str = ""
    preheader: str = ""
    heading: str = ""
    paragraphs: list[str] = dataclasses.field(default_factory=list)
    buttons: list[tuple[str, str]] = dataclasses.field(default_factory=list)
    #: those of them that stand in no line
    own_buttons: list[tuple[str, str]] = dataclasses.field(default_factory=list)
    picture: str = ""
    left: list[str] = dataclasses.field(default_factory=list)

    def leave(self, what: str) -> None:
        if what not in self.left:
            self.left.append(what)


@dataclasses.dataclass(frozen=True, slots=True)
class Taken:
    """What a channel makes a message of, besides what it says: the organisation's name, postal
    address and looks, and the lines of its own where the other one is of lines, too."""

    said: Gist
    organisation: str
    postal_address: str
    looks: Json
    lines: Sequence[Json] | None


def of_lines(document: Json, lines: Sequence[Json], asked: Asked) -> Gist:
    """What a message of lines says; of code or plain text alone, its words."""
    said = Gist(subject=document["subject"], preheader=document["preheader"])
    if document.get("code"):
        said.paragraphs = paragraphs(html_text(document["code"]))
        said.leave(Wording("the looks of the code"))
    elif document.get("text_only"):
        said.paragraphs = paragraphs(str(document.get("plain") or ""))
    else:
        _collect(live(lines), said, asked)
    return said


def paragraphs(text: str) -> list[str]:
    """The paragraphs of a plain text."""
    return [p for p in re.split(r"\n{2,}", text) if p.strip()]


def _collect(lines: Sequence[Json], said: Gist, asked: Asked) -> None:
    for line in lines:
        kind = line["type"]
        if kind == "heading" and line["text"]:
            if said.heading:
                said.paragraphs.append(line["text"])
            else:
                said.heading = line["text"]
        elif kind in ("text", "quote"):
            said.paragraphs += [p for p in html_text(line["html"]).split("\n\n") if p.strip()]
        elif kind == "button" and (line["label"] or line["href"]):
            said.buttons.append((line["label"], line["href"]))
        elif kind == "picture" and line["src"]:
            said.picture = said.picture or line["src"]
        elif kind == "columns":
            for held in line["columns"]:
                _collect(held, said, asked)
        elif kind == "only":
            _collect_versions(line, said, asked)
        elif kind in ("feed", "code"):
            said.leave(
                Wording("the list from a feed") if kind == "feed" else Wording("a line of code")
            )


def _collect_versions(line: Json, said: Gist, asked: Asked) -> None:
    """The versions of an “only if” line as words for some; those by a grouping cannot be asked
    inside a text."""

    def words_of(held: Sequence[Json]) -> str:
        inner = Gist()
        _collect(held, inner, asked)
        if inner.buttons or inner.picture:
            said.leave(Wording("buttons and pictures for some"))
        said.left += [w for w in inner.left if w not in said.left]
        return " ".join([*filter(None, [inner.heading]), *inner.paragraphs])

    if line["grouping"]:
        said.leave(Wording("the versions by a grouping"))
        _collect(line["otherwise"], said, asked)
        return
    made = [
        (
            f"{{% {'elif' if place else 'if'} when.{asked(case['lines'])} %}}",
            words_of(case["content"]),
        )
        for place, case in enumerate(case for case in line["cases"] if case["lines"])
    ]
    if not made:
        _collect(line["otherwise"], said, asked)
    elif any(words for _, words in made):
        otherwise = words_of(line["otherwise"])
        said.paragraphs.append(
            "".join(tag + words for tag, words in made)
            + ("{% else %}" + otherwise if otherwise else "")
            + "{% endif %}"
        )


def body_of(said: Gist) -> list[str]:
    """The paragraphs without a salutation."""
    bare = [
        fillins.PART.sub(lambda m: "greeting" if "greeting" in m[0] else "x", p).strip()
        for p in said.paragraphs
    ]
    kept = [
        p for p, shown in zip(said.paragraphs, bare, strict=True) if not _SALUTATION.match(shown)
    ]
    if len(kept) < len(said.paragraphs):
        said.leave(Wording("the salutation"))
    return kept


def sentence(text: str) -> str:
    return text if not text or text[-1] in ".!?…:}" else text + "."


def lines_of(said: Gist) -> list[Json]:
    """Lines of an email or an in-app message that say it."""
    made = [new_line("picture", src=said.picture)] if said.picture else []
    made += [new_line("heading", text=said.heading)] if said.heading else []
    if said.paragraphs:
        made.append(new_line("text", html="".join(f"<p>{_rich(p)}</p>" for p in said.paragraphs)))
    return made + [new_line("button", label=words, href=address) for words, address in said.buttons]


def _rich(text: str) -> str:
    """Plain text as rich text; its fill-ins stay as they are."""
    return "".join(
        part
        if fillins.PART.fullmatch(part)
        else html.escape(part, quote=False).replace("\n", "<br>")
        for part in re.split(f"({fillins.PART.pattern})", text, flags=re.DOTALL)
        if part
    )
