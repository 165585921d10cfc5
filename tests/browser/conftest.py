"""The whole application with a small demo world and the village, and a real browser that is signed
in."""

import os
import pathlib
import re
import shutil

import pytest
import sqlalchemy as sa
from selenium.common.exceptions import TimeoutException
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import WebDriverWait

from meadowrun.base.browser import chromium
from meadowrun.base.cluster import THROW_AWAY
from meadowrun.base.db import Database
from meadowrun.base.testing import memory_folder
from meadowrun.demo.run import Demo
from tests.leaks import leaks

ROOT = pathlib.Path(__file__).resolve().parents[2]
AXE = (pathlib.Path(__file__).parent / "vendor" / "axe.min.js").read_text()


@pytest.fixture(scope="package")
def house(worker_id):
    """A running demo of 1,500 people, on ports of its own."""
    folder = memory_folder()
    number = int(worker_id.removeprefix("gw") or 0) if worker_id != "master" else 5
    os.environ["MEADOWRUN_LOG_LEVEL"] = "DEBUG"
    demo = Demo(
        ROOT,
        folder / "demo",
        8560 + number * 20,
        lambda text: None,
        (*THROW_AWAY, "shared_buffers=128MB"),
    )
    demo.cluster.wanted_port = 55100 + number * 20
    try:
        demo.settings = demo.prepare(1500, 3)
        demo.start(demo.settings)
        demo.database = Database(demo.settings.database_url)
        with demo.database.session() as session:
            # Tests run at any hour, also when texts would wait for the morning.
            session.execute(sa.text("DELETE FROM quiet_hours"))
        yield demo
        with demo.database.session() as session:
            secrets = (
                demo.settings.secret,
                set(session.scalars(sa.text("SELECT token_hash FROM sign_ins"))),
                written(session),
            )
        demo.stop()
        said = (folder / "demo" / "log").read_text(errors="replace")
        assert '"event": "request"' in said, "nothing was logged, so that nothing is shown by it"
        assert leaks(said, *secrets) == [], "what must not be in logs"
    finally:
        log = folder / "demo" / "log"
        if log.exists():
            lines = log.read_text(errors="replace").splitlines()
            faults = [
                line
                for line in lines
                if '"event": "fault"' in line
                or "village" in line
                and "warning" in line
                or "Error" in line
            ]
            print("\n".join(faults[-8:]))
        demo.stop()
        shutil.rmtree(folder, ignore_errors=True)


def written(session):
    """The subjects and texts of messages, and words of people, that are long enough to be nothing
    else."""
    texts = set(session.scalars(sa.text("SELECT document->>'subject' FROM messages")))
    texts |= {
        part
        for html in session.scalars(
            sa.text("SELECT l->>'html' FROM messages, jsonb_array_elements(document->'lines') l")
        )
        for part in re.split(r"<[^>]+>|\{[^}]*\}", html or "")
    }
    texts |= set(session.scalars(sa.text("SELECT phone FROM contacts WHERE phone IS NOT NULL")))
    return {text.strip() for text in texts if text and len(text.strip()) >= 14}


class Page:
    """A browser, with the few things that tests do all the time."""

    def __init__(self, driver, address):
        self.driver, self.address = driver, address

    def open(self, path):
        self.driver.get(path if path.startswith("http") else self.address + path)

    def wait(self, condition, seconds=30, why=""):
        WebDriverWait(self.driver, seconds, 0.05, ignored_exceptions=(Exception,)).until(
            lambda d: condition(), why
        )

    def find(self, selector):
        self.wait(
            lambda: self.driver.find_elements(By.CSS_SELECTOR, selector),
            why=f"nothing matches {selector}",
        )
        return self.driver.find_element(By.CSS_SELECTOR, selector)

    def all(self, selector):
        return self.driver.find_elements(By.CSS_SELECTOR, selector)

    def text(self, selector="main"):
        return self.find(selector).text

    def click(self, selector):
        self.wait(
            lambda: self.driver.find_element(By.CSS_SELECTOR, selector).click() is None,
            why=f"cannot click {selector}",
        )

    def press(self, words, within="main"):
        """Clicks the button or link whose words begin so."""

        def done():
            for element in self.driver.find_elements(
                By.CSS_SELECTOR, f"{within} button, {within} a, {within} label"
            ):
                if element.is_displayed() and element.text.strip().startswith(words):
                    element.click()
                    return True
            return False

        self.wait(done, why=f"no button says “{words}”")

    def type(self, selector, text, clear=True):
        element = self.find(selector)
        if clear:
            element.clear()
        element.send_keys(text)

    def says(self, words, selector="main", seconds=30):
        def stands():
            return words in self.driver.find_element(By.CSS_SELECTOR, selector).text

        try:
            self.wait(stands, seconds)
        except TimeoutException:
            there = "".join(element.text for element in self.all(selector))
            raise AssertionError(
                f"“{words}” does not stand on {self.driver.current_url}, but:\n{there[:1500]}"
            ) from None

    def problems(self):
        """What the browser complained of: script errors, blocked content."""
        return [
            e["message"]
            for e in self.driver.get_log("browser")
            if e["level"] == "SEVERE" and "favicon" not in e["message"]
        ]


#: The requests of a page fail from now on, as they do without a network; and work again.
AWAY = """
window.reached = window.fetch;
window.fetch = () => Promise.reject(new TypeError('away'));
"""
BACK = "window.fetch = window.reached"

IDA = "ida@farrowhill.example"


def sign_in(page, email=IDA):
    page.driver.who = None
    page.open("/sign-in")
    page.type("#email", email)
    page.type("#password", "clear-night-sky")
    page.press("Sign in")
    page.wait(lambda: page.driver.current_url.rstrip("/") == page.address)
    page.driver.who = email


@pytest.fixture(scope="package")
def driver():
    made = chromium()
    #: who is signed in, by their address
    made.who = None
    yield made
    made.quit()


@pytest.fixture
def page(house, driver):
    made = Page(driver, house.address)
    if driver.who != IDA or driver.get_cookie("meadowrun_in") is None:
        # A test signed out, or in as somebody else.
        driver.get(house.address + "/sign-in")
        driver.delete_all_cookies()
        sign_in(made)
    yield made
    assert made.problems() == []


def press(page, *keys):
    page.driver.switch_to.active_element.send_keys(*keys)


def line(page, key, text, wanted):
    """Presses the key for a new line, types a sentence, takes its first reading, and waits until it
    stands there."""
    before = len(page.all(".sieve-row .sentence"))
    press(page, key)
    page.wait(lambda: page.driver.switch_to.active_element.get_attribute("data-typed") is not None)
    press(page, text)
    page.wait(
        lambda: any(wanted in choice.text for choice in page.all("[data-readings] .reading")[:1]),
        why=f"no reading says {wanted}",
    )
    press(page, Keys.ENTER)
    page.wait(lambda: len(page.all(".sieve-row .sentence")) > before and not page.all(".pop"))
    page.driver.execute_script("document.activeElement.blur()")


def number(text):
    return int(text.replace(",", "").replace("−", "-"))


def saved(page):
    page.wait(lambda: "saved" in page.text("#saved"), why="not saved")


def write(page, selector, words):
    page.click(selector)
    page.find(selector).send_keys(words)
    page.wait(lambda: "saved" in page.text("#saved") and "writing" not in page.text("#saved"))


#: All that is asked of a page, with targets of 24 pixels (WCAG 2.2, 2.5.8); and what can become
#: wrong by its width alone.
WHOLE = ("wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa")
OF_WIDTH = ("target-size", "scrollable-region-focusable")


#: 1280 points wide and magnified to 200 %: half as many.
TWICE = {"width": 640, "height": 400, "deviceScaleFactor": 2, "mobile": False}
#: As it is seen otherwise.
ONCE = {"width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": False}


def sized(page, size):
    """Has the window be so large."""
    page.driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)


def lacks_at_twice_the_size(page):
    """What is wrong with the page that is open once the window is as narrow as TWICE: how much
    wider it is, what is pressed there and too small, and what scrolls without keys."""
    wide, room = page.driver.execute_script(
        "return [document.documentElement.scrollWidth, innerWidth]"
    )
    found = [f"{wide} pixels wide"] if wide > room else []
    if not page.find("nav.trail a").is_displayed():
        found.append("nothing leads to the other pages")
    return found + violations(page, OF_WIDTH)


def violations(page, only=WHOLE):
    """What the accessibility of a page lacks, by rules or sets of rules."""
    page.driver.execute_cdp_cmd("Page.setBypassCSP", {"enabled": True})
    page.driver.execute_script(AXE)
    found = page.driver.execute_async_script(
        "const [only, done] = arguments; axe.run(document, {runOnly: only, iframes: false, "
        "resultTypes: ['violations'], preload: false, rules: {'target-size': {enabled: true}}})"
        ".then((r) => done(r.violations.map((v) => [v.id, v.nodes.slice(0, 3).map((n) => "
        "n.html.slice(0, 160))])))",
        list(only),
    )
    return found
