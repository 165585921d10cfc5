"""Checked thoroughly: what mail readers take away, how likely it is taken for spam, spelling,
links, and suggestions."""

import concurrent.futures
import datetime as dt
import html
import re
import urllib.parse
from collections.abc import Collection
from typing import Any

import flask

from meadowrun.base import audit
from meadowrun.base.errors import Invalid
from meadowrun.base.manifest import learnt
from meadowrun.core.channels import KINDS
from meadowrun.core.content import document as doc
from meadowrun.core.content import past, readers, spam, spelling, suggest
from meadowrun.core.content.code import Page
from meadowrun.core.content.compiled import CompileError, placed
from meadowrun.core.content.rendering import Renderer
from meadowrun.core.language import Wording, in_language
from meadowrun.core.wording import percent
from meadowrun.gateways import assistant, filters, outgoing
from meadowrun.gateways.email import Letter, mime
from meadowrun.messages import compiling, follows, page, preflight, queries, readership, reading
from meadowrun.messages.models import Message
from meadowrun.messages.senders import senders
from meadowrun.messages.values import Needs, of_people
from meadowrun.people.asked import moment, words
from meadowrun.shell.later import comes_later
from meadowrun.shell.request import Answer, actor, body, db, needs, now, settings

pages = flask.Blueprint("checking", __name__)
MOST_LINKS = 40


def _mail(message: Message) -> tuple[spam.Mail, bytes]:
    """The mail as a telling person would get it, and as bytes."""
    person = readership.telling_person(db(), message.document, words())
    shown = page.rendered(message, person)
    sender = next(iter(senders(db())), None)
    name, address = (
        (sender.name, sender.address)
        if sender
        else (settings().organisation, f"nobody@{settings().mail_domain}")
    )
    letter = Letter(
        key=f"check-{message.id}",
        contact_id=0,
        from_name=name,
        from_address=address,
        reply_to=sender.reply_to if sender else "",
        to=(person.email if person else None) or f"you@{settings().mail_domain}",
        return_path="",
        subject=shown.subject,
        html=shown.html,
        text=shown.text,
        date=now().timestamp(),
        message_id=f"<check-{message.id}@{settings().mail_domain}>",
        unsubscribe=f"{settings().public_url}/u/preview",
    )
    return spam.Mail(
        shown.subject,
        shown.html,
        shown.text,
        name,
        address,
        letter.reply_to,
        unsubscribe=letter.unsubscribe,
    ), mime(letter)


@pages.get("/messages/<int:ident>/checks")
@comes_later("Checking the message for everyone who reads it")
def show(ident: int) -> Answer:
    message = queries.message(db(), ident)
    mail, whole = _mail(message)
    found = spam.findings(mail)
    agreed = queries.house(db()).agreed_words + settings().organisation.split()
    misspelt: dict[str, tuple[str, str]] = {}
    for line, slot, text in doc.texts(message.document):
        if slot in ("subject", "preheader", "plain", "code", "text", "html", "label", "alt", "by"):
            # Style sheets are no words.
            for word in spelling.misspelt(Page.of(text).body if slot == "code" else text, agreed):
                misspelt.setdefault(word, (line, slot))
    parts = follows.shown(message.document, message)
    is_mail = KINDS[message.channel].mail
    judged = filters.judge(whole) if is_mail else None
    losses, avoided = readers.losses(mail.html), _avoided(message.document)
    items = [*preflight.checked(parts["checks"]), *_read_by_all(message, parts["readers"])]
    if is_mail:
        items += [
            preflight.devices(mail.html, bool(message.document.get("code"))),
            preflight.readers_of_mail(losses, len(readers.readers())),
            *preflight.filters(found, judged),
        ]
    items += [
        preflight.spelling(misspelt, avoided),
        preflight.proofed(db(), message),
        *preflight.reviewed(db(), message, queries.house(db()).review),
    ]
    return flask.render_template(
        "messages/checks.html",
        message=message,
        is_mail=is_mail,
        items=items,
        counted=preflight.counted(items),
        spam=found,
        score=spam.score(found),
        limit=spam.LIMIT,
        filter=judged,
        losses=losses,
        mail_readers=readers.readers(),
        as_of=dt.date.fromisoformat(readers.data()["as_of"]),
        misspelt=misspelt,
        suggestions=spelling.suggestions,
        avoided=avoided,
        expected=_expected(message.document["subject"]),
        links=_links(mail),
        **parts,
    )


def _links(mail: spam.Mail) -> list[str]:
    """Where the mail leads, but for our own pages to leave and to choose."""
    own = (f"{settings().public_url}/u/", f"{settings().public_url}/p/")
    return [
        a
        for a in sorted(set(re.findall(r'href="(https?://[^"]+)"', mail.html)))
        if not a.startswith(own)
    ]


def _read_by_all(message: Message, who_reads: list[reading.Readers]) -> list[preflight.Item]:
    """The message read as one reader of each version, and as somebody of whom nothing is known."""
    try:
        compiled = compiling.compiled(db(), message.document, settings().public_url, tracked=False)
    except CompileError as problem:
        return [preflight.Item(preflight.FAILED, Wording("Laid out"), str(problem))]
    people = {v.someone for r in who_reads for v in (*r.versions, r.others) if v.someone}
    renderer, facts = Renderer(compiled), reading.facts(db(), message.id) or {}
    flats = of_people(moment(), sorted(people), Needs.of(compiled))
    read = preflight.read_all(
        {0, *people},
        lambda person: renderer.render(
            reading.as_nobody_in(compiled, flats.get(person), facts, words())
        ),
    )
    known = queries.known(db(), words())
    placed_lines = placed(message.document, queries.shared_of(db(), message.document))
    gaps = {
        known[ref]
        for ref in preflight.gaps(message.document | {"lines": placed_lines})
        if ref in known
    }
    return [*preflight.alternatives(who_reads, read), preflight.default(read[0], gaps)]


def _avoided(document: doc.Json) -> list[str]:
    """Words the organisation agreed not to use that stand in the message."""
    text = " ".join(t for _, _, t in doc.texts(document)).casefold()
    return [
        w
        for w in queries.house(db()).avoided_words
        if re.search(rf"\b{re.escape(w.casefold())}\b", text)
    ]


@pages.post("/messages/<int:ident>/links")
@needs("author")
def follow_links(ident: int) -> Answer:
    """Really follows every link, once, because somebody asked to; says which lead nowhere."""
    mail, _ = _mail(queries.message(db(), ident))
    addresses = _links(mail)[:MOST_LINKS]
    with concurrent.futures.ThreadPoolExecutor(8) as pool:
        inner = settings().inner
        answers = list(pool.map(lambda address: _follow(html.unescape(address), inner), addresses))
    return flask.jsonify(
        links=[
            {"href": a, "said": said, "good": good}
            for a, (said, good) in zip(addresses, answers, strict=True)
        ]
    )


#: A link may lead on so often.
_HOPS = 5


def _follow(address: str, inner: Collection[str]) -> tuple[str, bool]:
    """Where a link ends, in words, and whether that is well. Never inside this network: the author
    would see what stands there."""
    try:
        for _ in range(_HOPS):
            answer = outgoing.ask("GET", address, timeout=6, inner=inner)
            if answer.status not in (301, 302, 303, 307, 308) or not answer.leads_to:
                return (
                    f"{answer.status}"
                    if answer.status < 400
                    else f"{answer.status} {answer.reason}"
                ), answer.status < 400
            address = urllib.parse.urljoin(address, answer.leads_to)
    except (OSError, outgoing.Refused) as problem:
        return f"no answer: {problem}", False
    return f"redirects more than {_HOPS} times", False


def _expected(subject: str) -> past.Expected | None:
    return past.expected(subject, learnt(db(), now())) if subject else None


def _hoped(hope: past.Expected) -> str:
    """What past sends say of a subject, as its reader writes numbers."""
    share, low, high = (percent(100 * one, 0) for one in (hope.share, hope.low, hope.high))
    return in_language(
        Wording(
            "opened by about %(share)s, %(low)s to %(high)s: %(sure)s",
            share=share,
            low=low,
            high=high,
            sure=hope.sure,
        )
    )


@pages.post("/messages/<int:ident>/suggest")
@needs("author")
def suggestions(ident: int) -> Answer:
    """Several suggestions for a place; none is used before somebody chose it."""
    message = queries.message(db(), ident)
    house, data = queries.house(db()), body()
    place = KINDS[message.channel].suggests.get(str(data.get("slot")), "")
    brief = suggest.Brief(
        str(data.get("purpose", ""))[:300],
        str(data.get("tone")),
        str(data.get("formality")),
        list(reading.facts(db(), message.id) or {}),
        house.agreed_words,
        house.avoided_words,
    )
    if not brief.purpose.strip():
        raise Invalid("Say in a few words what the message is for.", "purpose")
    if place not in suggest.PLACES:
        raise Invalid("There are no suggestions for this place.", "slot")
    texts, note = suggest.suggestions(place, brief, seed=int(now().timestamp())), ""
    if settings().assistant_url:
        texts, note = assistant.suggestions(settings(), place, brief, texts)
    found: list[dict[str, Any]] = []
    for text in texts:
        hope = _expected(text) if place == "subject" else None
        found.append(
            {
                "text": text,
                "shown": re.sub(
                    r"\{\{ *\w+\.(\w+).*?\}\}", lambda m: f"‹{m.group(1).replace('_', ' ')}›", text
                ),
                "note": _hoped(hope) if hope else "",
            }
        )
    return flask.jsonify(suggestions=found, note=note)


@pages.post("/messages/<int:ident>/chosen")
@needs("author")
def chosen(ident: int) -> Answer:
    """Keeps which suggestion was taken, by whom and for what."""
    message, data = queries.message(db(), ident), body()
    audit.record(
        db(),
        actor(),
        now(),
        "took a suggestion for",
        "message",
        message.id,
        message.name,
        slot=str(data.get("slot"))[:40],
        text=str(data.get("text"))[:600],
        brief=data.get("brief") or {},
    )
    return flask.jsonify(kept=True)
