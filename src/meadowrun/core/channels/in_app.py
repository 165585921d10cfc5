"""In-app messages, as the rules of the job know them."""

from collections.abc import Sequence
from typing import Any

from meadowrun.core.channels.kind import Kind
from meadowrun.core.content import gist, in_app
from meadowrun.core.content.document import empty, take
from meadowrun.core.content.lines import LINE_TYPES, Json, new_line
from meadowrun.core.language import Wording

#: Looks where no house style says otherwise: as wide as a phone can show beside its edges.
_LOOKS = {"width": 460, "ground": "#ffffff", "sheet": "#ffffff", "round": 8}


def _take(data: dict[str, Any]) -> Json:
    return take(data | {"plain": None, "text_only": False}) | {
        "channel": "in_app",
        "in_app": in_app.take_in_app(data.get("in_app")),
    }


def _begins(_organisation: str, _stop_word: str, looks: Json | None) -> Json:
    lines = [new_line("heading", align="center"), new_line("text", align="center")]
    return empty((looks or {}) | _LOOKS) | {
        "channel": "in_app",
        "lines": lines,
        "in_app": in_app.take_in_app({}),
    }


def _says(
    document: Json, lines: Sequence[Json], _organisation: str, asked: gist.Asked
) -> gist.Gist:
    said = gist.of_lines(document, lines, asked)
    buttons = document["in_app"]["buttons"]
    said.own_buttons = [(b["label"], b["href"]) for b in buttons if b["act"] == "open"]
    said.buttons = said.own_buttons + said.buttons
    if any(b["act"] != "open" for b in buttons):
        said.leave(Wording("buttons that do more than open an address"))
    return said


def _takes_in(taken: gist.Taken) -> Json:
    """Its own buttons are the first ones that stand at the top; those inside other lines stay where
    they are."""
    said = taken.said
    lines = gist.lines_of(said) if taken.lines is None else taken.lines
    lines = [line for line in lines if line["type"] != "footer"]
    tops = [line for line in lines if line["type"] == "button"][: in_app.MOST_BUTTONS]
    buttons = [
        in_app.EMPTY["buttons"][0] | {"label": line["label"], "href": line["href"]} for line in tops
    ]
    return _begins(taken.organisation, "", taken.looks) | {
        "subject": said.subject or said.heading,
        "lines": [line for line in lines if line not in tops],
        "in_app": in_app.take_in_app({"buttons": buttons} if buttons else {}),
    }


KIND = Kind(
    key="in_app",
    name=Wording("in-app message"),
    everything=Wording("in-app messages"),
    one=Wording("in-app message"),
    several=Wording("in-app messages"),
    cue=r"\b(in[- ]?app|cards?)\b",
    outcomes={
        "no_consent": Wording("Said no to in-app messages"),
        "delivered": Wording("Ready to show"),
        "waiting": Wording("Still being prepared"),
    },
    lacks={"no_consent": Wording("said no to them")},
    take=_take,
    begins=_begins,
    checks=in_app.in_app_checks,
    says=_says,
    takes_in=_takes_in,
    line_types=tuple(in_app.offered(LINE_TYPES)),
    agreed_unless_refused=True,
)
