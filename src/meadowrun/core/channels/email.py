"""Email, as the rules of the job know it."""

from meadowrun.core.channels.kind import Kind
from meadowrun.core.content.checks import checks
from meadowrun.core.content.document import empty, take
from meadowrun.core.content.lines import Json


def _begins(_organisation: str, _stop_word: str, looks: Json | None) -> Json:
    return empty(looks or {})


KIND = Kind(
    key="email",
    name="email",
    everything="email",
    one="mail",
    several="mails",
    take=take,
    begins=_begins,
    checks=checks,
)
