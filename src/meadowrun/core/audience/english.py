"""A line as an English sentence, and a whole definition as text."""

import datetime as dt

from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.audience.kinds import KINDS
from meadowrun.core.audience.kinds.groups import exclusion
from meadowrun.core.audience.nodes import Definition, Group, Node
from meadowrun.core.audience.saying import Part
from meadowrun.core.audience.saying import text as text


def sentence(node: Node, words: Dictionary, today: dt.date) -> list[Part]:
    """The parts of a line's sentence, without its joining word ("and", "or")."""
    return KINDS[node.kind].sentence(node, words, today, False)


def meaning_today(node: Node, words: Dictionary, today: dt.date) -> str:
    """The real dates a moving condition means today, or nothing."""
    return KINDS[node.kind].means_today(node, words, today)


def read_aloud(definition: Definition, words: Dictionary, today: dt.date) -> str:
    """The whole definition as text: complete enough to review without looking at anything else."""
    if not definition.lines:
        return "Everyone."

    def walk(nodes: tuple[Node, ...], joiner: str) -> str:
        said = []
        for index, node in enumerate(one for one in nodes if not one.off):
            line = text(sentence(node, words, today))
            if isinstance(node, Group) and not exclusion(node):
                inner = walk(node.lines, "and" if node.match in ("all", "colleagues") else "or")
                line = f"{line}: ({inner})"
            plain = index == 0 or line.startswith("but not")
            said.append(line if plain else f"{joiner} {line}")
        return " ".join(said)

    return f"Everyone {walk(definition.lines, 'and')}."
