"""What may keep a message from somebody: each guard declared once, and asked in three ways.

In Python of one person at the moment of sending, in SQL of an audience, in NumPy of a rehearsal. A
test holds the three equal over all that can be known.
"""

import dataclasses
from collections.abc import Collection, Mapping
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

#: Who may get a send: those who agreed; those who did not say no; or everyone, since it is about
#: something of theirs.
RULES = ("agreed", "not_refused", "service")
#: Facts that only a send has: of a set of people they are not asked.
OF_A_SEND = frozenset(
    {"repeated_address", "had_before", "too_late", "left_audience", "held_out", "control"}
)
#: Facts that are not known before it leaves.
AS_IT_LEAVES = frozenset({"too_late", "left_audience"})
#: Facts in NumPy: yes, no, not known.
YES, NO, UNKNOWN = 1, 0, -1
Column = npt.NDArray[np.int8]


class Facts(NamedTuple):
    """What is known about one person at the moment of sending.

    `consent` is True, False or None (not asked) for the message's topic where it has one, else for
    the channel; `channel_consent` is the channel's own: a "no" there outweighs every topic.
    """

    has_address: bool
    address_usable: bool | None
    suppressed: bool
    bounced: bool
    consent: bool | None
    channel_consent: bool | None
    #: this address already gets this send under another record
    repeated_address: bool = False
    #: they had this before, and the send is once for each person
    had_before: bool = False
    #: the last moment for this send has come
    too_late: bool = False
    #: they are not in the audience any more, and the send is for those who still are
    left_audience: bool = False
    #: of the standing control group: gets no marketing at all for a while
    held_out: bool = False
    #: of the control group: qualifies, and gets nothing, so that those who got it can be compared
    #: with somebody
    control: bool = False
    #: they asked for a pause from all that needs consent
    paused: bool = False

    @classmethod
    def of(cls, row: Any, **more: bool) -> "Facts":
        """Facts by their names from a row of a query of facts; `more` says what it does not
        hold."""
        return cls(
            row.has_address,
            row.address_usable,
            row.suppressed,
            row.bounced,
            row.consent,
            row.channel_consent,
            paused=row.paused,
            **more,
        )


@dataclasses.dataclass(frozen=True, slots=True)
class Is:
    """Whether a fact is yes (True), no (False) or not known (None)."""

    fact: str
    value: bool | None

    def holds(self, facts: Facts) -> bool:
        return getattr(facts, self.fact) is self.value

    def sql(self) -> str:
        return f"{self.fact} IS {'NULL' if self.value is None else str(self.value).upper()}"

    def holds_of(self, columns: Mapping[str, Column]) -> npt.NDArray[np.bool_]:
        found: npt.NDArray[np.bool_] = columns[self.fact] == (
            UNKNOWN if self.value is None else int(self.value)
        )
        return found


@dataclasses.dataclass(frozen=True, slots=True)
class Guard:
    """Keeps back under `outcome`, for a reason, whoever one of `when` is about: each a list of
    conditions that hold together."""

    outcome: str
    #: one of REASONS
    reason: str
    when: tuple[tuple[Is, ...], ...]
    #: the consent rules under which it is asked
    rules: tuple[str, ...] = RULES

    def stops(self, facts: Facts) -> bool:
        """Whether it keeps one person back."""
        return any(all(one.holds(facts) for one in together) for together in self.when)

    def sql(self) -> str:
        """The same as SQL over columns with the names of the facts."""
        return " OR ".join(
            f"({' AND '.join(one.sql() for one in together)})" for together in self.when
        )

    def stops_of(self, columns: Mapping[str, Column]) -> npt.NDArray[np.bool_]:
        """The same of many people, by columns with the names of the facts."""
        found: npt.NDArray[np.bool_] = np.logical_or.reduce(
            [
                np.logical_and.reduce([one.holds_of(columns) for one in together])
                for together in self.when
            ]
        )
        return found

    @property
    def asks(self) -> frozenset[str]:
        """The facts it needs."""
        return frozenset(one.fact for together in self.when for one in together)


#: The order states which reason is given when several hold: first what the person asked for (a wish
#: outranks a technical reason), then what makes the address unusable, then the guard against
#: duplicates and the last moment. Last come the control groups: only who would have got it can be
#: compared with those who did.
GUARDS = (
    Guard("suppressed", "suppressed", ((Is("suppressed", True),),)),
    Guard(
        "no_consent",
        "refused_channel",
        ((Is("channel_consent", False),),),
        ("agreed", "not_refused"),
    ),
    Guard("no_consent", "refused_topic", ((Is("consent", False),),), ("agreed", "not_refused")),
    Guard("no_address", "no_address", ((Is("has_address", False),),)),
    Guard(
        "bad_address",
        "bad_address",
        ((Is("address_usable", False),), (Is("address_usable", None),)),
    ),
    Guard("bounced_before", "bounced", ((Is("bounced", True),),)),
    Guard(
        "no_consent",
        "never_asked",
        ((Is("consent", None), Is("channel_consent", None)),),
        ("agreed",),
    ),
    Guard("no_consent", "paused", ((Is("paused", True),),), ("agreed", "not_refused")),
    Guard("duplicate", "repeated_address", ((Is("repeated_address", True),),)),
    Guard("had_it", "had_before", ((Is("had_before", True),),)),
    Guard("late", "last_moment", ((Is("too_late", True),),)),
    Guard("left_audience", "left_audience", ((Is("left_audience", True),),)),
    Guard("held_out", "held_out", ((Is("held_out", True),),), ("agreed", "not_refused")),
    Guard("control", "control_group", ((Is("control", True),),)),
)


def asked(rule: str, but: Collection[str] = ()) -> list[Guard]:
    """The guards of a consent rule, in their order, without those that need facts of `but`."""
    return [guard for guard in GUARDS if rule in guard.rules and not guard.asks & set(but)]


def verdict_sql(rule: str, but: Collection[str] = ()) -> str:
    """The verdict as SQL over columns with the names of the facts: "go" or an outcome; facts of
    `but` are not asked about."""
    cases = " ".join(f"WHEN {guard.sql()} THEN '{guard.outcome}'" for guard in asked(rule, but))
    return f"CASE {cases} ELSE 'go' END"


def verdicts(
    columns: Mapping[str, Column], rule: str, but: Collection[str] = ()
) -> npt.NDArray[np.str_]:
    """The verdicts on many people, by columns of YES, NO and UNKNOWN with the names of the
    facts."""
    guards = asked(rule, but)
    found: npt.NDArray[np.str_] = np.select(
        [guard.stops_of(columns) for guard in guards], [guard.outcome for guard in guards], "go"
    )
    return found
