"""What a feed may answer: whatever it is, it is either usable or told in words."""

import pytest

from meadowrun.messages.feeds import read


@pytest.mark.parametrize(
    ("body", "value"),
    [
        (b'{"night": "Fri\\u0000day"}', {"night": "Friday"}),
        (b'{"a": "half \\ud83d"}', {"a": "half ?"}),
        ('{"Zoë": "☆"}'.encode(), {"Zoë": "☆"}),
        (b"[1, 2.5, true, null]", [1, 2.5, True, None]),
        (b"123456789012345678901", "123456789012345678901"),
        (b'"\\ud83d\\ude00"', "😀"),
        (b"[" * 40 + b"]" * 40, eval("[" * 40 + "]" * 40)),
    ],
)
def test_what_can_be_used(body, value):
    assert read(body) == value


@pytest.mark.parametrize(
    ("body", "why"),
    [
        (b"NaN", "NaN"),
        (b'{"cloud": NaN}', "NaN"),
        (b"[-Infinity]", "-Infinity"),
        (b"1e999", "too large"),
        (b"", "not JSON"),
        (b"<html>", "not JSON"),
        (b'"\xff"', "UTF-8"),
        (b"[" * 3000 + b"]" * 3000, "deep"),
        (b'{"a":' * 3000 + b"1" + b"}" * 3000, "deep"),
        (b"[" * 60 + b"]" * 60, "deep"),
        (b"[" * 100_000, "deep"),
    ],
)
def test_what_cannot(body, why):
    with pytest.raises(ValueError, match=why):
        read(body)
