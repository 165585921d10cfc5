"""The one way of a proof: as whom it is read, where it goes, and what became of it."""

import dataclasses
from collections.abc import Callable, Sequence

from meadowrun.base import audit, signing
from meadowrun.base.audit import Actor
from meadowrun.channels.proof import MARK, Asked, Copy
from meadowrun.core.content.compiled import Rendered
from meadowrun.gateways.channels import CHANNELS
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


def prove(
    asked: Asked,
    actor: Actor,
    people: Sequence[Contact | None],
    read: Callable[[Contact | None], Rendered],
    name_of: Callable[[Contact | None], str],
) -> Sent:
    """Hands proofs over: for each person one to each target. Raises Invalid naming what was typed
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
    made = [
        prover.make(place, f"proof-{asked.message.id}-{place}-{stamp}", to, copy)
        for place, (to, copy) in enumerate(pairs)
    ]
    handed = list(prover.gateway().hand_over(made))
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
