"""People of a segment get a tag, and a line asks for it; a score gets a rule, and everyone's points
follow."""

import sqlalchemy as sa

from tests.browser.conftest import line, number


def asked(house, query, **values):
    with house.database.session() as session:
        return session.execute(sa.text(query), values).scalar_one()


def test_a_tag_for_the_people_of_a_segment_and_a_line_that_asks_for_it(page, house):
    page.open("/segments/1")
    size = number(page.text("[data-size]"))
    page.click(".head details.drop summary")
    page.press("Tag these people")
    page.type("#tag-for-people", "desk/asked-in-autumn")
    page.press("Add tag")
    page.says(f"{size:,} people got the tag “desk/asked-in-autumn”.")
    page.open("/segments/new")
    page.find("#narrow")
    line(page, "/", "tagged asked in autumn", "who has the tag “desk/asked-in-autumn”")
    page.wait(lambda: number(page.text("[data-size]")) == size)
    page.driver.execute_script("document.getElementById('unsaved').hidden = true")
    # The tag above counts whoever has one inside it.
    page.open("/tags")
    ident = asked(house, "SELECT id FROM tags WHERE path = 'desk'")
    page.open(f"/segments/new?about=tag:{ident}")
    page.says("or one inside it", ".work")
    assert number(page.text("[data-size]")) == asked(
        house,
        (
            "SELECT count(DISTINCT k.contact_id) FROM contact_tags k JOIN tags t ON t.id = "
            "k.tag_id WHERE t.path = 'desk' OR t.path LIKE 'desk/%'"
        ),
    )


def test_a_score_from_its_first_rule_to_a_line_that_asks_for_it(page, house):
    page.open("/scores")
    page.type("#s-name", "Warmth")
    page.driver.execute_script("document.getElementById('s-half').value = ''")
    page.press("Create")
    page.says("Now say what it gives points for.")
    page.press("Add a rule")
    page.wait(lambda: page.driver.execute_script("return document.activeElement.id") == "narrow")
    line(page, "/", "visited the dome", "who visited the dome at least once at any time")
    page.press("Save")
    page.says("who visited the dome", "main table")
    page.driver.execute_script("document.querySelector('[name=points]').value = ''")
    page.type("[name=points]", "3")
    page.press("Save")
    page.says("Everyone’s points are being updated.")
    visitors = asked(
        house,
        (
            "SELECT count(DISTINCT e.contact_id) FROM events e JOIN event_kinds k ON k.id = "
            "e.kind_id WHERE k.key = 'visited'"
        ),
    )
    ident = asked(house, "SELECT id FROM scores WHERE name = 'Warmth'")

    def worked_out():
        page.open(f"/scores/{ident}")
        return "updated" in page.text("aside.margin") and "anew" not in page.text("aside.margin")

    page.wait(worked_out, 40)
    page.says(f"{visitors:,} people have points")
    often = asked(
        house,
        "SELECT count(*) FROM (SELECT e.contact_id FROM events e JOIN event_kinds k ON k.id = "
        "e.kind_id WHERE k.key = 'visited' "
        "GROUP BY 1 HAVING count(*) >= 3) x",
    )
    page.open("/segments/new")
    page.find("#narrow")
    line(page, "/", "warmth score at least 9", "whose score “Warmth” is at least 9")
    page.wait(
        lambda: number(page.text("[data-size]")) == often, why=f"not {often} with three visits"
    )
    page.driver.execute_script("document.getElementById('unsaved').hidden = true")
