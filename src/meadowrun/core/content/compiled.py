"""From a document to the templates that are filled in for each person, made once.

MJML gives HTML that every mail reader can show; the compiler and the inliner see plain words in
place of fill-ins, because they damage raw Jinja, and every word must come back exactly as often as
it went in.
"""

import dataclasses
import html
import re
from collections.abc import Mapping, Sequence, Set
from typing import Any

import css_inline
import mrml

from meadowrun.core.channels import KINDS, USUAL
from meadowrun.core.content import asking, fillins
from meadowrun.core.content import in_app as in_app_messages
from meadowrun.core.content.addresses import addresses, encoded, encoded_in, normal
from meadowrun.core.content.code import Page
from meadowrun.core.content.document import Json
from meadowrun.core.content.filling import number_of_item
from meadowrun.core.content.layout import Parts, answer_key, branches, mjml
from meadowrun.core.content.lines import live, walk, with_parts
from meadowrun.core.content.plain import plain_text
from meadowrun.core.content.push import mapped
from meadowrun.core.language import Problem, Wording

_WORD = re.compile(r"<!--MRPART(\d+)X-->|MRPART(\d+)X")
_CODE = re.compile(r"MRCODE(\d+)X")
_CLICK = fillins.TOKENS["click"]
_HREF = re.compile(r'href="([^"]*)"')
#: the last sign of a short link: which link of the message it is
SIGNS = "0123456789abcdefghijklmnopqrstuvwxyz"
Shared = Mapping[tuple[int, int], Sequence[Json]]


class CompileError(Problem):
    """The document cannot be made into a mail; the text says why."""


@dataclasses.dataclass(frozen=True, slots=True)
class Link:
    """A tracked address of an edition; `href` may hold fill-ins. One inside a list from a feed
    stands once for each item."""

    number: int
    label: str
    href: str
    #: the list it stands in, such as feed.programme.items; empty: none
    each: str = ""
    #: which item of that list, from 0
    item: int = 0


@dataclasses.dataclass(frozen=True)
class Compiled:
    """Template sources and what they use.

    `refs` are all names that must be known to fill it in; `conditions` the lines behind each
    `when.<key>`. With `field`, the message is one of `members`, chosen by the value of that field;
    an empty value's is for everyone else. Without, a member called “page” is what a tap on a push
    notification opens.
    """

    subject: str
    html: str
    text: str
    links: tuple[Link, ...]
    refs: tuple[str, ...]
    preheader: str = ""
    #: a text message, whose links are short ones
    short: bool = False
    #: the particulars of a push notification, their texts as templates
    push: Json | None = None
    conditions: Mapping[str, list[Json]] = dataclasses.field(default_factory=dict)
    field: str = ""
    members: Mapping[str, "Compiled"] = dataclasses.field(default_factory=dict)
    #: the particulars of an in-app message, their texts as templates; each button that counts knows
    #: its link's number
    in_app: Json | None = None

    def to_json(self) -> Json:
        made: Json = {
            "subject": self.subject,
            "html": self.html,
            "text": self.text,
            "refs": list(self.refs),
            "preheader": self.preheader,
            "short": self.short,
            "push": self.push,
            "links": [dataclasses.asdict(link) for link in self.links],
        }
        if self.conditions:
            made["conditions"] = dict(self.conditions)
        if self.members:
            made |= {
                "field": self.field,
                "members": {value: member.to_json() for value, member in self.members.items()},
            }
        if self.in_app:
            made["in_app"] = self.in_app
        return made

    @classmethod
    def from_json(cls, data: Mapping[str, Any]) -> "Compiled":
        return cls(
            data["subject"],
            data["html"],
            data["text"],
            tuple(Link(**link) for link in data["links"]),
            tuple(data["refs"]),
            data.get("preheader", ""),
            data.get("short", False),
            data.get("push"),
            data.get("conditions", {}),
            data.get("field", ""),
            {value: cls.from_json(member) for value, member in data.get("members", {}).items()},
            data.get("in_app"),
        )


def _check(parts: Parts, before: str, after: str) -> None:
    """Raises CompileError when a hidden part of `before` does not stand in `after` as often."""
    for number, source in enumerate(parts.sources):
        word = f"MRPART{number}X"
        if after.count(word) < before.count(word):
            raise CompileError(
                Wording(
                    "“%(source)s” was lost while the email was laid out; move or retype it.",
                    source=source,
                )
            )


def _restore(parts: Parts, text: str) -> str:
    return _WORD.sub(lambda m: parts.sources[int(m.group(1) or m.group(2))], text)


def placed(document: Json, shared: Shared | None = None) -> list[Json]:
    """The lines that count: none that is switched off, and shared parts replaced by what they
    hold."""
    return live(with_parts(document["lines"], shared or {}))


def compile_document(
    document: Json,
    public_url: str,
    tracked: bool = True,
    shared: Shared | None = None,
    first_link: int = 0,
    asked: Mapping[str, list[Json]] | None = None,
) -> Compiled:
    """Makes the templates of a document.

    With `tracked`, links lead through our own signed addresses (`{{ token.click }}`), numbered from
    `first_link`, and a picture of one pixel tells of openings; without, links are as typed: for
    previews. `shared` are the shared parts by (part, version); `asked` the conditions that words
    inside texts name, by key. Raises CompileError.
    """
    parts, lines = Parts(), placed(document, shared)
    links: list[Link] = []
    leads = _Leads(public_url, tracked, first_link)
    page = _linked_page(document, lines, parts, links, leads)
    short = KINDS[document.get("channel") or USUAL].short_links
    text = _linked_text(document, lines, links, leads, short)
    push, in_app = document.get("push"), document.get("in_app")
    if push:
        push = _notification(push, links, public_url, tracked, first_link)
    if in_app:
        in_app = _linked_in_app(in_app, links, public_url, tracked, first_link)
    refs = asking.refs(document, lines)
    conditions = _conditions(lines, asking.keys(refs, lines), asked or {})
    return Compiled(
        document["subject"],
        leads.ways(_restore(parts, page)),
        leads.ways(text),
        tuple(links),
        tuple(sorted((refs | _asked_by_lines(lines)) - {"unsubscribe", "preferences"})),
        document["preheader"],
        short,
        push,
        conditions,
        in_app=in_app,
    )


@dataclasses.dataclass(frozen=True, slots=True)
class _Leads:
    """Where the links of a message lead: through addresses of ours, numbered from the first, or,
    for a preview, where they are typed."""

    public_url: str
    tracked: bool
    first: int

    def own(self, place: str, purpose: str) -> str:
        """One of our own addresses, signed for whoever gets it."""
        token = fillins.TOKENS[purpose] if self.tracked else "preview"
        return f"{self.public_url}/{place}/{token}"

    def ways(self, source: str) -> str:
        """The links to unsubscribe and to choose, wherever they are asked for."""
        leads = {
            "unsubscribe": self.own("u", "leave"),
            "preferences": self.own("p", "choose"),
        }
        asked = r"\{\{\s*(unsubscribe|preferences)\s*\}\}"
        return re.sub(asked, lambda m: leads[m.group(1)], source)


def _linked_page(
    document: Json, lines: Sequence[Json], parts: Parts, links: list[Link], leads: _Leads
) -> str:
    """The page with its links, and with a picture that tells of openings where they are tracked;
    empty for a message of text only."""
    tracked, url = leads.tracked, leads.public_url
    tokens = {
        purpose: parts.hide(written) if tracked else "preview"
        for purpose, written in fillins.TOKENS.items()
    }
    if document.get("text_only"):
        return ""
    page = _page(document, lines, parts, url, tokens, not tracked)
    if not tracked:
        return _HREF.sub(lambda m: _encoded_href(m, parts), page)
    if not page:
        return page
    page = _Hrefs(page, links, parts, url, tokens["click"], leads.first).tracked()
    pixel = (
        f'<img src="{url}/o/{tokens["open"]}" width="1" height="1" alt="" '
        'style="display:block;border:0" />'
    )
    return page.replace("</body>", pixel + "</body>", 1)


def _linked_text(
    document: Json, lines: Sequence[Json], links: list[Link], leads: _Leads, short: bool
) -> str:
    text = plain_text(document, lines, leads.own("u", "leave"))
    if short:
        return _shortened(text, links, leads.public_url, leads.first)
    if leads.tracked:
        return _track_text(text, links, leads.public_url, leads.first)
    return encoded_in(text)


def _conditions(
    lines: Sequence[Json], kept: Set[str], asked: Mapping[str, list[Json]]
) -> dict[str, list[Json]]:
    """Who reads what, by key: of “only if” lines, and of words (`kept`), which are looked up in
    `asked`. Raises CompileError for words that ask what nobody has said."""
    if gone := kept - asked.keys():
        raise CompileError(
            Wording(
                "Some words depend on “when.%(min)s”, which does not exist. Write them again with "
                "“only for some”.",
                min=min(gone),
            )
        )
    found = {
        answer_key(case): case["lines"]
        for line in walk(lines)
        if line["type"] == "only" and not line["grouping"]
        for case in line["cases"]
    }
    return found | {key: asked[key] for key in kept}


def _asked_by_lines(lines: Sequence[Json]) -> set[str]:
    """The names that “only if” lines and lists from feeds need, besides those in texts."""
    found = set()
    for line in walk(lines):
        if line["type"] == "only":
            for test, _ in branches(line):
                found |= fillins.refs(f"{{% if {test} %}}")
        elif line["type"] == "feed" and line["feed"]:
            found.add(f"feed.{line['feed']}")
    return found


def _page(
    document: Json,
    lines: Sequence[Json],
    parts: Parts,
    public_url: str,
    tokens: Mapping[str, str],
    marked: bool,
) -> str:
    """The HTML, laid out and with its styles inlined, fill-ins still hidden."""
    legal = (
        f'<p><a href="{public_url}/u/{tokens["leave"]}">Unsubscribe</a> or '
        f'<a href="{public_url}/p/{tokens["choose"]}">choose what you get</a></p>'
    )
    if document.get("code"):
        before = laid = _code_page(document, parts)
    else:
        before = laid = mjml(document, lines, parts, public_url, legal, marked)
        try:
            laid = mrml.to_html(before).content
        except Exception as problem:
            raise CompileError(
                Wording("The email could not be laid out: %(problem)s", problem=problem)
            ) from problem
        before = _CODE.sub(lambda m: parts.blocks[int(m.group(1))], before)
        laid = _CODE.sub(lambda m: parts.blocks[int(m.group(1))], laid)
    try:
        page = css_inline.CSSInliner(keep_style_tags=True, load_remote_stylesheets=False).inline(
            laid
        )
    except Exception as problem:
        raise CompileError(
            Wording("The styles could not be applied: %(problem)s", problem=problem)
        ) from problem
    _check(parts, before, page)
    return page


def _code_page(document: Json, parts: Parts) -> str:
    """A page around code: as wide as the screen, its style sheets in the head, with the names that
    some mail apps draw by."""
    code = Page.of(document["code"])
    body = parts.hide_in(code.body, tags_as_comments=True)
    return (
        '<!doctype html><html xmlns="http://www.w3.org/1999/xhtml" '
        'xmlns:v="urn:schemas-microsoft-com:vml" '
        'xmlns:o="urn:schemas-microsoft-com:office:office"><head><meta charset="utf-8">'
        '<meta name="viewport" content="width=device-width, initial-scale=1">'
        f"<title>{parts.attribute(document['subject'])}</title>"
        f"{parts.hide_in(code.head, tags_as_comments=True)}</head>"
        f"<body{parts.hide_in(code.looks)}>"
        "<div "
        f'style="display:none;max-height:0;overflow:hidden">{parts.attribute(document["preheader"])}</div>{body}</body></html>'
    )


def _add(links: list[Link], first: int, label: str, href: str, loop: fillins.Tag | None) -> str:
    """Adds a link, one for each item of the list it stands in, and gives what stands for its number
    in an address."""
    number = first + len(links)
    if loop is None:
        links.append(Link(number, label[:80], href))
        return str(number)
    # What is filled in differs from person to person: a label of nothing else is named by its list.
    named = (
        f"{label[:70]}, item"
        if label.strip(" …")
        else f"{loop.ref.removeprefix('feed.')[:70]}, item"
    )
    links += [
        Link(number + item, f"{named} {item + 1}", href, loop.ref, item)
        for item in range(loop.most)
    ]
    return number_of_item(number)


def _encoded_href(match: re.Match[str], parts: Parts) -> str:
    """An address that is not tracked, with what is filled in inside it percent-encoded."""
    href = _restore(parts, html.unescape(match.group(1))).strip()
    if "{{" not in href or not href.lower().startswith("http"):
        return match.group()
    return f'href="{parts.attribute(encoded(href))}"'


class _Hrefs:
    """The links of a laid-out page, led through our own addresses."""

    def __init__(
        self, page: str, links: list[Link], parts: Parts, public_url: str, token: str, first: int
    ):
        self.page, self.links, self.parts, self.first = page, links, parts, first
        self.public_url, self.token = public_url, token
        #: (place, the list that begins there, or None where one ends), in order
        self._loops = [
            (m.end(), tag if tag.kind == "for" else None)
            for m in _WORD.finditer(page)
            if (source := parts.sources[int(m.group(1) or m.group(2))]).startswith("{%")
            and (tag := fillins.tag(source)).kind in ("for", "endfor")
        ]
        self._inside: fillins.Tag | None = None

    def tracked(self) -> str:
        return _HREF.sub(self._one, self.page)

    def _loop(self, place: int) -> fillins.Tag | None:
        while self._loops and self._loops[0][0] <= place:
            self._inside = self._loops.pop(0)[1]
        return self._inside

    def _one(self, match: re.Match[str]) -> str:
        loop = self._loop(match.start())
        href = html.unescape(match.group(1)).strip()
        hidden = _WORD.match(href)
        if hidden and self.parts.sources[int(hidden.group(2) or 0)].strip("{} ") in fillins.BARE:
            return match.group()
        ours = href.startswith((f"{self.public_url}/u/", f"{self.public_url}/p/"))
        if ours or not (
            href.startswith("MRPART") or href.lower().startswith(("http://", "https://"))
        ):
            return match.group()
        number = _add(self.links, self.first, self._label(match), _restore(self.parts, href), loop)
        shown = number if loop is None else self.parts.hide(number)
        return f'href="{self.public_url}/c/{self.token}/{shown}"'

    def _label(self, match: re.Match[str]) -> str:
        """What a link is called in results: its words, or what its picture shows."""
        after = self.page[match.end() : match.end() + 2000].split(">", 1)[-1].split("</a>", 1)[0]
        words = re.sub(r"<[^>]*>", " ", after)
        label = " ".join(html.unescape(_WORD.sub("…", words)).split())
        if not label:
            alt = re.search(r'alt="([^"]*)"', after)
            label = (_WORD.sub("…", html.unescape(alt.group(1))) if alt else "") or "Picture"
        return label


def _track_text(text: str, links: list[Link], public_url: str, first: int) -> str:
    """Addresses in the plain part lead through the tracked address that the same one has in the
    HTML part, else through one of their own."""
    numbers: dict[tuple[str, str], str] = {}
    for link in links:
        numbers.setdefault(
            (link.href, link.each), number_of_item(link.number) if link.each else str(link.number)
        )
    for (href, _), number in numbers.items():
        if href.startswith("{{"):
            # An address that is filled in as a whole is known by where the plain part puts it.
            ours = f"{public_url}/c/{_CLICK}/{number}"
            text = text.replace(f"({href})", f"({ours})").replace(f": {href}\n", f": {ours}\n")
    made, place = [], 0
    for found in addresses(text):
        if text.startswith(f"{public_url}/", found.start):
            continue
        bare, each = normal(text[found.start : found.end]), found.loop.ref if found.loop else ""
        if (bare, each) not in numbers:
            numbers[bare, each] = _add(links, first, bare.split("://", 1)[-1], bare, found.loop)
        made += [text[place : found.start], f"{public_url}/c/{_CLICK}/{numbers[bare, each]}"]
        place = found.end
    return "".join([*made, text[place:]])


def _notification(
    push: Json, links: list[Link], public_url: str, tracked: bool, first: int
) -> Json:
    """The particulars of a push notification: addresses lead through ours, pictures of the store
    have whole addresses."""

    def change(slot: str, text: str) -> str:
        if slot in ("picture", "icon"):
            return public_url + text if text.startswith("/") else text
        if slot == "href" and push["tap"] == "page":
            links.append(Link(first + len(links), "the push notification", ""))
            return f"{public_url}/n/{fillins.TOKENS['page'] if tracked else 'preview'}"
        if not tracked or not text or slot.rpartition(".")[2] != "href":
            return text
        label = (
            "the push notification"
            if slot == "href"
            else push["buttons"][int(slot.split(".")[1])]["label"] or "a button"
        )
        links.append(Link(first + len(links), label[:80], text))
        return f"{public_url}/c/{_CLICK}/{first + len(links) - 1}"

    # Neither picture nor icon is a link: the push notification itself has the first number that is
    # free.
    own = {"link": first + len(links)} if push["tap"] == "page" else {}
    return mapped(push, change) | own


def _linked_in_app(
    in_app: Json, links: list[Link], public_url: str, tracked: bool, first: int
) -> Json:
    """The particulars of an in-app message: every button that counts is a link, and one that opens
    an address leads through ours."""
    made = dict(in_app) | {"buttons": []}
    for button in in_app["buttons"]:
        if in_app_messages.counted(button):
            number = first + len(links)
            links.append(
                Link(
                    number,
                    (button["label"] or in_app_messages.ACTS[button["act"]])[:80],
                    button["href"] if button["act"] == "open" else "",
                )
            )
            button = button | {"link": number}
            if tracked and button["act"] == "open":
                button["href"] = f"{public_url}/c/{_CLICK}/{number}"
        made["buttons"].append(button)
    return made


def _shortened(text: str, links: list[Link], public_url: str, first: int) -> str:
    """Every address as a short link of ours: the delivery's code, and the number of the link as its
    last sign."""
    made, place = [], 0
    for found in addresses(text):
        bare, number = text[found.start : found.end], first + len(links)
        if number >= len(SIGNS):
            raise CompileError(
                Wording("A text message can hold %(signs)s links at most.", signs=len(SIGNS))
            )
        links.append(Link(number, bare.split("://", 1)[-1][:80], bare))
        made += [text[place : found.start], f"{public_url}/s/{fillins.SHORT}{SIGNS[number]}"]
        place = found.end
    return "".join([*made, text[place:]])
