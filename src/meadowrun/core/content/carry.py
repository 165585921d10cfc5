"""One draft for several channels: what a message says, taken along into the beginning of one for
another channel.

Nothing is made up: the words are the author's own, fill-ins and all; what another channel cannot
hold is named as left behind.
"""

import copy
import dataclasses
import html
import re
from collections.abc import Callable, Sequence

from meadowrun.core.channels import beginning
from meadowrun.core.content import fillins
from meadowrun.core.content.document import DocumentError, closing, empty, renewed
from meadowrun.core.content.in_app import MOST_BUTTONS, take_in_app
from meadowrun.core.content.lines import Json, live, new_line
from meadowrun.core.content.plain import html_text
from meadowrun.core.content.push import MOST_BUTTONS as MOST_PUSH_BUTTONS
from meadowrun.core.content.sms import STOP_WORD, plainer

_ADDRESS = re.compile(r"https?://[^\s{}]+")
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
    picture: str = ""
    left: list[str] = dataclasses.field(default_factory=list)

    def leave(self, what: str) -> None:
        if what not in self.left:
            self.left.append(what)


def carried(
    source: str,
    document: Json,
    lines: Sequence[Json],
    target: str,
    organisation: str,
    postal_address: str,
    looks: Json,
    asked: Asked,
) -> tuple[Json, list[str]]:
    """A document for the channel `target` with what one of the channel `source` says, and what was
    left behind, in words.

    `lines` are the document's with shared parts in their places. Of the same channel it is a copy.
    Raises DocumentError for one that only chooses among other messages.
    """
    if source == target:
        made = copy.deepcopy(document)
        return made | {"lines": renewed(made["lines"])}, []
    if document.get("one_of"):
        raise DocumentError(
            "This message is chosen by a field. Take along one of those that it chooses among."
        )
    said = _gist(source, document, lines, organisation, asked)
    made = beginning(target, organisation, STOP_WORD, looks) if target != "email" else empty(looks)
    if target == "sms":
        _into_text(made, said, organisation)
    elif target == "push":
        _into_notification(made, said)
    else:
        made |= {"subject": said.subject, "preheader": said.preheader if target == "email" else ""}
        own = (
            [line for line in renewed(live(lines)) if line["type"] != "footer"]
            if source in ("email", "in_app")
            else _lines(said)
        )
        if document.get("code"):
            own = _lines(said)
        made["lines"] = own
        if target == "in_app":
            _into_in_app(made, said)
        else:
            made["lines"] += [
                *(
                    []
                    if source != "in_app"
                    else [new_line("button", label=w, href=a) for w, a in said.buttons]
                ),
                closing(organisation, postal_address),
            ]
    return made, said.left


def _gist(
    source: str, document: Json, lines: Sequence[Json], organisation: str, asked: Asked
) -> Gist:
    said = Gist(subject=document["subject"], preheader=document["preheader"])
    if source in ("sms", "push"):
        text = str(document.get("plain") or "")
        if source == "sms":
            text = (
                re.sub(rf"(?i)\s*{STOP_WORD} ends (these|this)\.?\s*\Z", "", text)
                .removeprefix(f"{organisation}:")
                .strip()
            )
            for address in _ADDRESS.findall(text)[:1]:
                said.buttons.append(("", address.rstrip(".,!?)")))
                text = text.replace(said.buttons[0][1], "").rstrip()
        else:
            push = document["push"]
            said.heading, said.picture = said.subject, push["picture"]
            said.buttons = [("", push["href"])] * bool(push["href"]) + [
                (b["label"], b["href"]) for b in push["buttons"]
            ]
        said.paragraphs = [p for p in re.split(r"\n{2,}", text) if p.strip()]
        return said
    if document.get("code") or document.get("text_only"):
        text = (
            html_text(document["code"])
            if document.get("code")
            else str(document.get("plain") or "")
        )
        said.paragraphs = [p for p in re.split(r"\n{2,}", text) if p.strip()]
        if document.get("code"):
            said.leave("the looks of the code")
    else:
        _collect(live(lines), said, asked)
    if source == "in_app":
        said.buttons = [
            (b["label"], b["href"]) for b in document["in_app"]["buttons"] if b["act"] == "open"
        ] + said.buttons
        if any(b["act"] != "open" for b in document["in_app"]["buttons"]):
            said.leave("buttons that do more than open an address")
    return said


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
            said.leave("the list from a feed" if kind == "feed" else "a line of code")


def _collect_versions(line: Json, said: Gist, asked: Asked) -> None:
    """The versions of an “only if” line as words for some; those by a grouping cannot be asked
    inside a text."""

    def words_of(held: Sequence[Json]) -> str:
        inner = Gist()
        _collect(held, inner, asked)
        if inner.buttons or inner.picture:
            said.leave("buttons and pictures for some")
        said.left += [w for w in inner.left if w not in said.left]
        return " ".join([*filter(None, [inner.heading]), *inner.paragraphs])

    if line["grouping"]:
        said.leave("the versions by a grouping")
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


def _body(said: Gist) -> list[str]:
    """The paragraphs without a salutation."""
    bare = [
        fillins.PART.sub(lambda m: "greeting" if "greeting" in m[0] else "x", p).strip()
        for p in said.paragraphs
    ]
    kept = [
        p for p, shown in zip(said.paragraphs, bare, strict=True) if not _SALUTATION.match(shown)
    ]
    if len(kept) < len(said.paragraphs):
        said.leave("the salutation")
    return kept


def _sentence(text: str) -> str:
    return text if not text or text[-1] in ".!?…:}" else text + "."


def _into_text(made: Json, said: Gist, organisation: str) -> None:
    body = _body(said)
    words = [
        _sentence(said.heading or said.subject),
        *(" ".join(p.split()) for p in body[:1]),
        *(a for _, a in said.buttons[:1]),
    ]
    if len(body) > 1:
        said.leave("every paragraph but the first")
    if len(said.buttons) > 1:
        said.leave("every button but the first")
    if said.picture:
        said.leave("the pictures")
    made["plain"] = plainer(
        f"{organisation}: {' '.join(filter(None, words))}\n{STOP_WORD} ends these"
    )


def _into_notification(made: Json, said: Gist) -> None:
    body = _body(said)
    made["subject"] = said.subject or said.heading
    text = " ".join(body[0].split()) if body else said.preheader
    made["plain"] = text or (said.heading if said.heading != made["subject"] else "") or None
    if len(body) > 1:
        said.leave("every paragraph but the first")
    more = [
        {"label": words, "href": address}
        for words, address in said.buttons[1 : 1 + MOST_PUSH_BUTTONS]
        if words
    ]
    if len(said.buttons) > 1 + MOST_PUSH_BUTTONS:
        said.leave("some of the buttons")
    made["push"] |= {
        "href": said.buttons[0][1] if said.buttons else "",
        "picture": said.picture,
        "buttons": more,
    }


def _into_in_app(made: Json, said: Gist) -> None:
    """Its own buttons are the first ones that stand at the top; those inside other lines stay where
    they are."""
    tops = [line for line in made["lines"] if line["type"] == "button"][:MOST_BUTTONS]
    made["lines"] = [line for line in made["lines"] if line not in tops]
    buttons = [
        {"label": line["label"], "act": "open", "href": line["href"], "days": 7, "event": ""}
        for line in tops
    ]
    made["in_app"] = take_in_app({"buttons": buttons} if buttons else {})
    made["subject"] = said.subject or said.heading


def _lines(said: Gist) -> list[Json]:
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
