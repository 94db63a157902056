"""The console in headless Chromium, over the demo with its people and its life."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable, Iterator
from contextlib import contextmanager

import pytest
from playwright.sync_api import Browser, BrowserContext, Page, expect, sync_playwright

from bathotype.demo import life
from tests.support import System, running_system

expect.set_options(timeout=60_000)  # real guests may run beside


@pytest.fixture(scope="package")
def demo() -> Iterator[System]:
    """The whole demo, with what `make demo` fills it with."""
    with running_system() as system:
        life.live(system, lambda line: None)
        yield system


@pytest.fixture(scope="package")
def chromium() -> Iterator[Browser]:
    path = shutil.which("chromium-headless-shell")
    assert path, "Debian's chromium-headless-shell is missing: scripts/system-packages installs it"
    with sync_playwright() as playwright:
        flags = ["--no-sandbox"] if os.geteuid() == 0 else []
        browser = playwright.chromium.launch(executable_path=path, args=flags)
        yield browser
        browser.close()


class Desk:
    """One person's browser.  Whatever the console or the page's policy complains of is collected."""

    def __init__(self, context: BrowserContext, system: System) -> None:
        self.context, self.system = context, system
        self.complaints: list[str] = []
        self.page = self.tab()

    def tab(self) -> Page:
        page = self.context.new_page()
        page.on("console", lambda m: self._note(m.type, m.text))
        page.on("pageerror", lambda error: self.complaints.append(str(error)))
        return page

    def _note(self, kind: str, text: str) -> None:
        # Chromium itself writes a line for each answer of 4xx and 5xx, and for a service that is away.
        if kind in ("error", "warning") and not text.startswith("Failed to load resource"):
            self.complaints.append(text)

    def open(self, path: str) -> Page:
        """Go to a page by its address."""
        self.page.goto(f"{self.system.url}{path}")
        return self.page

    def sign_in(self, name: str, password: str = "") -> Page:
        """Sign in with one's password."""
        page = self.open("/sign-in")
        page.get_by_label("Name").fill(name)
        page.get_by_label("Password").fill(password or self.system.secrets["people"][name])
        page.get_by_role("button", name="Sign in").click()
        expect(page.get_by_role("navigation", name="Pages")).to_be_visible()
        return page

    def says(self, text: str) -> None:
        """Wait until the page begins with a sentence that holds this."""
        expect(self.page.get_by_role("heading", level=1)).to_contain_text(text)


@pytest.fixture
def desk(chromium: Browser, demo: System) -> Iterator[Callable[..., Desk]]:
    """Opens a browser for a person; none of them may have complained in the end."""
    opened: list[Desk] = []

    def make(name: str = "") -> Desk:
        looks = {"viewport": {"width": 1280, "height": 800}, "reduced_motion": "reduce", "color_scheme": "light"}
        context = chromium.new_context(**looks, locale="en-GB", timezone_id="UTC")
        one = Desk(context, demo)
        opened.append(one)
        if name:
            one.sign_in(name)
        return one

    yield make
    complaints = [text for one in opened for text in one.complaints]
    for one in opened:
        one.context.close()
    assert complaints == []


@contextmanager
def asked(page: Page) -> Iterator[Page]:
    """Inside an open dialog, which is closed by what is done in it."""
    dialog = page.get_by_role("dialog")
    expect(dialog).to_be_visible()
    yield page
    expect(dialog).to_be_hidden()
