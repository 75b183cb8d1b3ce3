"""A browser without a window, for the tests of pages; or the plain word that there is none."""

import contextlib
import importlib.resources
import os
import shutil
import unittest


def browser_or_skip():
    """Return Selenium's browser, or skip the test and say what is missing."""
    binary = shutil.which("chromium") or shutil.which("google-chrome")
    driver = shutil.which("chromedriver")
    try:
        from selenium import webdriver
    except ImportError:
        raise unittest.SkipTest("no Selenium: pages are not tried (pip install selenium)") from None
    if binary is None or driver is None:
        raise unittest.SkipTest("no browser: pages are not tried (apt-get install chromium chromium-driver)")
    options = webdriver.ChromeOptions()
    options.binary_location = binary
    for word in ("--headless=new", "--disable-dev-shm-usage", *(["--no-sandbox"] if os.geteuid() == 0 else [])):
        options.add_argument(word)
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    return webdriver.Chrome(options=options, service=webdriver.ChromeService(driver))


@contextlib.contextmanager
def opened(address, size=(1280, 800)):
    """Open a page, and see in the end that neither the browser nor axe-core had anything to complain of."""
    browser = browser_or_skip()
    try:
        browser.set_window_size(*size)
        browser.get(address)
        yield browser
        rules = importlib.resources.files("axe_core_python").joinpath("axe.min.js").read_text(encoding="utf-8")
        browser.execute_script(rules)
        found = browser.execute_async_script("axe.run().then(arguments[0])")
        assert not found["violations"], [(each["id"], each["nodes"][0]["html"]) for each in found["violations"]]
        complaints = [entry["message"] for entry in browser.get_log("browser")]
        assert not complaints, complaints
    finally:
        browser.quit()
