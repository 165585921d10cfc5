"""An itinerary in the process notation BPMN 2.0 (ISO/IEC 19510), with its drawing: what other tools
for processes read."""

from xml.etree import ElementTree

from meadowrun.core.journeys.diagram import Link, Node, Process, processes
from meadowrun.core.journeys.steps import Itinerary
from meadowrun.core.journeys.words import Names, as_text

MODEL = "http://www.omg.org/spec/BPMN/20100524/MODEL"
_DRAWN = "http://www.omg.org/spec/BPMN/20100524/DI"
_BOUNDS = "http://www.omg.org/spec/DD/20100524/DC"
_WAYS = "http://www.omg.org/spec/DD/20100524/DI"
_TYPE = "{http://www.w3.org/2001/XMLSchema-instance}type"
_SPACES = {
    "bpmn": MODEL,
    "bpmndi": _DRAWN,
    "dc": _BOUNDS,
    "di": _WAYS,
    "xsi": "http://www.w3.org/2001/XMLSchema-instance",
}


def to_bpmn(name: str, itinerary: Itinerary, names: Names) -> str:
    """The XML of an itinerary: a process for each lane, the whole of it in words as its
    documentation, and a drawing. Steps that are switched off are left out."""
    for prefix, space in _SPACES.items():
        ElementTree.register_namespace(prefix, space)
    root = ElementTree.Element(
        _of("definitions"), {"id": "journey", "name": name, "targetNamespace": "urn:meadowrun"}
    )
    found = list(processes(itinerary, names))
    messages = _messages(root, found)
    together = ElementTree.SubElement(root, _of("collaboration"), {"id": "lanes"})
    for one in found:
        ElementTree.SubElement(
            together,
            _of("participant"),
            {"id": f"part_{one.id}", "name": one.name or name, "processRef": one.id},
        )
    said = as_text(itinerary, names)
    for one in found:
        _process(root, one, one.name or name, said, messages)
    _drawing(root, found)
    ElementTree.indent(root)
    return ElementTree.tostring(root, encoding="unicode", xml_declaration=True)


def _of(tag: str, space: str = MODEL) -> str:
    return f"{{{space}}}{tag}"


def _messages(root: ElementTree.Element, found: list[Process]) -> dict[str, str]:
    """What can be waited for, each once; its words → its id."""
    known: dict[str, str] = {}
    for process in found:
        for node in process.nodes:
            if node.message and node.message not in known:
                known[node.message] = f"message_{len(known) + 1}"
                ElementTree.SubElement(
                    root, _of("message"), {"id": known[node.message], "name": node.message}
                )
    return known


def _process(
    root: ElementTree.Element, process: Process, name: str, said: str, messages: dict[str, str]
) -> None:
    made = ElementTree.SubElement(
        root, _of("process"), {"id": process.id, "name": name, "isExecutable": "false"}
    )
    ElementTree.SubElement(made, _of("documentation")).text = said
    for node in process.nodes:
        _node(made, node, process.links, messages)
    for link in process.links:
        _link(made, link)


def _node(
    process: ElementTree.Element, node: Node, links: tuple[Link, ...], messages: dict[str, str]
) -> None:
    attributes = {"id": node.id, "name": node.name}
    otherwise = [one.id for one in links if one.source == node.id and one.otherwise]
    if otherwise:
        attributes["default"] = otherwise[0]
    made = ElementTree.SubElement(process, _of(node.element), attributes)
    for link in links:
        if link.target == node.id:
            ElementTree.SubElement(made, _of("incoming")).text = link.id
    for link in links:
        if link.source == node.id:
            ElementTree.SubElement(made, _of("outgoing")).text = link.id
    if node.duration or node.until:
        timer = ElementTree.SubElement(
            made, _of("timerEventDefinition"), {"id": f"timer_{node.id}"}
        )
        kind = "timeDuration" if node.duration else "timeDate"
        _expression(timer, kind, node.duration or node.until)
    if node.message:
        ElementTree.SubElement(
            made,
            _of("messageEventDefinition"),
            {"id": f"awaits_{node.id}", "messageRef": messages[node.message]},
        )


def _link(process: ElementTree.Element, link: Link) -> None:
    attributes = {"id": link.id, "sourceRef": link.source, "targetRef": link.target}
    made = ElementTree.SubElement(process, _of("sequenceFlow"), attributes)
    if link.said:
        made.set("name", link.said)
    if link.said and not link.otherwise:
        _expression(made, "conditionExpression", link.said)


def _expression(inside: ElementTree.Element, tag: str, text: str) -> None:
    made = ElementTree.SubElement(inside, _of(tag), {_TYPE: "bpmn:tFormalExpression"})
    made.text = text


def _drawing(root: ElementTree.Element, found: list[Process]) -> None:
    """Where each thing stands, and the ways between."""
    diagram = ElementTree.SubElement(root, _of("BPMNDiagram", _DRAWN), {"id": "diagram"})
    plane = ElementTree.SubElement(
        diagram, _of("BPMNPlane", _DRAWN), {"id": "plane", "bpmnElement": "lanes"}
    )
    for process in found:
        _pool(plane, process)
        places = {node.id: node for node in process.nodes}
        for node in process.nodes:
            width, height = node.size
            _shape(plane, node.id, node.x - width // 2, node.y - height // 2, width, height)
        for link in process.links:
            source, target = places[link.source], places[link.target]
            edge = ElementTree.SubElement(
                plane,
                _of("BPMNEdge", _DRAWN),
                {"id": f"drawn_{link.id}", "bpmnElement": link.id},
            )
            begins, ends = source.x + source.size[0] // 2, target.x - target.size[0] // 2
            for x, y in ((begins, source.y), (ends, target.y)):
                ElementTree.SubElement(edge, _of("waypoint", _WAYS), {"x": str(x), "y": str(y)})


def _pool(plane: ElementTree.Element, process: Process) -> None:
    """The frame around a lane."""
    across = [node.x for node in process.nodes]
    down = [node.y for node in process.nodes]
    left, top = min(across) - 80, min(down) - 70
    _shape(plane, f"part_{process.id}", left, top, max(across) + 80 - left, max(down) + 70 - top)


def _shape(plane: ElementTree.Element, ident: str, x: int, y: int, width: int, height: int) -> None:
    shape = ElementTree.SubElement(
        plane, _of("BPMNShape", _DRAWN), {"id": f"drawn_{ident}", "bpmnElement": ident}
    )
    bounds = {"x": x, "y": y, "width": width, "height": height}
    ElementTree.SubElement(
        shape, _of("Bounds", _BOUNDS), {key: str(value) for key, value in bounds.items()}
    )
