"""Push notifications, as the rules of the job know them."""

from collections.abc import Sequence
from typing import Any

from meadowrun.core.channels.kind import Kind
from meadowrun.core.channels.sms import taken_as_text
from meadowrun.core.content import gist, push
from meadowrun.core.content.document import empty
from meadowrun.core.content.lines import Json
from meadowrun.core.language import Wording


def _take(data: dict[str, Any]) -> Json:
    return taken_as_text(data, "push") | {"push": push.take_push(data.get("push"))}


def _begins(_organisation: str, _stop_word: str, _looks: Json | None) -> Json:
    return empty() | {"channel": "push", "text_only": True, "push": dict(push.EMPTY)}


def _says(
    document: Json, _lines: Sequence[Json], _organisation: str, _asked: gist.Asked
) -> gist.Gist:
    own = document["push"]
    first = [("", own["href"])] if own["href"] else []
    return gist.Gist(
        subject=document["subject"],
        preheader=document["preheader"],
        heading=document["subject"],
        picture=own["picture"],
        buttons=[*first, *((b["label"], b["href"]) for b in own["buttons"])],
        paragraphs=gist.paragraphs(str(document.get("plain") or "")),
    )


def _takes_in(taken: gist.Taken) -> Json:
    said = taken.said
    body = gist.body_of(said)
    title = said.subject or said.heading
    text = " ".join(body[0].split()) if body else said.preheader
    if len(body) > 1:
        said.leave(Wording("every paragraph but the first"))
    if len(said.buttons) > 1 + push.MOST_BUTTONS:
        said.leave(Wording("some of the buttons"))
    made = _begins("", "", None)
    made["push"] |= {
        "href": said.buttons[0][1] if said.buttons else "",
        "picture": said.picture,
        "buttons": [
            {"label": words, "href": address}
            for words, address in said.buttons[1 : 1 + push.MOST_BUTTONS]
            if words
        ],
    }
    return made | {
        "subject": title,
        "plain": text or (said.heading if said.heading != title else "") or None,
    }


KIND = Kind(
    key="push",
    name=Wording("push notification"),
    everything=Wording("push notifications"),
    one=Wording("push notification"),
    several=Wording("push notifications"),
    cue=r"\b(notices?|notifications?|push)\b",
    outcomes={
        "no_consent": Wording("No consent for push notifications"),
        "no_address": Wording("No device that allows push notifications"),
    },
    lacks={
        "no_consent": Wording("did not agree to them"),
        "no_address": Wording("without a device that allows them"),
    },
    suggests={"subject": "title", "plain": "body"},
    take=_take,
    begins=_begins,
    checks=push.push_checks,
    says=_says,
    takes_in=_takes_in,
    limited=True,
)
