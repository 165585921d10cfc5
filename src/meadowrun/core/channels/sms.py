"""Text messages, as the rules of the job know them."""

import re
from collections.abc import Sequence
from typing import Any

from meadowrun.core.channels.kind import Kind
from meadowrun.core.content import gist
from meadowrun.core.content.document import empty, take
from meadowrun.core.content.findings import About, Check
from meadowrun.core.content.lines import Json
from meadowrun.core.content.sms import STOP_WORD, plainer, sms_checks
from meadowrun.core.language import Wording

_ADDRESS = re.compile(r"https?://[^\s{}]+")


def taken_as_text(data: dict[str, Any], channel: str) -> Json:
    """A document that is a text alone. Raises DocumentError."""
    return take(data | {"lines": [], "code": None, "text_only": True}) | {"channel": channel}


def _take(data: dict[str, Any]) -> Json:
    return taken_as_text(data, "sms")


def _begins(organisation: str, stop_word: str, _looks: Json | None) -> Json:
    return empty() | {
        "channel": "sms",
        "text_only": True,
        "plain": Wording(
            "%(organisation)s: \n%(stop_word)s ends these",
            organisation=organisation,
            stop_word=stop_word,
        ),
    }


def _says(
    document: Json, _lines: Sequence[Json], organisation: str, _asked: gist.Asked
) -> gist.Gist:
    """Its words without the sender and how to stop it; its first address is a button."""
    said = gist.Gist(subject=document["subject"], preheader=document["preheader"])
    text = re.sub(
        rf"(?i)\s*{STOP_WORD} ends (these|this)\.?\s*\Z", "", str(document.get("plain") or "")
    )
    text = text.removeprefix(f"{organisation}:").strip()
    if found := _ADDRESS.search(text):
        address = found.group().rstrip(".,!?)")
        said.buttons.append(("", address))
        text = text.replace(address, "").rstrip()
    said.paragraphs = gist.paragraphs(text)
    return said


def _takes_in(taken: gist.Taken) -> Json:
    said = taken.said
    body = gist.body_of(said)
    words = [
        gist.sentence(said.heading or said.subject),
        *(" ".join(p.split()) for p in body[:1]),
        *(address for _, address in said.buttons[:1]),
    ]
    if len(body) > 1:
        said.leave(Wording("every paragraph but the first"))
    if len(said.buttons) > 1:
        said.leave(Wording("every button but the first"))
    if said.picture:
        said.leave(Wording("the pictures"))
    text = Wording(
        "%(organisation)s: %(filter)s\n%(stop_word)s ends these",
        organisation=taken.organisation,
        filter=" ".join(filter(None, words)),
        stop_word=STOP_WORD,
    )
    return _begins(taken.organisation, STOP_WORD, taken.looks) | {"plain": plainer(text)}


def _checks(document: Json, about: About) -> list[Check]:
    return sms_checks(document, about, str(document.get("plain") or ""))


KIND = Kind(
    key="sms",
    name=Wording("text message"),
    everything=Wording("text messages"),
    one=Wording("text message"),
    several=Wording("text messages"),
    cue=r"\b(sms|texts?|texted)\b",
    outcomes={
        "no_consent": Wording("No consent for text messages"),
        "no_address": Wording("No phone number"),
        "bad_address": Wording("Unusable number"),
    },
    lacks={
        "no_consent": Wording("did not agree to them"),
        "no_address": Wording("without a phone number"),
        "bad_address": Wording("with an unusable number"),
    },
    suggests={"plain": "sms"},
    take=_take,
    begins=_begins,
    checks=_checks,
    says=_says,
    takes_in=_takes_in,
    short_links=True,
)
