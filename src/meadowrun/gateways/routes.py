"""Two mail servers: a sender's emails go by one of them first, and by the other while that one
takes nothing."""

from collections.abc import Iterable, Iterator, Sequence

from meadowrun.base.errors import GatewayUnavailable
from meadowrun.base.logs import log
from meadowrun.core.language import Wording
from meadowrun.gateways.email import Letter
from meadowrun.gateways.handing import Begin, Gateway, Handed, all_may_go

#: Which mail server a sender's emails go by first, and what that is called.
ROUTES = {
    "first": Wording("the first mail server"),
    "second": Wording("the second mail server"),
}


class TwoRoutes:
    """Hands over by one gateway, and what that does not take by another."""

    def __init__(self, one: Gateway, other: Gateway):
        self._one, self._other = one, other
        self.at_once = min(one.at_once, other.at_once)
        # “Not taken” is only known where both say so: nobody remembers which one had it.
        self.can_be_asked = one.can_be_asked and other.can_be_asked

    def hand_over(self, messages: Iterable[Letter], begin: Begin = all_may_go) -> Iterator[Handed]:
        letters = _Remembered(messages)
        try:
            for handed in self._one.hand_over(letters, begin):
                letters.told(handed)
                yield handed
            return
        except GatewayUnavailable as problem:
            # What was not told of was not taken, by the promise of every gateway.
            log.warning("mail goes by the other server", problem=str(problem))
        yield from self._other.hand_over(letters.again(), begin)

    def took(self, ids: Sequence[str]) -> dict[str, bool]:
        said, other = self._one.took(ids), self._other.took(ids)
        found = {}
        for ident in ids:
            answers = [answer.get(ident) for answer in (said, other)]
            if True in answers:
                found[ident] = True
            elif answers == [False, False]:
                found[ident] = False
        return found


class _Remembered:
    """Letters as they are taken, and which of them nothing was told of yet."""

    def __init__(self, messages: Iterable[Letter]):
        self._rest = iter(messages)
        self._open: dict[int, Letter] = {}

    def __iter__(self) -> Iterator[Letter]:
        for letter in self._rest:
            self._open[letter.contact_id] = letter
            yield letter

    def told(self, handed: Handed) -> None:
        """What became of one of them is known."""
        self._open.pop(handed.contact_id, None)

    def again(self) -> Iterator[Letter]:
        """Those of which nothing was told, then the rest."""
        yield from list(self._open.values())
        yield from self._rest
