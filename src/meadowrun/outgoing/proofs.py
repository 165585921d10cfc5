"""The one way of a proof: as whom it is read, where it goes, and what became of it."""

import contextlib
import dataclasses
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import audit, signing
from meadowrun.base.audit import Actor
from meadowrun.base.errors import GatewayUnavailable
from meadowrun.channels.proof import MARK, Asked, Copy
from meadowrun.core.content.rendering import Rendered
from meadowrun.gateways.channels import CHANNELS
from meadowrun.gateways.handing import Gateway, Handed
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
    one_only = len(chosen) == 1
    copies = [
        Copy(
            read(person),
            person.id if person else 0,
            MARK if one_only else f"[Proof as {name_of(person)}]",
        )
        for person in chosen
    ]
    parcels = _noted(asked, actor, [(to, copy) for copy in copies for to in targets])
    made = [prover.make(place, one.key, one.to, one.copy) for place, one in enumerate(parcels)]
    handed = _handed_over(asked, prover.gateway(), made, [one.key for one in parcels])
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
    refused = {f"{parcels[h.contact_id].to} ({h.note})" for h in handed if not h.arrived}
    return Sent(
        len(made),
        sum(h.arrived for h in handed),
        tuple(sorted(refused)),
        prover.one,
        prover.several,
        tuple(name_of(person) for person in chosen),
        prover.shown_at(),
    )


@dataclasses.dataclass(frozen=True, slots=True)
class _Parcel:
    """One proof on its way: what its gateway knows it by, where it goes, and what it shows."""

    key: str
    to: str
    copy: Copy


def _noted(asked: Asked, actor: Actor, pairs: Sequence[tuple[str, Copy]]) -> list[_Parcel]:
    """Notes proofs before they leave."""
    stamp = signing.sign_text(asked.settings.secret, "proof", asked.now.isoformat())
    parcels = [
        _Parcel(f"proof-{asked.message.id}-{place}-{stamp}", to, copy)
        for place, (to, copy) in enumerate(pairs)
    ]
    with _apart(asked) as session:
        session.add_all(
            Proof(
                message_id=asked.message.id,
                version=asked.message.version,
                key=one.key,
                read_as=one.copy.person,
                sent_to=one.to,
                outcome="in_hand",
                at=asked.now,
                by=actor.name,
            )
            for one in parcels
        )
    return parcels


def _handed_over(
    asked: Asked, gateway: Gateway, made: Sequence[Any], keys: Sequence[str]
) -> list[Handed]:
    """Hands proofs over and notes what the gateway said of each. Raises GatewayUnavailable where it
    takes nothing."""
    try:
        handed = list(gateway.hand_over(made))
    except GatewayUnavailable as problem:
        _told(asked, dict.fromkeys(keys, ("refused", str(problem))))
        raise
    _told(asked, {keys[h.contact_id]: (_outcome(h), h.note) for h in handed})
    return handed


def _outcome(handed: Handed) -> str:
    """What is kept of a proof. One of which its gateway cannot say whether it left stays in
    hand."""
    if handed.outcome == "in_doubt":
        return "in_hand"
    return "delivered" if handed.arrived else "refused"
