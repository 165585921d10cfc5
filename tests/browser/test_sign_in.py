"""A new colleague's first day: a link, a password, a second step, all by keys; and a click that
makes a visitor known for its page only."""

import re

import pyotp
from selenium.webdriver.common.keys import Keys

from meadowrun.base import clock, signing
from meadowrun.people.queries import living
from tests.browser.conftest import sign_in, violations


def test_a_new_colleague_comes_in_with_a_second_step(page):
    page.open("/colleagues")
    page.type("#c-name", "Rosa Lind")
    page.type("#c-email", "rosa@farrowhill.example")
    page.find("#c-email").send_keys(Keys.ENTER)
    page.says("Rosa Lind sets a password with this link")
    link = page.text(".note code")
    page.driver.delete_all_cookies()
    page.driver.who = None
    page.open(link)
    assert violations(page) == []
    page.type("#i-new", "rosalind2026")
    page.says("made of a name")
    page.type("#i-new", "violet kettle orbit")
    page.says("This one is strong")
    page.press("Show")
    assert page.find("#i-new").get_attribute("type") == "text"
    page.find("#i-new").send_keys(Keys.ENTER)
    page.says("Your password is set")
    page.type("#email", "rosa@farrowhill.example")
    page.type("#password", "violet kettle orbit")
    page.find("#password").send_keys(Keys.ENTER)
    page.says("Today")
    page.open("/second-step")
    assert violations(page) == []
    secret = page.text("form code")
    page.type("#s-code", pyotp.TOTP(secret).now())
    page.type("#s-password", "violet kettle orbit")
    page.find("#s-password").send_keys(Keys.ENTER)
    page.says("Your recovery codes")
    codes = re.findall(r"\b[a-z2-9]{5}-[a-z2-9]{5}\b", page.text())
    assert len(codes) == 10
    page.press("I have saved them")
    page.says("10 recovery codes left")
    assert violations(page) == []
    page.driver.delete_all_cookies()
    page.open("/sign-in")
    page.type("#email", "rosa@farrowhill.example")
    page.type("#password", "violet kettle orbit")
    page.find("#password").send_keys(Keys.ENTER)
    page.says("Your code")
    page.type("#code", codes[0])
    page.find("#code").send_keys(Keys.ENTER)
    page.says("Latest results")
    page.driver.delete_all_cookies()
    sign_in(page)


def test_the_sign_of_a_visitor_leaves_the_address_with_the_first_page(page, house):
    secret = house.settings.secret
    with house.database.session() as session:
        # Other tests may have moved the demo's clock on.
        now = clock.now(session)
        # And made one of two people.
        who = living(session, 7).id
    came = signing.arrival(secret, 7, now)
    # Nobody else was here in this browser.
    page.open(f"{house.site}/observatory/")
    page.driver.execute_script("localStorage.clear()")
    page.open(f"{house.site}/observatory/?night=leonids&mr={came}&x=%20a#map")
    page.wait(lambda: "mr=" not in page.driver.current_url)
    assert page.driver.current_url.endswith("/observatory/?night=leonids&x=%20a#map")

    def known_by():
        return page.driver.execute_script("return localStorage.getItem('mr-visitor')") or ""

    # The first page may still have kept whom an earlier test made known; the link's contact counts.
    page.wait(lambda: signing.who_visits(secret, known_by(), now) == who)
    kept = known_by()
    assert kept != came
    # Back later without a link, and by a link whose time is over: still known, by what the browser
    # keeps.
    for address in (
        "/observatory/",
        f"/observatory/?mr={signing.arrival(secret, 7, now - signing.ARRIVES_WITHIN * 2)}",
    ):
        page.driver.execute_script("localStorage.setItem('mr-visitor', arguments[0])", kept)
        page.open(house.site + address)
        page.wait(lambda: signing.who_visits(secret, known_by(), now) == who)
    # The browser notes that the sign of the link was refused: the only complaint there is.
    complaints = []
    page.wait(lambda: complaints.extend(page.problems()) or complaints)
    assert len(complaints) == 1 and "422" in complaints[0]
