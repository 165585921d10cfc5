"""How a text message leaves: one JSON request over HTTP for each, to the gateway that the settings
name."""

import dataclasses
import itertools
import json
from collections.abc import Iterable, Iterator, Sequence

from meadowrun.base.errors import GatewayUnavailable
from meadowrun.base.settings import Settings
from meadowrun.core.language import Wording
from meadowrun.core.values import read_json
from meadowrun.gateways import answers, outgoing
from meadowrun.gateways.handing import WHOLE_BATCH, Begin, Gateway, Handed, all_may_go

#: Bytes of an answer that are read.
_MOST_BYTES = 1_000_000


@dataclasses.dataclass(frozen=True, slots=True)
class Text:
    """One text message. `key` is the delivery's token: the gateway takes each key once, and
    receipts name it."""

    key: str
    contact_id: int
    sender: str
    to: str
    text: str


class HttpGateway:
    """POST /messages {id, from, to, text}: 202 taken, 409 taken before, 408, 425, 429 and 5xx come
    again later, 401 to 405 and 407 we are refused, any other 4xx the number is."""

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
            try:
                answer = _post(f"{self.url}/messages", body, self.timeout)
            except (TimeoutError, outgoing.TooLong) as problem:
                yield Handed(text.contact_id, "in_doubt", f"No answer: {problem}")
                continue
            except (OSError, outgoing.Refused) as problem:
                raise GatewayUnavailable(
                    Wording(
                        "The gateway for text messages does not answer: %(problem)s",
                        problem=problem,
                    )
                ) from problem
            yield self._became(text, answer)

    def _became(self, text: Text, answer: outgoing.Answer) -> Handed:
        """What became of a text by the gateway's answer. Raises GatewayUnavailable where it
        refuses our messages."""
        if answers.is_about_us(answer.status):
            raise GatewayUnavailable(
                Wording(
                    "The gateway for text messages refuses our messages: %(status)s %(reason)s",
                    status=answer.status,
                    reason=answer.reason,
                )
            )
        if answer.status < 300:
            return Handed(text.contact_id, "delivered", f"{answer.status} taken")
        if answer.status == 409:
            return Handed(text.contact_id, "delivered", "taken before")
        said = f"{answer.status} {answer.body[:200].decode(errors='replace')}"
        return Handed(
            text.contact_id, "deferred" if answers.is_for_later(answer.status) else "bounced", said
        )

    def took(self, ids: Sequence[str]) -> dict[str, bool]:
        try:
            said = read_json(_post(f"{self.url}/taken", {"ids": list(ids)}, self.timeout).body)
            return {key: bool(value) for key, value in said["taken"].items()}
        except (OSError, ValueError, KeyError, TypeError, AttributeError):
            return {}


def _post(address: str, body: object, timeout: float) -> outgoing.Answer:
    """Asks the gateway that the settings name, which may be inside this network."""
    return outgoing.ask(
        "POST",
        address,
        json.dumps(body).encode(),
        {"Content-Type": "application/json"},
        timeout,
        outgoing.machine_of(address),
        most=_MOST_BYTES,
    )


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


class NoSms:
    """Takes nothing: no gateway is set up."""

    at_once = WHOLE_BATCH
    can_be_asked = True

    def hand_over(self, messages: Iterable[Text], begin: Begin = all_may_go) -> Iterator[Handed]:
        raise GatewayUnavailable(Wording("No gateway for text messages is set up."))

    def took(self, ids: Sequence[str]) -> dict[str, bool]:
        """Nobody can be asked: one that was set up before may have taken them."""
        return {}


def gateway(settings: Settings) -> Gateway:
    """The gateway that the settings name."""
    if not settings.sms_url:
        return NoSms()
    return NullSms() if settings.sms_url.startswith("null:") else HttpGateway(settings.sms_url)


def reachable(settings: Settings) -> str | None:
    """None when the gateway can be asked, else what is wrong, in words for everybody: what to set
    is an administrator's to know."""
    if not settings.sms_url:
        return (
            "No gateway for text messages is set up, so none can be sent yet. Ask an administrator "
            "to set one up; until then what is sent waits."
        )
    if settings.sms_url.startswith("null:"):
        return (
            "The gateway for text messages is one for trials: they count as sent, but reach nobody."
        )
    try:
        answer = _post(f"{settings.sms_url}/taken", {"ids": []}, 2)
    except (OSError, ValueError) as problem:
        return (
            f"The gateway for text messages does not answer ({problem}). What is sent waits until "
            "it does."
        )
    if answer.status >= 300:
        return (
            f"What answers is not a gateway for text messages ({answer.status} {answer.reason}). "
            "Ask an administrator to look at its address."
        )
    return None
