"""How much a score is; and a steady share picked by chance."""

import datetime as dt
import secrets
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from meadowrun.core import wording
from meadowrun.core.audience.compare import compared
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.audience.kinds.kind import ID, IDENT, NUMBER, Json, Kind, Reading
from meadowrun.core.audience.nodes import ScoreLine, ShareLine
from meadowrun.core.audience.operands import TOTALS, number
from meadowrun.core.audience.persons import Person, share_number
from meadowrun.core.audience.saying import OP_WORDS, Part
from meadowrun.core.audience.turning import SCORES, Turning
from meadowrun.core.language import Wording
from meadowrun.core.values import is_whole

if TYPE_CHECKING:
    from meadowrun.core.audience.judge import Judge


class ScoreKind(Kind[ScoreLine]):
    key = "score"
    required = ("score", "op", "value")
    names = {"score": "score"}

    def members(self) -> Json:
        return {"score": NUMBER, "op": {"enum": list(TOTALS)}, "value": {"type": "number"}}

    def read(self, data: Mapping[str, Any], line: Reading) -> ScoreLine:
        if data.get("op") not in TOTALS:
            raise line.wrong("A score is more than, at least, less than or at most so many points.")
        of = line.named("score", data.get("score"))
        value = number(data.get("value"), line.ident)
        return ScoreLine(line.ident, of, str(data["op"]), value, line.off)

    def write(self, node: ScoreLine) -> Json:
        return {"score": node.of, "op": node.op, "value": node.value}

    def begin(self, key: str, words: Dictionary, options: Mapping[str, list[str]]) -> Json:
        return {"score": int(key) if is_whole(key) else -1, "op": "at_least", "value": 20}

    def holds(self, node: ScoreLine, person: Person, judge: "Judge") -> bool:
        return compared(node.op, person.scores.get(node.of, 0), node.value)

    def looked_at(self, node: ScoreLine, person: Person, judge: "Judge") -> str:
        return wording.count_of(person.scores.get(node.of, 0), "point")

    def turning(self, node: ScoreLine, words: Dictionary) -> Turning:
        return Turning(frozenset({SCORES}))

    def sentence(self, node: ScoreLine, words: Dictionary, today: dt.date, out: bool) -> list[Part]:
        return [
            Part("text", "anyone whose score" if out else "whose score"),
            Part("strong", f"“{words.name('score', node.of)}”", "of"),
            Part("word", OP_WORDS[node.op], "op"),
            Part("word", wording.number(node.value), "value"),
        ]


class ShareKind(Kind[ShareLine]):
    key = "share"
    required = ("percent", "salt")

    def members(self) -> Json:
        return {"percent": {"type": "number", "minimum": 0.01, "maximum": 100}, "salt": ID}

    def read(self, data: Mapping[str, Any], line: Reading) -> ShareLine:
        percent = number(data.get("percent"), line.ident)
        salt = data.get("salt")
        if not 0.01 <= percent <= 100:
            raise line.wrong("A share is from 0.01 to 100 percent.")
        if not isinstance(salt, str) or not IDENT.match(salt):
            raise line.wrong(
                "A share needs a salt of letters and digits, so that it stays the same."
            )
        return ShareLine(line.ident, percent, salt, line.off)

    def write(self, node: ShareLine) -> Json:
        return {"percent": node.percent, "salt": node.salt}

    def begin(self, key: str, words: Dictionary, options: Mapping[str, list[str]]) -> Json:
        return {"percent": int(key) if is_whole(key) else 10, "salt": secrets.token_hex(4)}

    def holds(self, node: ShareLine, person: Person, judge: "Judge") -> bool:
        return share_number(person.id, node.salt) < round(node.percent * 100)

    def looked_at(self, node: ShareLine, person: Person, judge: "Judge") -> str:
        return f"drew {share_number(person.id, node.salt) / 100:.2f} of 100"

    def turning(self, node: ShareLine, words: Dictionary) -> Turning:
        return Turning()

    def sentence(self, node: ShareLine, words: Dictionary, today: dt.date, out: bool) -> list[Part]:
        return [
            Part("text", "anyone in" if out else "in"),
            Part(
                "word",
                Wording("a steady %(share)s%%", share=wording.number(node.percent)),
                "percent",
            ),
            Part("text", "picked by chance"),
        ]
