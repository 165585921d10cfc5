from hypothesis import given
from hypothesis import strategies as st
from pyroaring import BitMap

from meadowrun.core.audience.nodes import Definition, FieldLine, Group
from meadowrun.core.audience.sieve import sieve


def line(ident, off=False):
    return FieldLine(ident, "town", "not_blank", off=off)


def test_a_sieve_worked_by_hand():
    everyone = BitMap(range(10))
    sets = {
        "a": BitMap({0, 1, 2, 3, 4, 5}),
        "b": BitMap({4, 5, 6}),
        "c": BitMap({0}),
        "d": BitMap({5, 9}),
    }
    found = sieve(
        Definition(
            (
                line("a"),
                Group("g", "any", (line("b"), line("c"))),
                Group("n", "none", (line("d"),)),
                line("d", off=True),
            )
        ),
        sets,
        everyone,
    )
    assert [(s.before, s.kept, s.lost, s.alone) for s in found.steps] == [
        (10, 6, 4, 6),
        (6, 3, 3, 4),
        (3, 2, 1, 8),
        (2, 2, 0, 2),
    ]
    assert set(found.members) == {0, 4}
    assert found.alone["b"] == 3


def test_a_group_without_live_lines_lets_everyone_through():
    everyone = BitMap(range(5))
    assert (
        sieve(
            Definition((Group("g", "none", ()), Group("h", "any", (line("a", True),)))),
            {"a": BitMap()},
            everyone,
        ).size
        == 5
    )


@given(st.lists(st.sets(st.integers(0, 40)), max_size=6))
def test_what_is_lost_and_kept_adds_up(groups):
    everyone = BitMap(range(41))
    sets = {f"l{i}": BitMap(g) for i, g in enumerate(groups)}
    found = sieve(Definition(tuple(line(i) for i in sets)), sets, everyone)
    expected = set(range(41))
    for step, group in zip(found.steps, groups, strict=True):
        assert step.before == len(expected)
        expected &= group
        assert step.kept == len(expected)
    assert set(found.members) == expected
    assert found.everyone - sum(s.lost for s in found.steps) == found.size
