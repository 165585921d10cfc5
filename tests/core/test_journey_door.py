"""The door of a journey as it is written, read and said."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.journeys.reading import ItineraryError, from_json, to_json
from meadowrun.core.journeys.steps import Door, Itinerary
from meadowrun.core.journeys.words import Names, as_text, door_words

DOORS = st.builds(
    Door,
    st.integers(0, 10_000_000),
    st.integers(0, 10_000_000),
    st.lists(st.integers(1, 99), max_size=5).map(tuple),
)


@given(DOORS)
def test_a_door_is_read_as_it_was_written(door):
    itinerary = Itinerary(door=door)
    assert from_json(to_json(itinerary)) == itinerary


@pytest.mark.parametrize(
    "door", [[], {"hourly": -1}, {"hourly": 1.5}, {"most_inside": "3"}, {"not_while": [-1]}]
)
def test_what_is_no_door_is_refused(door):
    with pytest.raises(ItineraryError) as found:
        from_json({**to_json(Itinerary()), "door": door})
    assert found.value.place.startswith("door")


def test_a_door_in_words():
    names = Names({}, {}, {}, {}, {}, journeys={7: "Buyers", 9: "Case"})
    door = Door(40, 1_000, (7, 9, 11))
    said = "at most 40 people an hour, at most 1,000 inside at once, nobody who is in “Buyers” or "
    assert door_words(door, names) == f"{said}“Case”"
    assert "Can come in: at most 1 person an hour" in as_text(Itinerary(door=Door(1)), names)
    assert door_words(Door(), names) == ""
