"""From an empty segment to six lines by keyboard alone, and every number on the screen against SQL
written by hand."""

import time

import sqlalchemy as sa
from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import line, number, press

#: The six lines, each as a condition on contacts c, in the order they are typed.
BY_HAND = {
    "membership": "c.attributes->>'membership' IN ('Household', 'Patron')",
    "group": "(EXISTS (SELECT 1 FROM events e JOIN event_kinds k ON k.id = e.kind_id WHERE "
    "e.contact_id = c.id AND k.key = 'visited') OR "
    "EXISTS (SELECT 1 FROM events e JOIN event_kinds k ON k.id = e.kind_id WHERE e.contact_id = "
    "c.id AND k.key = 'lecture_booked'))",
    "birthday": "to_char(CAST(c.attributes->>'birthday' AS date), 'MM-DD') = ANY(ARRAY(SELECT "
    "to_char(d, 'MM-DD') FROM generate_series("
    "here.today, here.today + 120, interval '1 day') d) || CASE WHEN EXISTS (SELECT 1 FROM "
    "generate_series(here.today, here.today "
    "+ 120, interval '1 day') d WHERE to_char(d, 'MM-DD') = '02-28' AND extract(month FROM d + "
    "interval '1 day') = 3) "
    "THEN ARRAY['02-29'] ELSE ARRAY[]::text[] END)",
    "bought": "EXISTS (SELECT 1 FROM events e JOIN event_kinds k ON k.id = e.kind_id WHERE "
    "e.contact_id = c.id AND k.key = 'ticket_bought' "
    "AND (e.details->>'amount')::numeric >= 16)",
    "consent": (
        "EXISTS (SELECT 1 FROM consents s WHERE s.contact_id = c.id AND s.channel = "
        "'email' AND s.topic_id = 0 AND s.agreed)"
    ),
    "donated": (
        "NOT EXISTS (SELECT 1 FROM events e JOIN event_kinds k ON k.id = e.kind_id WHERE "
        "e.contact_id = c.id AND k.key = 'donated')"
    ),
}


#: What else email needs; the line on consent is one of the six.
REACH = (
    "c.email IS NOT NULL AND c.email_usable AND c.bounced_at IS NULL AND NOT EXISTS (SELECT 1 "
    "FROM suppressions s WHERE "
    "s.address_key = c.email_key)"
)


def counts(house, names):
    """How many contacts match all of these conditions, by hand. `here` is each contact's own
    calendar day."""
    where = " AND ".join(f"({BY_HAND.get(n, REACH)})" for n in names) or "TRUE"
    with house.database.session() as session:
        return session.execute(
            sa.text(
                "SELECT count(*) FROM contacts c CROSS JOIN LATERAL (SELECT ((now() + "
                "make_interval(secs => coalesce((SELECT seconds FROM "
                "clock_offset LIMIT 1), 0))) AT TIME ZONE coalesce(c.timezone, "
                "'Europe/London'))::date AS today) here WHERE " + where.replace("::", "\\:\\:")
            )
        ).scalar_one()


def test_six_lines_by_keyboard_alone_and_every_number_right(page, house):
    page.open("/segments/new")
    page.find("#narrow")
    started = time.monotonic()
    line(page, "/", "membership is Household or Patron", "whose membership is Household or Patron")
    press(page, "g")
    page.wait(lambda: page.driver.switch_to.active_element.get_attribute("data-add"))
    line(page, Keys.ENTER, "visited the dome", "who visited the dome at least once at any time")
    page.driver.execute_script("document.querySelector('.sieve-row.in [data-add]').focus()")
    line(page, Keys.ENTER, "booked a lecture", "who booked a lecture at least once at any time")
    line(page, "/", "birthday in the next 120 days", "comes round within the next 120 days")
    line(page, "/", "bought a ticket for at least 16", "with amount at least 16")
    line(page, "/", "agreed to all email", "who agreed to all email")
    line(page, "-", "donated", "who donated at least once at any time")
    taken = time.monotonic() - started
    assert taken < 60, f"it took {taken:.0f} s"

    names = list(BY_HAND)
    page.wait(lambda: len(page.all(".sieve-row .pic .sieve-pic")) == 6)
    before = counts(house, [])
    for place, (picture, alone) in enumerate(
        zip(page.all(".sieve-row .pic .sieve-pic"), page.all(".sieve-row .beneath"), strict=True)
    ):
        kept = counts(house, names[: place + 1])
        assert picture.get_attribute(
            "aria-label"
        ) == f"{kept:,} of {before:,} kept, {before - kept:,} lost".replace("-", "−"), names[place]
        assert number(alone.text.split()[0]) == counts(house, [names[place]]), names[place]
        before = kept
    assert number(page.text("[data-size]")) == before > 0
    inner = [number(e.text.split()[0]) for e in page.all(".sieve-row.in .alone")]
    with house.database.session() as session:
        assert inner == [
            session.execute(
                sa.text(
                    "SELECT count(DISTINCT e.contact_id) FROM events e JOIN event_kinds k ON "
                    "k.id = e.kind_id WHERE k.key = :k"
                ),
                {"k": k},
            ).scalar_one()
            for k in ("visited", "lecture_booked")
        ]
    margin = page.text("aside.margin")
    without = {n: counts(house, [m for m in names if m != n]) for n in names}
    most = max(without.values())
    assert f"without it there would be {most:,}" in margin
    assert f"{counts(house, [*names, 'reach']):,} can get email" in margin
    page.driver.execute_script("document.getElementById('unsaved').hidden = true")


def test_enter_takes_what_the_whole_sentence_means_however_fast_it_comes(page):
    """“visited the dome” is also an item of the list that stands below; Enter comes long before the
    answer to the sentence."""
    page.open("/segments/new")
    page.find("#narrow")
    for text, wanted in (
        ("visited the dome", "who visited the dome at least once at any time"),
        ("visited the dome twice since March", "who visited the dome 2 times or more since 1 Mar"),
    ):
        press(page, "/")
        page.wait(
            lambda: page.driver.switch_to.active_element.get_attribute("data-typed") is not None
        )
        press(page, text, Keys.ENTER)
        page.wait(
            lambda said=wanted: (
                said in page.all(".sieve-row .sentence")[-1].text and not page.all(".pop")
            ),
            why=wanted,
        )
        page.driver.execute_script("document.activeElement.blur()")
    page.driver.execute_script("document.getElementById('unsaved').hidden = true")


def test_who_was_lost_at_a_line(page, house):
    page.open("/segments/1")
    page.click(".lost-hit")
    page.says("lost at this line", ".pop")
    assert len(page.all(".pop tr")) > 3
    page.find("body").send_keys(Keys.ESCAPE)


def test_undo_after_removing(page):
    page.open("/segments/1")
    lines = len(page.all(".sieve-row .pic"))
    page.driver.execute_script("document.querySelector('[data-do=remove]').click()")
    page.wait(lambda: len(page.all(".sieve-row .pic")) == lines - 1)
    page.find("body").send_keys(Keys.CONTROL, "z")
    page.wait(lambda: len(page.all(".sieve-row .pic")) == lines)
    page.driver.execute_script("document.getElementById('unsaved').hidden = true")
