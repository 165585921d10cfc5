"""The one way of a proof: as whom it is read, where it goes, and what became of it."""

import contextlib
import dataclasses
from collections.abc import Callable, Iterator, Mapping, Sequence

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import audit, signing
from meadowrun.base.audit import Actor
from meadowrun.base.errors import GatewayUnavailable
from meadowrun.channels.proof import MARK, Asked, Copy
from meadowrun.core.content.compiled import Rendered
from meadowrun.gateways.channels import CHANNELS
from meadowrun.messages.models import Proof
from meadowrun.outgoing.claims import clean
from meadowrun.people.models import Contact

#: As so many people a proof is read at most.
MOST_PEOPLE = 25


@dataclasses.dataclass(frozen=True, slots=True)
class Sent:
    """What became of the proofs of a message."""

    copies: int
    arrived: int
    #: targets that did not take it, each with the reason
    refused: tuple[str, ...]
    #: what they went to, one and several
    one: str
    several: str
    #: as whom it was read
    read_as: tuple[str, ...]
    #: where a proof stands now; empty where it was sent to somebody
    shown_at: str


@contextlib.contextmanager
def _apart(asked: Asked) -> Iterator[orm.Session]:
    """A transaction of its own: what is noted of a proof stays, whatever becomes of the request."""
    engine = asked.session.get_bind().engine
    with orm.Session(engine) as session, session.begin():
        yield session


def _told(asked: Asked, said: Mapping[str, tuple[str, str]]) -> None:
    """Notes what became of proofs, by key."""
    with _apart(asked) as session:
        for key, (outcome, note) in said.items():
            session.execute(
                sa.update(Proof).where(Proof.key == key).values(outcome=outcome, note=clean(note))
            )


def prove(
    asked: Asked,
    actor: Actor,
    people: Sequence[Contact | None],
    read: Callable[[Contact | None], Rendered],
    name_of: Callable[[Contact | None], str],
) -> Sent:
    """Hands proofs over: for each person one to each target. Each is noted before it leaves, so
    that one of which nothing was heard is seen. Raises Invalid naming what was typed
    and cannot be, GatewayUnavailable where nothing takes them."""
    channel = CHANNELS[asked.message.channel]
    prover = channel.prover(asked)
    targets = prover.targets()
    chosen = list({one.id if one else 0: one for one in people}.values())[:MOST_PEOPLE]
    copies = [
        Copy(
            read(one),
            one.id if one else 0,
            MARK if len(chosen) == 1 else f"[Proof as {name_of(one)}]",
        )
        for one in chosen
    ]
    stamp = signing.sign_text(asked.settings.secret, "proof", asked.now.isoformat())
    pairs = [(to, copy) for copy in copies for to in targets]
    keys = [f"proof-{asked.message.id}-{place}-{stamp}" for place in range(len(pairs))]
    made = [prover.make(n, keys[n], to, copy) for n, (to, copy) in enumerate(pairs)]
    with _apart(asked) as session:
        session.add_all(
            Proof(
                message_id=asked.message.id,
                version=asked.message.version,
                key=keys[n],
                read_as=copy.person,
                sent_to=to,
                outcome="in_hand",
                at=asked.now,
                by=actor.name,
            )
            for n, (to, copy) in enumerate(pairs)
        )
    try:
        handed = list(prover.gateway().hand_over(made))
    except GatewayUnavailable as problem:
        _told(asked, dict.fromkeys(keys, ("refused", str(problem))))
        raise
    _told(
        asked,
        {
            keys[h.contact_id]: ("delivered" if h.outcome == "delivered" else "refused", h.note)
            for h in handed
        },
    )
    audit.record(
        asked.session,
        actor,
        asked.now,
        "sent a proof of",
        "message",
        asked.message.id,
        asked.message.name,
        to=targets,
    )
    refused = {f"{pairs[h.contact_id][0]} ({h.note})" for h in handed if h.outcome != "delivered"}
    return Sent(
        len(made),
        sum(h.outcome == "delivered" for h in handed),
        tuple(sorted(refused)),
        prover.one,
        prover.several,
        tuple(name_of(one) for one in chosen),
        prover.shown_at(),
    )
