"""Conditions that words inside a text ask, in the sentences of segments.

A condition is kept once, under a key made of what it says, and a text names that: `{% if
when.s0a1b2c3d4e5f %}`. So words can be copied to another line, message or shared part, or taken out
as code and back, and still ask the same.
"""

import hashlib
import json
from collections.abc import Collection, Sequence

from meadowrun.core.content import fillins, in_app, push
from meadowrun.core.content.document import texts
from meadowrun.core.content.layout import answer_key
from meadowrun.core.content.lines import Json, walk


def key_of(lines: Sequence[Json]) -> str:
    """The key of a condition; the ids that an editor gives its lines do not count."""
    said = json.dumps(_without_ids(lines), sort_keys=True, ensure_ascii=False)
    return "s" + hashlib.sha256(said.encode()).hexdigest()[:12]


def _without_ids(node: object) -> object:
    if isinstance(node, dict):
        return {k: _without_ids(v) for k, v in node.items() if k != "id"}
    return [_without_ids(one) for one in node] if isinstance(node, list | tuple) else node


def refs(document: Json, lines: Sequence[Json]) -> set[str]:
    """Every name that the texts of a document need to know; `lines` are those that count."""
    held = [text for _, _, text in texts(document | {"lines": list(lines)})]
    held += [text for _, text in push.texts_of(document["push"])] if document.get("push") else []
    held += (
        [text for _, text in in_app.texts_of(document["in_app"])] if document.get("in_app") else []
    )
    return {ref for text in held for ref in fillins.refs(text)}


def keys(names: Collection[str], lines: Sequence[Json]) -> set[str]:
    """The keys of kept conditions among `names`: what `when.` names, save the versions of “only if”
    lines."""
    own = {
        answer_key(case) for line in walk(lines) if line["type"] == "only" for case in line["cases"]
    }
    return {name.removeprefix("when.") for name in names if name.startswith("when.")} - own
