"""The published schema of itineraries takes all that is written, and refuses what is not read."""

import jsonschema
import orjson
import pytest
from hypothesis import given

from meadowrun.core.journeys.reading import ItineraryError, from_json, to_json
from meadowrun.core.journeys.schema import STEPS, schema
from meadowrun.core.journeys.steps import Itinerary, Step, WebhookStep
from tests.core.test_journey_conditions import WHOLE
from tests.itineraries import itineraries

VALIDATOR = jsonschema.Draft202012Validator(schema())


def as_read(itinerary):
    return orjson.loads(orjson.dumps(to_json(itinerary)))


def test_it_is_a_schema_and_knows_every_kind_of_step():
    jsonschema.Draft202012Validator.check_schema(schema())
    assert set(STEPS) == {one.kind for one in Step.__args__}


@given(itineraries())
def test_it_takes_all_that_is_written(itinerary):
    VALIDATOR.validate(as_read(itinerary))


def test_it_takes_starts_exits_and_webhooks():
    VALIDATOR.validate(as_read(WHOLE))
    VALIDATOR.validate(as_read(Itinerary(steps=(WebhookStep("s1", "https://a.example/b"),))))


@pytest.mark.parametrize(
    "change",
    [
        {"steps": [{"kind": "fly", "id": "a"}]},
        {"steps": [{"kind": "wait", "id": "a"}]},
        {"steps": [{"kind": "wait", "id": "a", "span": {"amount": -1}}]},
        {"steps": [{"kind": "branch", "id": "a", "paths": [{"id": "b"}]}]},
        {"steps": [{"kind": "task", "id": "a", "what": "sing", "subject": "x", "due": {}}]},
        {"steps": [{"kind": "exit"}]},
        {"starts": [{"id": "s1", "how": "by magic"}]},
        {"goal": {"days": 3}},
        {"again": "often"},
    ],
)
def test_it_refuses_what_the_reader_refuses(change):
    data = as_read(Itinerary()) | change
    assert not VALIDATOR.is_valid(data)
    with pytest.raises(ItineraryError):
        from_json(data)
