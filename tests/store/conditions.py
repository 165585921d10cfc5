"""Hypothesis strategies for the conditions of a segment."""

import itertools

from hypothesis import strategies as st

from meadowrun.core.audience.operands import TOTALS

days = st.sampled_from(["2026-11-22", "2026-11-23", "2027-01-01", "2024-02-29"])


field_lines = st.one_of(
    st.tuples(
        st.just("town"),
        st.sampled_from(["is", "is_not"]),
        st.lists(st.sampled_from(["farrow", "Tarnside", "farrow "]), min_size=1),
    ),
    st.tuples(
        st.sampled_from(["first_name", "email", "town"]),
        st.sampled_from(["contains", "not_contains", "begins", "ends"]),
        st.sampled_from(["zoë", "ZOE", "_", "%", "p1", "50%", "fárrow"]),
    ),
    st.tuples(
        st.just("tier"),
        st.sampled_from(["is", "is_not"]),
        st.lists(st.sampled_from(["Single", "Patron"]), min_size=1),
    ),
    st.tuples(
        st.just("score"),
        st.sampled_from(["is", "is_not", "more_than", "at_least", "less_than", "at_most"]),
        st.sampled_from([0, 1, 2.5, 99]),
    ),
    st.tuples(st.just("score"), st.just("between"), st.just([1, 50])),
    st.tuples(
        st.sampled_from(["renewal", "company.agreement_ends"]),
        st.sampled_from(["in_next", "in_last", "ahead", "ago", "yearly_next", "yearly_last"]),
        st.sampled_from([0, 1, 40, 400]),
    ),
    st.tuples(
        st.just("renewal"),
        st.just("day_month"),
        st.sampled_from([["12-20", "01-06"], ["02-28", "02-29"], ["11-23", "11-23"]]),
    ),
    st.tuples(st.just("renewal"), st.sampled_from(["on", "before", "after"]), days),
    st.tuples(st.just("renewal"), st.just("between"), st.just(["2024-02-29", "2026-11-23"])),
    st.tuples(
        st.just("met"),
        st.sampled_from(["in_next", "in_last", "ahead", "ago", "yearly_next", "yearly_last"]),
        st.sampled_from([0, 1, 40]),
    ),
    st.tuples(st.just("met"), st.sampled_from(["on", "before", "after"]), days),
    st.tuples(
        st.just("met"),
        st.just("hours"),
        st.sampled_from([["18:00", "23:30"], ["23:00", "06:00"], ["18:00", "18:00"]]),
    ),
    st.tuples(st.just("member"), st.sampled_from(["yes", "no"]), st.none()),
    st.tuples(
        st.just("interests"),
        st.sampled_from(["has", "has_not"]),
        st.lists(st.sampled_from(["sky", "sea"]), min_size=1),
    ),
    st.tuples(st.just("company.kind"), st.sampled_from(["is", "is_not"]), st.just(["School"])),
    st.tuples(
        st.sampled_from(
            [
                "town",
                "tier",
                "score",
                "renewal",
                "member",
                "met",
                "interests",
                "company.kind",
                "company.name",
            ]
        ),
        st.sampled_from(["blank", "not_blank"]),
        st.none(),
    ),
).flatmap(
    lambda t: st.sampled_from(["letters", "loose", "exact"]).map(
        lambda compare: {
            "kind": "field",
            "field": t[0],
            "op": t[1],
            "value": t[2],
            "compare": compare,
        }
    )
)


spans = st.sampled_from(
    [
        {},
        {"last": 0},
        {"last": 1},
        {"last": 30},
        {"from": "2026-10-01", "to": "2026-11-22"},
        {"from": "2026-11-23"},
    ]
)


event_lines = st.fixed_dictionaries(
    {
        "kind": st.just("event"),
        "event": st.sampled_from(["ticket_bought", "visited"]),
        "did": st.booleans(),
        "times": st.sampled_from(
            [
                {"op": "at_least", "n": 1},
                {"op": "at_least", "n": 2},
                {"op": "exactly", "n": 1},
                {"op": "exactly", "n": 0},
                {"op": "at_most", "n": 1},
            ]
        ),
        "span": spans,
        "where": st.sampled_from(
            [
                [],
                [{"detail": "amount", "op": "at_least", "value": 20}],
                [{"detail": "night", "op": "is", "value": ["moon night"]}],
            ]
        ),
    }
)


picked_events = st.fixed_dictionaries(
    {
        "kind": st.just("event"),
        "event": st.just("ticket_bought"),
        "span": spans,
        "which": st.sampled_from(["first", "latest"]),
    }
)


totals = st.fixed_dictionaries(
    {
        "kind": st.just("event"),
        "event": st.just("ticket_bought"),
        "span": spans,
        "total": st.fixed_dictionaries(
            {
                "detail": st.just("amount"),
                "op": st.sampled_from(list(TOTALS)),
                "value": st.sampled_from([8, 24, 32.5]),
            }
        ),
    }
)


followed = st.fixed_dictionaries(
    {
        "kind": st.just("event"),
        "event": st.just("visited"),
        "span": spans,
        "then": st.fixed_dictionaries(
            {
                "event": st.just("ticket_bought"),
                "did": st.booleans(),
                "days": st.sampled_from([1, 2, 30]),
            }
        ),
    }
)


mail_lines = st.fixed_dictionaries(
    {
        "kind": st.just("mail"),
        "did": st.booleans(),
        "span": spans,
        "among": st.sampled_from(["sent", "everyone"]),
        "what": st.sampled_from(
            [
                "sent",
                "delivered",
                "opened",
                "clicked",
                "bounced",
                "complained",
                "unsubscribed",
                "converted",
            ]
        ),
        "times": st.sampled_from([1, 1, 2]),
        "of": st.sampled_from(
            [
                {},
                {"message": 1},
                {"campaign": 2},
                {"send": 3},
                {"tag": "night"},
                {"tag": "free"},
                {"channel": "email"},
                {"channel": "sms"},
            ]
        ),
    }
)


last_ones = st.integers(1, 3).flatmap(
    lambda most: st.fixed_dictionaries(
        {
            "kind": st.just("mail"),
            "did": st.booleans(),
            "latest": st.just(most),
            "times": st.integers(1, most),
            "what": st.sampled_from(["delivered", "opened", "clicked", "bounced", "converted"]),
            "of": st.sampled_from([{}, {"message": 1}, {"channel": "sms"}]),
        }
    )
)


clicks = st.fixed_dictionaries(
    {
        "kind": st.just("mail"),
        "what": st.just("clicked"),
        "did": st.booleans(),
        "of": st.just({"message": 1}),
        "link": st.sampled_from([0, 1]),
    }
)


def lines(kind, **members):
    """Lines of a kind with every combination of some members."""
    names = list(members)
    return st.sampled_from(
        [
            {"kind": kind, **dict(zip(names, chosen, strict=True))}
            for chosen in itertools.product(*members.values())
        ]
    )


CHANNELS = ("email", "sms", "push", "in_app")
BOTH = (True, False)
TAGS = ("free", "free/family", "night", "night/dark")
STATES = ("agreed", "refused", "unasked")

#: Kind of condition → lines of it. What has none is refused by a test: nothing would hold its
#: three evaluators equal.
STRATEGIES = {
    "field": field_lines,
    "event": st.one_of(event_lines, picked_events, totals, followed),
    "mail": st.one_of(mail_lines, last_ones, clicks),
    "consent": lines("consent", channel=CHANNELS, topic=(0, 1), state=STATES),
    "reach": lines("reach", channel=CHANNELS, can=BOTH),
    "list": lines("list", list=(1,), inside=BOTH),
    "segment": lines("segment", segment=(1,), inside=BOTH),
    "grouping": lines("grouping", grouping=(1,), group=("p", "f", "else"), inside=BOTH),
    "tag": lines("tag", tag=TAGS, inside=BOTH),
    "score": lines("score", score=(1,), op=TOTALS, value=(-5, 0, 0.5, 20)),
    "share": st.sampled_from(
        [
            {"kind": "share", "percent": 30, "salt": "abc"},
            {"kind": "share", "percent": 0.5, "salt": "x1"},
        ]
    ),
}


def groups_of(inner):
    """Groups with lines inside, of every kind."""
    return st.fixed_dictionaries(
        {
            "kind": st.just("group"),
            "match": st.sampled_from(["all", "any", "none", "colleagues"]),
            "lines": st.lists(inner, max_size=3),
        }
    )


leaves = st.one_of(*STRATEGIES.values())
nodes = st.recursive(leaves, groups_of, max_leaves=5)
#: Rules of a score never ask for a score.
without_scores = st.one_of(*(s for kind, s in STRATEGIES.items() if kind != "score"))


def numbered(lines):
    """A definition of lines, each with an id of its own."""
    counter = iter(range(1000))

    def walk(node):
        made = {**node, "id": f"n{next(counter)}"}
        if "lines" in node:
            made["lines"] = [walk(n) for n in node["lines"]]
        return made

    return {"lines": [walk(n) for n in lines]}
