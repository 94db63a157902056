"""How soon each page of the console can be used, and how much the first one loads: headless Chromium over loopback."""

from __future__ import annotations

import os
import shutil
import statistics
import time
from collections.abc import Callable

from playwright.sync_api import Browser, BrowserContext, Page, StorageState, sync_playwright

from bathotype.demo import life
from bathotype.demo.system import DemoSystem
from bench.report import Row

ROUNDS = 5
_USABLE_SECONDS, _FIRST_LOAD_KB = 1.5, 250.0
_MACHINE = "/machines/skerry-1/gauge-seed-01"
PAGES = (
    "/",
    "/lines",
    "/lines/gauge-collector",
    "/versions/gauge-collector@1.3.0",
    "/versions/gauge-collector@1.3.0?show=contents",
    "/versions/gauge-collector@1.3.0?show=difference",
    "/sheets",
    "/sheets/gauge-logging",
    "/machines",
    _MACHINE,
    "/operations",
    "/instances",
    "/launch?of=gauge-collector",
    "/calendar",
    "/ledger",
    "/packages?name=openssl",
    "/regions",
    "/people",
    "/people?show=rules",
)
#: The first sentence is there, and nothing is waited for any more.
_USABLE = """() => {
  const heading = document.querySelector("h1");
  return heading !== null && heading.textContent !== "" && !document.body.innerText.includes("Loading …");
}"""
#: A machine's page is used before its disk has been read and its agent asked; that has ended as well.
_LOOKED_AT = """() => !document.body.innerText.includes("Reading its disk")"""
_LOADED = """() => performance.getEntriesByType("resource").concat(performance.getEntriesByType("navigation"))
  .filter((e) => !e.name.includes("/api/")).reduce((sum, e) => sum + e.encodedBodySize, 0)"""


def rows(running: DemoSystem, say: Callable[[str], None]) -> list[Row]:
    """Of the demo with its life: each page, opened by its address in a browser that has nothing of it yet."""
    say("the demo is lived in ...")
    life.live(running, lambda line: None)
    with sync_playwright() as playwright:
        flags = ["--no-sandbox"] if os.geteuid() == 0 else []
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium-headless-shell"), args=flags)
        session, loaded = _signed_in(browser, running)
        say("pages ...")
        taken: dict[str, list[float]] = {path: [] for path in PAGES}
        looked_at: list[float] = []
        for _ in range(ROUNDS):
            for path, times in taken.items():
                context = _fresh(browser, session)
                page, began = context.new_page(), time.perf_counter()
                times.append(_usable(page, f"{running.url}{path}"))
                if path == _MACHINE:
                    page.wait_for_function(_LOOKED_AT, polling="raf")
                    looked_at.append(time.perf_counter() - began)
                context.close()
        browser.close()
    found = [Row("all that the sign-in page loads", f"{loaded:.0f} kB", "250 kB", "", loaded / _FIRST_LOAD_KB, 1.0)]
    works = {f"`{path}` until it can be used": times for path, times in taken.items()}
    works[f"`{_MACHINE}` until its disk has been read and its agent asked"] = looked_at
    for work, times in works.items():
        seconds = statistics.median(times)
        found.append(Row(work, f"{seconds:.2f} s", f"{_USABLE_SECONDS} s", "", seconds / _USABLE_SECONDS, 1.0))
    return found


def _fresh(browser: Browser, session: StorageState | None = None) -> BrowserContext:
    """A browser without a cache, as somebody opens it."""
    return browser.new_context(viewport={"width": 1280, "height": 800}, storage_state=session)


def _signed_in(browser: Browser, running: DemoSystem) -> tuple[StorageState, float]:
    """The session of a demo person, and the kB (1,000 bytes, as sent) of the first page."""
    context = _fresh(browser)
    page = context.new_page()
    _usable(page, f"{running.url}/sign-in")
    page.wait_for_load_state("networkidle")  # the type comes after the first sentence
    loaded = float(page.evaluate(_LOADED)) / 1000
    page.get_by_label("Name").fill("mara")
    page.get_by_label("Password").fill(running.secrets["people"]["mara"])
    page.get_by_role("button", name="Sign in").click()
    page.wait_for_selector("nav")
    session = context.storage_state()
    context.close()
    return session, loaded


def _usable(page: Page, address: str) -> float:
    """Seconds from the address until the page can be used."""
    began = time.perf_counter()
    page.goto(address, wait_until="commit")
    page.wait_for_function(_USABLE, polling="raf")
    return time.perf_counter() - began
