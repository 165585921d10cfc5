"""What gets into logs: nobody's address, and nothing that somebody wrote."""

import pytest

from meadowrun.base.logs import masked


@pytest.mark.parametrize(("said", "logged"), [
    ("550 nobody called ann.o'neil@mail.example here", "550 nobody called (address) here"),
    ('duplicate key\nDETAIL:  Key (email_key)=(ann@a.example) already exists.\nmore', "duplicate key\n(value)\nmore"),
    ('invalid input syntax for type numeric: "four hundred"', "invalid input syntax for type numeric: (value)"),
    ({"to": ["zoe@mail.example", 7]}, {"to": ["(address)", 7]}), (41, 41), (None, None), ("nothing to hide", "nothing to hide")])
def test_addresses_and_values_stay_out(said, logged):
    assert masked(None, "info", {"event": "x", "problem": said}) == {"event": "x", "problem": logged}
