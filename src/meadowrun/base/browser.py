"""Headless Chromium from Debian's packages, for the browser tests and the screenshots."""

import os
import tempfile

from selenium import webdriver
from selenium.webdriver.chrome.service import Service

OPTIONS = (
    "--headless=new",
    "--no-sandbox",
    "--disable-dev-shm-usage",
    "--disable-gpu",
    "--hide-scrollbars",
    "--window-size=1280,800",
    "--force-device-scale-factor=1",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--disable-quic",
    # Days and times as they stand in the texts of the tests.
    "--accept-lang=en-GB",
    # Its own name says that no person sits before it, and we would rightly not count its clicks.
    "--user-agent=Mozilla/5.0 (X11; Linux x86_64) Chromium",
    "--host-resolver-rules=MAP * ^NOTFOUND , EXCLUDE 127.0.0.1 , EXCLUDE localhost",
)


def chromium(width: int = 1280, height: int = 800) -> webdriver.Chrome:
    """A new browser with a profile of its own and an exact view port. The caller quits it."""
    os.environ["SE_OFFLINE"] = "true"
    options = webdriver.ChromeOptions()
    options.binary_location = "/usr/bin/chromium"
    for option in (*OPTIONS, f"--user-data-dir={tempfile.mkdtemp(prefix='meadowrun-chromium-')}"):
        options.add_argument(option)
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    browser = webdriver.Chrome(options=options, service=Service("/usr/bin/chromedriver"))
    browser.execute_cdp_cmd(
        "Emulation.setDeviceMetricsOverride",
        {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": False},
    )
    return browser
