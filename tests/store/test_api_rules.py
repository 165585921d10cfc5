"""What holds for everything that is sent, by the API."""

import pytest

from meadowrun.messages.senders import Sender
from tests.conftest import NOW

FROM = "farrowhill.example"


def test_the_rules_are_changed_one_by_one(api, still):
    _, before = api("get", "/sending")
    assert before["second_person_above"] is None
    assert before["allowance"] == {"most": None, "per": "month", "left": None}
    code, after = api(
        "patch",
        "/sending",
        {
            "second_person_above": 5000,
            "allowance": {"most": 100, "per": "day"},
            "soft_bounces": {"most": 4, "days": 30},
            "held_out": {"percent": 2.5, "period": "quarter"},
        },
    )
    assert code == 200
    assert after["allowance"] == {"most": 100, "per": "day", "left": 100}
    assert (after["second_person_above"], after["soft_bounces"]) == (5000, {"most": 4, "days": 30})
    assert after["held_out"] == {"percent": 2.5, "period": "quarter"}
    assert after["name_pattern"] == before["name_pattern"]
    _, once_more = api("patch", "/sending", {"second_person_above": None})
    assert once_more["second_person_above"] is None
    assert once_more["allowance"] == after["allowance"]


@pytest.mark.parametrize(
    ("given", "where"),
    [
        ({"allowance": {"most": 0, "per": "day"}}, "most"),
        ({"held_out": {"percent": 90, "period": "quarter"}}, "percent"),
        ({"name_pattern": "{nothing}"}, "name_pattern"),
        ({"soft_bounces": {"most": 0, "days": 30}}, "soft_most"),
    ],
)
def test_rules_that_cannot_be(api, given, where):
    _, before = api("get", "/sending")
    code, said = api("patch", "/sending", given)
    assert (code, said["where"]) == (422, where)
    assert api("get", "/sending")[1] == before


def test_speeds_of_mail_domains(api, still):
    api("put", "/mail-speeds", {"domain": "Post.example", "per_hour": 600})
    api("put", "/mail-speeds", {"domain": "", "per_hour": 9000})
    _, found = api("get", "/mail-speeds")
    assert found["items"] == [
        {"domain": "", "per_hour": 9000, "delayed_until": None},
        {"domain": "post.example", "per_hour": 600, "delayed_until": None},
    ]
    _, left = api("put", "/mail-speeds", {"domain": "post.example", "per_hour": None})
    assert [one["domain"] for one in left["items"]] == [""]
    code, said = api("put", "/mail-speeds", {"domain": "no domain", "per_hour": 5})
    assert (code, said["where"]) == (422, "domain")


def test_a_new_domain(api, database, still):
    with database.session() as session:
        session.add(Sender(name="Farrow Hill", address=f"desk@{FROM}"))
    assert api("get", "/warm-ups")[1]["items"] == [{"domain": FROM, "plan": None}]
    plan = {"first_day": 100, "growth": 50, "until": 1000}
    code, made = api("put", f"/warm-ups/{FROM}", plan)
    assert code == 200
    assert made["plan"] == {"begins": NOW.date().isoformat(), **plan}
    # 100, 150, 225, 337, 506, 759, and then over 1,000.
    assert (made["today"], made["ends"]) == (100, "2026-11-29")
    assert api("get", "/warm-ups")[1]["items"] == [made]
    assert api("delete", f"/warm-ups/{FROM}")[0] == 204
    assert api("delete", f"/warm-ups/{FROM}")[0] == 404
    code, said = api("put", f"/warm-ups/{FROM}", {**plan, "begins": "tomorrow"})
    assert (code, said["where"]) == (422, "begins")
