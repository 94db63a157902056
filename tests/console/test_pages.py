"""Every page: sound for a screen reader and on a small screen, without a complaint, and smooth with ten thousand rows."""

from __future__ import annotations

import json
import time
from collections.abc import Callable
from pathlib import Path

import httpx
import psycopg
from playwright.sync_api import expect

from tests.console.conftest import Desk
from tests.support import System, until

PAGES = (
    "/",
    "/lines",
    "/lines/gauge-collector",
    "/lines/surge-model",
    "/versions/gauge-collector@1.3.0",
    "/versions/gauge-collector@1.3.0?show=contents",
    "/versions/gauge-collector@1.3.0?show=difference",
    "/versions/gauge-collector@1.4.0?show=findings",
    "/versions/gauge-collector@1.3.0?show=proof",
    "/versions/gauge-collector@1.3.0?show=where",
    "/versions/gauge-logger@1.1.0?show=checks",
    "/sheets",
    "/sheets/gauge-logging",
    "/sheets/gauge-panel",
    "/versions/gauge-collector@1.3.0?show=events",
    "/machines",
    "/machines/skerry-1/gauge-seed-01",
    "/operations",
    "/instances",
    "/instances?behind=true",
    "/launch?of=gauge-collector",
    "/calendar",
    "/ledger",
    "/packages?name=openssl",
    "/regions",
    "/people",
    "/people?show=tokens",
    "/people?show=shares",
    "/people?show=rules",
    "/people?show=first-boot",
    "/people?show=secrets",
    "/people?show=messages",
    "/people?show=keys",
    "/nowhere",
)
AXE = Path(__file__).parents[2] / "console/node_modules/axe-core/axe.min.js"
_JUDGE = """async () => {
  const found = await axe.run(document, { resultTypes: ["violations"] });
  return found.violations.filter((v) => ["moderate", "serious", "critical"].includes(v.impact))
    .map((v) => `${v.id}: ${v.nodes.slice(0, 3).map((n) => n.html).join(" | ")}`);
}"""


def test_every_page_is_sound_by_day_by_night_and_on_a_small_screen(desk: Callable[..., Desk]) -> None:
    mara, wrong = desk("mara"), []
    for path in PAGES:
        mara.page.set_viewport_size({"width": 1280, "height": 800})
        mara.page.emulate_media(color_scheme="light")
        page = mara.open(path)
        expect(page.get_by_role("heading", level=1)).to_be_visible()
        expect(page.get_by_text("Loading …")).to_have_count(0)
        page.evaluate(AXE.read_text())
        for scheme, theme in (("light", "day"), ("dark", "night")):
            page.emulate_media(color_scheme=scheme)
            expect(page.locator(f"html[data-theme={theme}]")).to_have_count(1)
            wrong += [f"{path} by {theme}: {text}" for text in page.evaluate(_JUDGE)]
        for width in (1280, 390):
            page.set_viewport_size({"width": width, "height": 800})
            beyond = page.evaluate("document.documentElement.scrollWidth - document.documentElement.clientWidth")
            if beyond > 0:
                wrong.append(f"{path}: {beyond} pixels wider than a screen of {width}")
    assert wrong == []
    page = mara.open("/people?show=keys")  # still on the small screen
    for row, name in (("navigation", "People"), ("tablist", "Keys")):
        expect(page.get_by_role(row).get_by_text(name, exact=True)).to_be_in_viewport()


def test_the_page_of_the_api_calls_it_without_the_internet(desk: Callable[..., Desk], demo: System) -> None:
    mara, asked = desk("mara"), list[str]()
    mara.page.on("request", lambda request: asked.append(request.url))
    page = mara.open("/api/docs")
    expect(page.get_by_role("heading", name="Bathotype")).to_be_visible()
    page.get_by_text("Sessions, tokens, members and keys.").click()
    page.locator("[id*='api_v1_session_get'] .opblock-summary").click()
    page.get_by_role("button", name="Execute").first.click()
    expect(page.get_by_text('"user": "mara"').first).to_be_visible()
    assert all(url.startswith((demo.url, "data:")) for url in asked), asked


def test_ten_thousand_instances_are_scrolled_through(desk: Callable[..., Desk], demo: System) -> None:
    made = """
        insert into instances (id, account_id, version_id, name, region, zone, size, state, origin, host_name,
                               first_boot, identity, launched_at)
        select 'in-zz' || lpad(n::text, 8, '0'), i.account_id, i.version_id, 'many-' || n, 'skerry-1', '', 'small',
               'pending', 'launched', '', '{}', '{}', now()
        from generate_series(1, 10000) n, (select * from instances where name = 'quay-01') i
    """
    with psycopg.connect(demo.postgres.url("bathotype"), autocommit=True) as database:
        database.execute(made)
        try:
            mara = desk("mara")
            page = mara.open("/instances?state=pending")
            rows = page.get_by_role("row")
            expect(page.get_by_role("link", name="many-10000", exact=True)).to_be_visible()
            assert rows.count() < 80, "only what is in sight is drawn"

            def at_the_end() -> bool:
                page.mouse.wheel(0, 60_000)
                page.wait_for_timeout(50)
                return page.get_by_role("link", name="many-1", exact=True).count() == 1

            until(at_the_end, seconds=60)
            assert rows.count() < 80
        finally:
            database.execute("delete from instances where id like 'in-zz%'")


def test_the_feed_tells_what_was_missed_and_ends_with_the_right_to_read(demo: System) -> None:
    with demo.core as client:
        token = demo.token("viewer", days=1)
        [held] = [t for t in client.tokens() if t.user.startswith("viewer-of") and t.revoked_at is None][-1:]
        headers = {"Authorization": f"Bearer {token}"}

        def read(last: str = "", until_event: str = "beat") -> list[tuple[str, str, str]]:
            told, name, number = [], "", ""
            more = {"Last-Event-ID": last} if last else {}
            with httpx.stream(
                "GET", f"{demo.url}/api/v1/feed", headers=headers | more, timeout=30, trust_env=False
            ) as feed:
                assert feed.status_code == 200
                for line in feed.iter_lines():
                    key, _, value = line.partition(": ")
                    name, number = (value, number) if key == "event" else (name, value if key == "id" else number)
                    if key == "data":
                        told.append((name, number, value))
                        if name == until_event:
                            return told
            return told

        last = read()[-1][1]
        client.create_line("while-away")
        missed = [json.loads(data) for name, _, data in read(last) if name == "event"]
        assert [m["subject"] for m in missed if m["action"] == "line.created"] == ["while-away"]
        client.revoke_token(held.id)
        began = time.monotonic()
        assert httpx.get(f"{demo.url}/api/v1/feed", headers=headers, trust_env=False).status_code == 401
        assert time.monotonic() - began < 20
    assert httpx.get(f"{demo.url}/api/v1/feed", trust_env=False, params={"account": "tide-core"}).status_code == 401
