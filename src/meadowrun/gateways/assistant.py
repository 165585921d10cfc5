"""Suggestions by a language model on a chat-completions server that the settings name."""

import json

from meadowrun.base.settings import Settings
from meadowrun.core.content import fillins, suggest
from meadowrun.core.values import read_json
from meadowrun.gateways import outgoing

SECONDS = 20
_MOST_BYTES = 1_000_000


def suggestions(
    settings: Settings, place: str, brief: suggest.Brief, own: list[str]
) -> tuple[list[str], str]:
    """The server's suggestions for a place, and a note. Those of the local generator where it gives
    nothing usable.

    What holds a number from nowhere, an unknown fill-in, or a word the organisation avoids is
    dropped.
    """
    facts = ", ".join(f"{{{{ fact.{f} }}}}" for f in brief.facts) or "none"
    asked = (
        f"Write 6 different suggestions for the {place} of a message, each at most "
        f"{suggest.PLACES[place]} characters. What it is for: {brief.purpose}. Tone: "
        f"{brief.tone}. {brief.formality.capitalize()}. Words to prefer: "
        f"{', '.join(brief.agreed) or 'none'}. Words never to use: "
        f"{', '.join(brief.avoided) or 'none'}. State no fact, number, date, price or place that "
        f"is not given here; the only placeholders allowed are {{{{ contact.first_name | "
        f'default("friend", true) }}}} and {facts}. Answer with a JSON list of strings and '
        "nothing else."
    )
    address = f"{settings.assistant_url}/chat/completions"
    body = json.dumps(
        {
            "model": settings.assistant_model,
            "messages": [{"role": "user", "content": asked}],
            "temperature": 0.9,
        }
    )
    headers = {"Content-Type": "application/json"} | (
        {"Authorization": f"Bearer {settings.assistant_key}"} if settings.assistant_key else {}
    )
    try:
        answer = outgoing.ask(
            "POST",
            address,
            body.encode(),
            headers,
            SECONDS,
            outgoing.machine_of(address),
            most=_MOST_BYTES,
        )
        if answer.status >= 300:
            raise OSError(f"{answer.status} {answer.reason}")
        said = read_json(answer.body)["choices"][0]["message"]["content"]
        texts = read_json(said[said.index("[") : said.rindex("]") + 1])
    except (OSError, ValueError, KeyError, IndexError, TypeError, AttributeError) as problem:
        return own, f"The server for suggestions gave nothing ({problem}); these are made here."
    kept = [t for t in texts if isinstance(t, str) and usable(t, place, brief)]
    return (
        (kept, "")
        if kept
        else (own, "The server's suggestions held things nobody told it; these are made here.")
    )


def usable(text: str, place: str, brief: suggest.Brief) -> bool:
    """Whether a suggestion keeps to what it was told."""
    try:
        refs = fillins.refs(text)
    except fillins.FillInError:
        return False
    allowed = {"contact.first_name", *(f"fact.{f}" for f in brief.facts)}
    low = text.casefold()
    return (
        bool(text.strip())
        and refs <= allowed
        and not suggest.invented(text, brief)
        and not any(w.casefold() in low for w in brief.avoided)
        and len(fillins.PART.sub("Alexandra", text)) <= suggest.PLACES[place]
    )
