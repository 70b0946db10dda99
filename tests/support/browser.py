"""A shop with a browser at it, for tests of the console."""

from __future__ import annotations

import unittest
from shutil import which

from playwright.sync_api import (
    Browser,
    Page,
    Playwright,
    Route,
    StorageState,
    ViewportSize,
    expect,
    sync_playwright,
)

from tests.support.world import PASSWORD, PERSON, WorldCase

CHROMIUM = [
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--disable-dev-shm-usage",
]  # fmt: skip
OWN = ("http://127.0.0.1", "http://localhost", "data:", "blob:")
PATIENT_MS = 90_000.0
MOVES = "new PerformanceObserver(() => (window.movedAt = performance.now())).observe({type: 'layout-shift'})"
AT_REST = """() => new Promise((rested) => {
    const look = () => {
        const here = document.getElementById("root")?.childElementCount && document.fonts.status === "loaded";
        const loading = document.querySelector('[role=status][aria-label="Loading"]');
        const since = performance.now() - (window.movedAt ?? 0);
        if ((here && !loading && since > 150) || performance.now() > 5000) rested();
        else setTimeout(look, 30);
    };
    look();
})"""
"""Until what was loading has come and nothing has moved for a moment, five seconds at most: what moves away while it is
pressed is not pressed."""
expect.set_options(timeout=PATIENT_MS)


class ConsoleCase(WorldCase):
    """Tests that share one world and one browser; a page that fails a script or asks the internet fails its test."""

    playwright: Playwright
    browser: Browser
    signed_in: StorageState

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        cls.playwright = sync_playwright().start()
        unittest.addModuleCleanup(cls.playwright.stop)
        found = which("chromium-headless-shell") or which("chromium")
        assert found, "neither chromium-headless-shell nor chromium is installed"
        cls.browser = cls.playwright.chromium.launch(executable_path=found, args=CHROMIUM)
        unittest.addModuleCleanup(cls.browser.close)
        context = cls.browser.new_context()
        who = {"login": PERSON, "password": PASSWORD}
        assert context.request.post(f"{cls.world.address}/api/sign-in", data=who).ok, "nobody is let in"
        cls.signed_in = context.storage_state()
        context.close()

    def open(
        self, path: str = "/", width: int = 1280, height: int = 800, signed_in: bool = True,
        holding: str = "", held: list[Route] | None = None,
    ) -> Page:  # fmt: skip
        """A page of the console in a window of its own, by somebody who has signed in, or not. Requests for addresses
        like `holding` are kept in `held` until they are continued."""
        window = ViewportSize(width=width, height=height)
        who = self.signed_in if signed_in else None
        context = self.browser.new_context(viewport=window, timezone_id="UTC", storage_state=who)
        self.addCleanup(context.close)
        page = context.new_page()
        page.set_default_timeout(PATIENT_MS)
        if held is not None:
            page.route(holding, lambda route: held.append(route))
        self.faults: list[str] = []
        page.on("crash", lambda _: self.faults.append("the page crashed"))
        page.on("pageerror", lambda error: self.faults.append(str(error)))
        page.on("request", lambda r: None if r.url.startswith(OWN) else self.faults.append(r.url))
        page.add_init_script(MOVES)
        page.goto(self.world.address + path)
        if held is None:
            page.evaluate(AT_REST)
        return page

    def assert_fits(self, page: Page) -> None:
        """No part of the page reaches past the window's right edge, in its own font or while that has not come yet;
        names those that do."""
        for font in ("", "sans-serif"):
            beyond = page.evaluate(
                """(font) => {
                    document.body.style.fontFamily = font;
                    const wide = document.documentElement.scrollWidth;
                    const right = (e) => Math.round(e.getBoundingClientRect().right);
                    const beyond = [...document.querySelectorAll("body *")].filter((e) => right(e) > innerWidth);
                    const told = beyond.map((e) => `${right(e)}: ${e.outerHTML.slice(0, 200)}`);
                    document.body.style.fontFamily = "";
                    return wide <= innerWidth ? [] : [wide, ...told];
                }""",
                font,
            )
            self.assertEqual(beyond, [], f"{page.url} {font}")

    def tearDown(self) -> None:
        self.assertEqual(getattr(self, "faults", []), [], "no script fails, and nothing is asked of the internet")
