"""Email, as the rules of the job know it."""

from collections.abc import Sequence

from meadowrun.core.channels.kind import Kind
from meadowrun.core.content import gist
from meadowrun.core.content.checks import checks
from meadowrun.core.content.document import closing, empty, take
from meadowrun.core.content.lines import LINE_TYPES, Json, new_line


def _begins(_organisation: str, _stop_word: str, looks: Json | None) -> Json:
    return empty(looks or {})


def _says(
    document: Json, lines: Sequence[Json], _organisation: str, asked: gist.Asked
) -> gist.Gist:
    return gist.of_lines(document, lines, asked)


def _takes_in(taken: gist.Taken) -> Json:
    said = taken.said
    lines = gist.lines_of(said)
    if taken.lines is not None:
        lines = [line for line in taken.lines if line["type"] != "footer"]
        lines += [new_line("button", label=words, href=to) for words, to in said.own_buttons]
    return empty(taken.looks) | {
        "subject": said.subject,
        "preheader": said.preheader,
        "lines": [*lines, closing(taken.organisation, taken.postal_address)],
    }


KIND = Kind(
    key="email",
    name="email",
    everything="email",
    one="email",
    several="emails",
    take=take,
    begins=_begins,
    checks=checks,
    says=_says,
    takes_in=_takes_in,
    line_types=tuple(LINE_TYPES),
    mail=True,
)
