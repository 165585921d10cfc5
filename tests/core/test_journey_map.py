"""The map of a journey: where everything lies, and what can be folded."""

import itertools

from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.journeys.drawing import (
    MOST_COLUMNS,
    MOST_ROWS,
    Flow,
    foldable,
    folded_at_first,
    lay_out,
)
from meadowrun.core.journeys.edit import add
from meadowrun.core.journeys.steps import (
    BranchStep,
    ExitStep,
    Itinerary,
    MessageStep,
    Path,
    Span,
    SplitStep,
    WaitStep,
    Who,
)
from tests.itineraries import in_lanes

FLOW = Flow(lambda step: 0, lambda step, path: 0, lambda step: 0)
BUSY = Flow(lambda step: 10, lambda step, path: 5, lambda step: 10)
DAY = WaitStep("", Span(1, "day"))
EMAIL = MessageStep("", 1)


def boxes_of(found):
    """All labels of a map, and the squares by which it is folded."""
    return [
        *(mark.label for mark in found.marks),
        *(mark.fold for mark in found.marks if mark.fold),
        *(stream.label for stream in found.streams if stream.label),
    ]


def ids(itinerary):
    return [step.id for step, _, _ in itinerary.walk()]


def built(*steps):
    whole = Itinerary()
    for step in steps:
        whole = add(whole, step)
    return whole


def either(*steps):
    """A branch with some steps for the people of a segment, and none for the others."""
    return BranchStep("", (Path("", tuple(steps), who=Who(1)), Path("")))


@given(in_lanes(), st.data())
def test_no_label_lies_upon_another(itinerary, data):
    can = [step.id for step in foldable(itinerary)]
    folded = data.draw(st.sets(st.sampled_from(can))) if can else set()
    found = lay_out(itinerary, BUSY, folded)
    boxes = boxes_of(found)
    for one, other in itertools.combinations(boxes, 2):
        assert not one.meets(other)
    for box in boxes:
        assert box.x >= 0 and box.x + box.width <= found.width
        assert box.y >= 0 and box.y + box.height <= found.height


@given(in_lanes(), st.data())
def test_each_step_is_on_the_map_or_folded_into_one_that_is(itinerary, data):
    can = [step.id for step in foldable(itinerary)]
    folded = data.draw(st.sets(st.sampled_from(can))) if can else set()
    found = lay_out(itinerary, BUSY, folded)
    told = [ident for mark in found.marks for ident in (mark.id, *mark.inside)]
    assert sorted(told) == sorted(ids(itinerary))
    assert {mark.id for mark in found.marks if mark.inside} <= folded
    # What cannot be folded has no square, and unfolded it is as it was.
    assert {mark.id for mark in found.marks if mark.fold} <= set(can)
    assert lay_out(itinerary, BUSY, ()) == lay_out(itinerary, BUSY)


def test_a_folded_step_takes_one_column_and_one_row():
    found = built(EMAIL, either(EMAIL, DAY, EMAIL), EMAIL)
    branch = found.steps[1]
    wide, small = lay_out(found, FLOW), lay_out(found, FLOW, {branch.id})
    assert len(wide.marks) == 6 and len(small.marks) == 3
    first, folded, last = small.marks
    assert folded.inside == tuple(one.id for one in branch.paths[0].steps)
    assert folded.x - first.x == last.x - folded.x
    assert {first.y, folded.y, last.y} == {first.y}
    # The day that passes in it still passes.
    assert [day.minutes / 1440 for day in small.rulers[0].days] == [0, 0, 1]
    assert small.width < wide.width and small.height < wide.height


def test_whoever_comes_out_of_a_folded_step_is_on_the_river_behind_it():
    halves = SplitStep("", (Path("", (EMAIL,), percent=40), Path("", (ExitStep(""),), percent=60)))
    found = built(EMAIL, halves)
    split = found.steps[1]
    inside = split.paths[0].steps[0].id
    took = {split.paths[0].id: 4, split.paths[1].id: 6}
    # One of the four who got the email of the first half left there.
    flow = Flow(
        lambda step: 10, lambda step, path: took[path], lambda step: 3 if step == inside else 10
    )
    small = lay_out(found, flow, {split.id})
    assert [stream.people for stream in small.streams] == [10, 3]


def test_a_large_map_is_folded_until_it_can_be_read_and_a_small_one_is_not():
    small = built(EMAIL, DAY, either(EMAIL), EMAIL)
    assert folded_at_first(small) == frozenset()

    steps = []
    for _ in range(8):
        steps += [EMAIL, either(DAY, either(EMAIL, DAY, EMAIL), EMAIL), DAY]
    large = built(*steps, *[DAY] * 4)
    assert len(ids(large)) == 76
    folded = folded_at_first(large)
    found = lay_out(large, FLOW, folded)
    columns = {mark.x for mark in found.marks}
    rows = {mark.y for mark in found.marks}
    # Each of the eight has one inside it, and those come first.
    inner = {one.id for one in foldable(large)} - {one.id for one in large.steps}
    assert inner <= folded
    assert len(rows) <= MOST_ROWS
    # What is left are the 28 steps that lie in no path: those nobody can fold.
    assert len(columns) == 28 > MOST_COLUMNS


def test_a_map_of_sixty_steps_and_eight_branches_fits_the_page_twice_over():
    hands = [either(*[EMAIL, DAY] * 3) for _ in range(7)]
    large = built(*hands, either(EMAIL, DAY), *[EMAIL, DAY] * 4)
    assert len(ids(large)) == 60
    found = lay_out(large, FLOW, folded_at_first(large))
    assert len({mark.x for mark in found.marks}) <= MOST_COLUMNS
    assert len({mark.y for mark in found.marks}) <= MOST_ROWS


def test_the_ruler_tells_the_days_that_pass_at_most():
    found = built(EMAIL, DAY, either(EMAIL, WaitStep("", Span(3, "day"))), EMAIL)
    (ruler,) = lay_out(found, FLOW).rulers
    days = [day.minutes / 1440 for day in ruler.days]
    assert days == [0, 0, 1, 1, 1, 4]
