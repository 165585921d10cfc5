"""An itinerary in process notation, read back by another program."""

from xml.etree import ElementTree

import pytest
from hypothesis import given
from SpiffWorkflow.bpmn.parser import BpmnParser

from meadowrun.core.journeys.beginnings import BEGINNINGS
from meadowrun.core.journeys.bpmn import MODEL, to_bpmn
from meadowrun.core.journeys.diagram import processes
from meadowrun.core.journeys.edit import add, add_start
from meadowrun.core.journeys.flat import END, first_steps, flatten
from meadowrun.core.journeys.steps import (
    BranchStep,
    ExitStep,
    Itinerary,
    MessageStep,
    Path,
    Span,
    SplitStep,
    Start,
    WaitForStep,
    WaitStep,
    Who,
)
from meadowrun.core.journeys.words import Names
from tests.itineraries import in_lanes
from tests.luck import tries

NAMES = Names(
    messages={1: ("Welcome", "Email")},
    segments={1: "Members"},
    events={"visited": "visited"},
    tags={1: "vip"},
    lists={},
)


def read(xml, process="lane_first"):
    """What another program reads of a process: node → the nodes that follow it."""
    # It reads only what it could run; ours is for people.
    runs = xml.replace('isExecutable="false"', 'isExecutable="true"')
    parser = BpmnParser()
    parser.add_bpmn_str(runs.encode())
    specs = parser.get_spec(process).task_specs
    return {
        name: [one.name for one in spec.outputs]
        for name, spec in specs.items()
        if name not in ("Start", "End") and not name.endswith(".EndJoin")
    }


def steps_after(found, node):
    """The steps that come next after a node, past everything that is only notation."""
    ends, ahead = set(), list(found[node])
    while ahead:
        one = ahead.pop()
        if one.startswith("step_") and not one.endswith("_met"):
            ends.add(one.removeprefix("step_"))
        elif one not in found or one.startswith("end_"):
            ends.add(END)
        else:
            ahead += found[one]
    return ends


@given(in_lanes(messages=(1,), segments=(1,), events=("visited",)))
@tries(60)
def test_another_program_reads_the_same_ways(itinerary):
    """Of every lane: each step that can be reached, and what follows it, as the table says by which
    people are moved."""
    xml = to_bpmn("A journey", itinerary, NAMES)
    table, first = flatten(itinerary), first_steps(itinerary)
    for lane in itinerary.lanes:
        found = read(xml, f"lane_{lane.id or 'first'}")
        begins = [node for node in found if node.startswith("start_")]
        assert begins
        for node in begins:
            assert steps_after(found, node) == {first[lane.id]}
        ahead, seen = [first[lane.id]], set()
        while ahead:
            step = ahead.pop()
            if step == END or step in seen:
                continue
            seen.add(step)
            flat = table[step]
            follows = {to for _, to in flat.first_of} or {flat.next}
            assert steps_after(found, f"step_{step}") == follows
            ahead += follows
        drawn = {node for node in found if node.startswith("step_") and not node.endswith("_met")}
        assert drawn == {f"step_{step}" for step in seen}


@given(in_lanes(messages=(1,), segments=(1,), events=("visited",)))
@tries(40)
def test_nothing_is_drawn_upon_anything_else(itinerary):
    for process in processes(itinerary, NAMES):
        places = [(node.x, node.y) for node in process.nodes]
        assert len(places) == len(set(places))
        ends = {node.id for node in process.nodes}
        assert all({link.source, link.target} <= ends for link in process.links)


@pytest.mark.parametrize("key", list(BEGINNINGS))
def test_what_journeys_begin_from_is_read(key):
    assert "start_first" in read(to_bpmn(key, BEGINNINGS[key].itinerary(), NAMES))


def element(xml, ident):
    root = ElementTree.fromstring(xml)
    return next(one for one in root.iter() if one.get("id") == ident)


def test_what_it_says_in_the_terms_of_the_notation():
    """A start, an email, a wait of three days, one until a day of the week, then two branches."""
    itinerary = Itinerary()
    parting = BranchStep("", (Path("", who=Who(1)), Path("")))
    steps = (
        MessageStep("", 1),
        WaitStep("", Span(3, "day")),
        WaitStep("", Span(0, "day"), 9 * 60, 0),
        parting,
        SplitStep("", (Path("", percent=60), Path("", percent=40))),
        WaitForStep("", Span(2, "week"), (Path("", event="visited"), Path(""))),
        ExitStep(""),
    )
    for step in steps:
        itinerary = add(itinerary, step)
    itinerary = add_start(itinerary, Start("event", "visited"))
    xml = to_bpmn("First & last", itinerary, NAMES)
    table = list(flatten(itinerary))
    nodes = [element(xml, f"step_{ident}") for ident in table]
    assert [one.tag.removeprefix(f"{{{MODEL}}}") for one in nodes] == [
        "sendTask",
        "intermediateCatchEvent",
        "intermediateCatchEvent",
        "exclusiveGateway",
        "exclusiveGateway",
        "eventBasedGateway",
        "endEvent",
    ]
    assert nodes[0].get("name") == "Email: Welcome"
    assert "P3D" in ElementTree.tostring(nodes[1], encoding="unicode")
    assert nodes[2].find(f".//{{{MODEL}}}timeDate").text == nodes[2].get("name")
    # Whoever is no member goes by the way that is for everyone else.
    root = ElementTree.fromstring(xml)
    flows = {one.get("id"): one for one in root.iter(f"{{{MODEL}}}sequenceFlow")}
    condition = f"{{{MODEL}}}conditionExpression"
    default = flows[nodes[3].get("default")]
    assert default.get("name") == "else everyone else"
    assert default.find(condition) is None
    others = [one for one in flows.values() if one.get("sourceRef") == nodes[3].get("id")]
    said = [one.find(condition).text for one in others if one is not default]
    assert said == ["if in “Members”"]
    assert "First &amp; last" in xml
