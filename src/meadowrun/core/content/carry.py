"""One draft for several channels: what a message says, taken along into the beginning of one for
another channel."""

import copy
from collections.abc import Sequence

from meadowrun.core.channels import KINDS
from meadowrun.core.content.document import DocumentError, renewed
from meadowrun.core.content.gist import Asked, Taken
from meadowrun.core.content.lines import Json, live


def carried(
    source: str,
    document: Json,
    lines: Sequence[Json],
    target: str,
    organisation: str,
    postal_address: str,
    looks: Json,
    asked: Asked,
) -> tuple[Json, list[str]]:
    """A document for the channel `target` with what one of the channel `source` says, and what was
    left behind, in words.

    `lines` are the document's with shared parts in their places. Of the same channel it is a copy.
    Raises DocumentError for one that only chooses among other messages.
    """
    if source == target:
        made = copy.deepcopy(document)
        return made | {"lines": renewed(made["lines"])}, []
    if document.get("one_of"):
        raise DocumentError(
            "This message is chosen by a field. Copy one of those that it chooses among."
        )
    said = KINDS[source].says(document, lines, organisation, asked)
    in_lines = KINDS[source].line_types and not (document.get("code") or document.get("text_only"))
    own = renewed(live(lines)) if in_lines else None
    taken = Taken(said, organisation, postal_address, looks, own)
    return KINDS[target].takes_in(taken), said.left
