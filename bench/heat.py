"""A day of heat at a reading a second: how long until it is on the page, beside the bare query. Run it with `make
bench`."""

from __future__ import annotations

import statistics
import time
from datetime import timedelta
from shutil import which

from playwright.sync_api import sync_playwright

from bench.stolen import Stolen
from chronarch.client import requests
from tests.support.browser import CHROMIUM
from tests.support.world import PASSWORD, PERSON, World, close_all, eventually

HOURS, TURNS = 24, 9
MOST_MS = 150
DRAW = """async name => {
    const began = performance.now();
    const plot = document.querySelector(".heat-plot");
    [...document.querySelectorAll("[aria-label='Span of heat'] button")].find(b => b.textContent === name).click();
    const before = plot.dataset.points;
    while (document.querySelector(".heat-plot")?.dataset.points === before) await new Promise(requestAnimationFrame);
    await new Promise(requestAnimationFrame);
    return [performance.now() - began, Number(document.querySelector(".heat-plot").dataset.points)];
}"""


def fill(w: World) -> None:
    """A day of readings of the first machine."""
    now = w.client.do(requests.shop()).now.replace(microsecond=0)
    (machine,) = w.rows("select id from machine order by id limit 1")[0]
    begin = now - timedelta(hours=HOURS)
    for start in range(0, HOURS * 3600, 7200):
        values = ",".join(
            f"({machine}, timestampadd(second, {n}, :begin), {200 + n % 7 / 3:.2f}, 200, {60 + n % 5 / 9:.2f}, 60)"
            for n in range(start, start + 7200)
        )
        columns = "machine_id, at, nozzle_c, nozzle_asked_c, bed_c, bed_asked_c"
        w.sql(f"insert ignore into reading ({columns}) values {values}", begin=begin.replace(tzinfo=None))


def main() -> None:
    w = World(("Anchor",), rate=1.0)
    try:
        w.start()
        fill(w)
        w.sql("delete from reading_mean")
        means = "select count(*) from reading_mean where span_s = 60"
        eventually(lambda: w.rows(means)[0][0] >= HOURS * 60 - 5, "the means of the day are made")
        now = w.client.do(requests.shop()).now
        stolen, asked, bare = Stolen(), [], []
        for _ in range(TURNS):
            began = time.perf_counter()
            curve = w.client.do(requests.heat("Anchor", now - timedelta(hours=HOURS), now))
            asked.append((time.perf_counter() - began) * 1000)
            began = time.perf_counter()
            w.rows("select min(at), avg(nozzle_c), avg(bed_c) from reading group by floor(timestampdiff(second, '2000-01-01', at) / 58)")  # fmt: skip  # noqa: E501
            bare.append((time.perf_counter() - began) * 1000)
        with sync_playwright() as play:
            found = which("chromium-headless-shell") or which("chromium")
            browser = play.chromium.launch(executable_path=found, args=CHROMIUM)
            context = browser.new_context()
            context.request.post(f"{w.address}/api/sign-in", data={"login": PERSON, "password": PASSWORD})
            page = context.new_page()
            drawn = []
            for _ in range(TURNS):
                page.goto(f"{w.address}/machines/Anchor")
                page.wait_for_selector(".heat-plot")
                took, points = page.evaluate(DRAW, "1 day")
                drawn.append(took)
            browser.close()
        took = statistics.median(drawn)
        over = "" if took < MOST_MS else "  OVER"
        request, query = statistics.median(asked), statistics.median(bare)
        print(
            f"a day of heat at 1 Hz: on the page {took:.0f} ms after the click, {max(drawn):.0f} at worst of {TURNS} "
            f"(under {MOST_MS}){over}, {points} points; the request {request:.0f} ms, the bare query {query:.0f} ms, "
            f"ratio {request / query:.2f}; {len(curve.at)} points of {HOURS * 3600} readings; "
            f"{stolen.share():.0%} stolen"
        )
    finally:
        w.close()
        close_all()


if __name__ == "__main__":
    main()
