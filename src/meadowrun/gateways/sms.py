"""How a text message leaves: one JSON request over HTTP for each, to the gateway that the settings name."""

import dataclasses
import itertools
import json
import urllib.error
import urllib.request
from collections.abc import Iterable, Iterator, Sequence

from meadowrun.base.errors import GatewayUnavailable
from meadowrun.base.settings import Settings
from meadowrun.gateways import answers
from meadowrun.gateways.handing import WHOLE_BATCH, Begin, Gateway, Handed, all_may_go


@dataclasses.dataclass(frozen=True, slots=True)
class Text:
    """One text message. `key` is the delivery's token: the gateway takes each key once, and receipts name it."""

    key: str
    contact_id: int
    sender: str
    to: str
    text: str


class HttpGateway:
    """POST /messages {id, from, to, text}: 202 taken, 409 taken before, 408, 425, 429 and 5xx come again later, 401 to 405 and 407
    we are refused, any other 4xx the number is."""

    #: one request for each, one after another; few, so that few are in doubt when a worker dies
    at_once = 5
    can_be_asked = True

    def __init__(self, url: str, timeout: float = 15.0):
        self.url, self.timeout = url, timeout

    def hand_over(self, messages: Iterable[Text], begin: Begin = all_may_go) -> Iterator[Handed]:
        texts = iter(messages)
        while group := list(itertools.islice(texts, self.at_once)):
            yield from self._group(begin(group))

    def _group(self, texts: Sequence[Text]) -> Iterator[Handed]:
        for text in texts:
            body = {"id": text.key, "from": text.sender, "to": text.to, "text": text.text}
            request = urllib.request.Request(f"{self.url}/messages", json.dumps(body).encode(), {"Content-Type": "application/json"})
            try:
                with urllib.request.urlopen(request, timeout=self.timeout) as answer:
                    yield Handed(text.contact_id, "delivered", f"{answer.status} taken")
            except urllib.error.HTTPError as problem:
                said = f"{problem.code} {problem.read(200).decode(errors='replace')}"
                if answers.is_about_us(problem.code):
                    raise GatewayUnavailable(f"The gateway for text messages takes nothing from us: {problem.code} {problem.reason}") from problem
                if problem.code == 409:
                    yield Handed(text.contact_id, "delivered", "taken before")
                else:
                    yield Handed(text.contact_id, "deferred" if answers.is_for_later(problem.code) else "bounced", said)
            except TimeoutError as problem:
                yield Handed(text.contact_id, "in_doubt", f"No answer: {problem}")
            except OSError as problem:
                raise GatewayUnavailable(f"The gateway for text messages does not answer: {problem}") from problem

    def took(self, ids: Sequence[str]) -> dict[str, bool]:
        request = urllib.request.Request(f"{self.url}/taken", json.dumps({"ids": list(ids)}).encode(), {"Content-Type": "application/json"})
        try:
            with urllib.request.urlopen(request, timeout=self.timeout) as answer:
                return {key: bool(value) for key, value in json.load(answer)["taken"].items()}
        except (OSError, ValueError, KeyError, urllib.error.URLError):
            return {}


class NullSms:
    """Takes everything and sends nothing."""

    at_once = WHOLE_BATCH
    can_be_asked = True

    def hand_over(self, messages: Iterable[Text], begin: Begin = all_may_go) -> Iterator[Handed]:
        for text in messages:
            yield Handed(text.contact_id, "delivered", "")

    def took(self, ids: Sequence[str]) -> dict[str, bool]:
        """Nothing ever left, so that it may be handed over again."""
        return dict.fromkeys(ids, False)


def gateway(settings: Settings) -> Gateway:
    """The gateway that the settings name."""
    return NullSms() if settings.sms_url.startswith("null:") else HttpGateway(settings.sms_url)


def reachable(settings: Settings) -> str | None:
    """None when the gateway can be asked, else what is wrong, in words for everybody: what to set is an administrator's to know."""
    if settings.sms_url.startswith("null:"):
        return "No gateway for text messages is set: they count as sent, but go nowhere. Ask an administrator to name one."
    request = urllib.request.Request(f"{settings.sms_url}/taken", b'{"ids": []}', {"Content-Type": "application/json"})
    try:
        urllib.request.urlopen(request, timeout=2).close()
    except urllib.error.HTTPError as problem:
        return f"What answers is no gateway for text messages ({problem.code} {problem.reason}). Ask an administrator to look at its address."
    except OSError as problem:
        return f"The gateway for text messages does not answer ({problem})."
    return None
