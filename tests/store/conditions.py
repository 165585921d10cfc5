"""Hypothesis strategies for the conditions of a segment."""

from hypothesis import strategies as st

from meadowrun.core.audience import definition as d

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
                "op": st.sampled_from(list(d.TOTALS)),
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


others = st.sampled_from(
    [
        *(
            {"kind": "consent", "topic": t, "state": state}
            for t in (0, 1)
            for state in ("agreed", "refused", "unasked")
        ),
        *(
            {"kind": "consent", "channel": channel, "topic": topic, "state": state}
            for channel in ("sms", "push", "card")
            for topic in (0, 1)
            for state in ("agreed", "refused", "unasked")
        ),
        *(
            {"kind": "reach", "channel": channel, "can": can}
            for channel in ("email", "sms", "push", "card")
            for can in (True, False)
        ),
        *({"kind": "list", "list": 1, "inside": i} for i in (True, False)),
        *({"kind": "segment", "segment": 1, "inside": i} for i in (True, False)),
        *(
            {"kind": "part", "partition": 1, "part": part, "inside": i}
            for part in ("p", "f", "else")
            for i in (True, False)
        ),
        *(
            {"kind": "tag", "tag": path, "inside": i}
            for path in ("free", "free/family", "night", "night/dark")
            for i in (True, False)
        ),
        {"kind": "share", "percent": 30, "salt": "abc"},
        {"kind": "share", "percent": 0.5, "salt": "x1"},
    ]
)


leaves = st.one_of(
    field_lines, event_lines, picked_events, totals, followed, mail_lines, last_ones, clicks, others
)


nodes = st.recursive(
    leaves,
    lambda inner: st.fixed_dictionaries(
        {
            "kind": st.just("group"),
            "match": st.sampled_from(["all", "any", "none", "colleagues"]),
            "lines": st.lists(inner, max_size=3),
        }
    ),
    max_leaves=5,
)


def numbered(lines, off=()):
    counter = iter(range(1000))

    def walk(node):
        made = {**node, "id": f"n{next(counter)}"}
        if "lines" in node:
            made["lines"] = [walk(n) for n in node["lines"]]
        return made

    return {"lines": [walk(n) for n in lines]}
