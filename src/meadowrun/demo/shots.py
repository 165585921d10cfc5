"""`./meadowrun shots`: one current picture of each main view, 1280×800, from a fresh demo world of
the usual size."""

import pathlib
import shutil
import time

from selenium.webdriver.common.by import By

from meadowrun.base.browser import chromium
from meadowrun.base.cluster import THROW_AWAY
from meadowrun.base.errors import MeadowrunError
from meadowrun.base.testing import memory_folder
from meadowrun.demo.run import Demo, say
from meadowrun.shell import accounts

#: file name → address; two are reached by steps of their own
VIEWS = {
    "today": "/",
    "contact": "/people/23",
    "import": "import",
    "segment": "/segments/1",
    "profile": "/segments/1/profile",
    "compare": "/segments/compare?of=1&of=2&of=3",
    "message": "/messages/1",
    "checks": "/messages/1/checks",
    "notification": "/messages/3/notification",
    "in_app": "/messages/4",
    "journey": "/journeys/3",
    "rehearsal": "/journeys/3/rehearsal",
    "send": "/sends/1",
    "last-look": "/sends/1/look",
    "result": "/results/25",
    "clicks": "/results/25/email",
    "limits": "/message-limits",
    "calendar": "/calendar?view=weeks",
    "preferences": "preferences",
}
PEOPLE_FILE = (
    "Email,First name,Last name,Town,Membership,Birthday,Agreed\n"
    "mira.holt@post.example,Mira,Holt,Farrow,Household,12.4.1988,yes\n"
    "jon.vale@post.example,Jon,Vale,Tarnside,,3/5/1979,no\n"
    "bad address,Ann,Rook,Farrow,Patron,,\n"
)


def run(root: pathlib.Path) -> None:
    """Makes every picture anew in docs/screenshots."""
    folder, target = memory_folder(), root / "docs" / "screenshots"
    target.mkdir(parents=True, exist_ok=True)
    demo = Demo(root, folder / "demo", 8660, say, (*THROW_AWAY, "shared_buffers=256MB"))
    demo.cluster.wanted_port = 55300
    browser = None
    try:
        demo.start(demo.prepare(24_000))
        browser = chromium()
        browser.get(demo.address + "/sign-in")
        browser.find_element(By.ID, "email").send_keys("ida@farrowhill.example")
        browser.find_element(By.ID, "password").send_keys(accounts.DEMO_PASSWORD)
        browser.find_element(By.CSS_SELECTOR, "button.btn-primary").click()
        for name, place in VIEWS.items():
            if place == "import":
                browser.get(demo.address + "/imports/new")
                file = folder / "spring-fair.csv"
                file.write_text(PEOPLE_FILE)
                browser.find_element(By.ID, "file").send_keys(str(file))
                browser.find_element(By.CSS_SELECTOR, "main button.btn-primary").click()
            elif place == "preferences":
                from meadowrun.base import signing

                token = signing.make((folder / "demo" / "secret").read_text(), "choose", 2, 23)
                browser.get(f"{demo.address}/p/{token}")
            else:
                browser.get(demo.address + place)
            # The reading side of an editor comes after the page.
            time.sleep(1.8 if name in ("message", "notification", "text", "in_app") else 0.9)
            if "Something went wrong" in browser.title:
                raise MeadowrunError(
                    f"The page for {name}.png went wrong: "
                    f"{browser.find_element(By.TAG_NAME, 'main').text}"
                )
            browser.save_screenshot(str(target / f"{name}.png"))
            say(f"docs/screenshots/{name}.png")
    finally:
        if browser:
            browser.quit()
        demo.stop()
        shutil.rmtree(folder, ignore_errors=True)
