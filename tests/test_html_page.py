"""The HTML page in a real browser: filters, folding, no request, no error, and text that stands out from its ground."""

from __future__ import annotations

import json
from itertools import pairwise
from typing import Any

from selenium import webdriver
from selenium.webdriver.chrome.options import Options
from selenium.webdriver.chrome.service import Service
from selenium.webdriver.common.by import By

from tests.support import TreeTest, rupex

CERTIFIED = "ssl_certificate /etc/ssl/site.pem; ssl_certificate_key /etc/ssl/site.key;"
QUIET = ("--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
         "--disable-component-update", "--disable-sync")  # fmt: skip

# The least contrast of any shown text with what lies behind it (WCAG 2.2, 1.4.3 and its relative luminance).
CONTRAST = """
function channel(c) { c /= 255; return c <= 0.04045 ? c / 12.92 : Math.pow((c + 0.055) / 1.055, 2.4); }
function light(rgb) { return 0.2126 * channel(rgb[0]) + 0.7152 * channel(rgb[1]) + 0.0722 * channel(rgb[2]); }
function parse(text) { const m = text.match(/[\\d.]+/g).map(Number); return text.startsWith("color(") ?
  [m[0] * 255, m[1] * 255, m[2] * 255, m.length > 3 ? m[3] : 1] : [m[0], m[1], m[2], m.length > 3 ? m[3] : 1]; }
function ground(node) { for (; node; node = node.parentElement) {
  const c = parse(getComputedStyle(node).backgroundColor); if (c[3] === 1) { return c; } } return [255, 255, 255, 1]; }
const walker = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
let worst = [99, ""];
while (walker.nextNode()) {
  const node = walker.currentNode.parentElement;
  if (!walker.currentNode.data.trim() || !node.checkVisibility() || node.closest("svg,script,style,.skip,option")) { continue; }
  const a = light(parse(getComputedStyle(node).color)), b = light(ground(node));
  const ratio = (Math.max(a, b) + 0.05) / (Math.min(a, b) + 0.05);
  if (ratio < worst[0]) { worst = [ratio, walker.currentNode.data.trim().slice(0, 40)]; }
}
return worst;
"""


class PageTest(TreeTest):
    def setUp(self) -> None:
        super().setUp()
        self.mint(["www.ternholm.test"], mode=0o644)
        self.write_nginx(
            f"server {{ listen 443 ssl; server_name www.ternholm.test; {CERTIFIED} ssl_protocols TLSv1.2; }}"
        )
        other = self.root.parent / "pier"
        self.root.rename(other)
        self.write_nginx("server { listen 80; server_name quay.ternholm.test; location /x { return 200 ok; } }")
        inventory = self.root.parent / "hosts.toml"
        inventory.write_text('[[hosts]]\nname = "pier"\ntree = "pier"\n[[hosts]]\nname = "quay"\ntree = "host"\n')
        self.page = self.root.parent / "fleet.html"
        done = rupex("fleet", inventory, "--now", "2026-11-24", "--quiet", "--output", self.page,
                     XDG_STATE_HOME=str(self.root.parent / "state"))  # fmt: skip
        assert self.page.is_file(), done.stderr
        options = Options()
        options.binary_location = "/usr/bin/chromium"
        for argument in (*QUIET, f"--user-data-dir={self.root.parent / 'profile'}", "--window-size=1280,800"):
            options.add_argument(argument)
        options.set_capability("goog:loggingPrefs", {"browser": "ALL", "performance": "ALL"})
        self.browser = webdriver.Chrome(options=options, service=Service("/usr/bin/chromedriver"))
        self.addCleanup(self.browser.quit)
        self.browser.get(self.page.as_uri())

    def shown(self) -> list[str]:
        cards = self.browser.find_elements(By.CSS_SELECTOR, "details.finding")
        return [str(card.get_attribute("data-control")) for card in cards if card.is_displayed()]

    def find(self, css: str) -> Any:
        return self.browser.find_element(By.CSS_SELECTOR, css)

    def test_it_filters_sorts_and_folds(self) -> None:
        every = self.shown()
        self.assertGreater(len(every), 15)
        self.find("input[name=words]").send_keys("key.mode")
        self.assertEqual(set(self.shown()), {"key.mode"})
        self.assertIn("1 of", self.find("nav output").text)
        self.find("input[name=words]").clear()
        self.find("input[name=words]").send_keys(" ")
        for severity in ("medium", "low"):
            self.find(f"input[value={severity}]").click()
        cards = self.browser.find_elements(By.CSS_SELECTOR, "details.finding")
        severities = {card.get_attribute("data-severity") for card in cards if card.is_displayed()}
        self.assertLessEqual(severities, {"critical", "high"})
        self.assertTrue(severities)
        for severity in ("medium", "low"):
            self.find(f"input[value={severity}]").click()
        self.assertEqual(self.shown(), every)
        self.find("select[name=host] option:nth-child(3)").click()
        self.assertLess(len(self.shown()), len(every))
        self.assertFalse(self.find("section.host[data-host=pier]").is_displayed())
        self.find("select[name=host] option:nth-child(1)").click()
        self.find("select[name=sort] option[value=control]").click()
        first = [c.get_attribute("data-control") for c in self.browser.find_elements(
            By.CSS_SELECTOR, "section.host[data-host=pier] details.finding")]  # fmt: skip
        self.assertEqual(first, sorted(map(str, first)))
        self.find("button[name=fold]").click()
        self.assertEqual(self.browser.find_elements(By.CSS_SELECTOR, "details.finding[open]"), [])
        self.find("button[name=unfold]").click()
        self.assertEqual(self.browser.find_elements(By.CSS_SELECTOR, "details.finding:not([open])"), [])

    def test_it_asks_for_nothing_and_complains_of_nothing(self) -> None:
        self.assertEqual(self.browser.get_log("browser"), [])  # type: ignore[no-untyped-call]
        events = [json.loads(entry["message"])["message"] for entry in self.browser.get_log("performance")]  # type: ignore[no-untyped-call]
        asked = [e["params"]["request"]["url"] for e in events if e["method"] == "Network.requestWillBeSent"]
        self.assertEqual([url for url in asked if url.startswith("http")], [])
        self.browser.execute_script(
            "document.body.insertAdjacentHTML('beforeend', '<img src=https://stranger.test/x>')"
        )
        refused = [entry for entry in self.browser.get_log("browser") if "Content Security Policy" in entry["message"]]  # type: ignore[no-untyped-call]
        self.assertTrue(refused, "the page's own policy lets a picture in")

    def test_text_stands_out_in_light_and_dark(self) -> None:
        for scheme in ("light", "dark"):
            self.browser.execute_cdp_cmd(
                "Emulation.setEmulatedMedia", {"features": [{"name": "prefers-color-scheme", "value": scheme}]}
            )
            ratio, text = self.browser.execute_script(CONTRAST)
            with self.subTest(scheme):
                self.assertGreaterEqual(ratio, 4.5, text)

    def test_it_reads_without_script_and_by_its_structure(self) -> None:
        self.browser.execute_cdp_cmd("Emulation.setScriptExecutionDisabled", {"value": True})
        self.browser.refresh()
        self.assertFalse(self.find("nav.tools").is_displayed())
        self.assertGreater(len(self.shown()), 15)
        self.browser.execute_cdp_cmd("Emulation.setScriptExecutionDisabled", {"value": False})
        unnamed = self.browser.find_elements(By.CSS_SELECTOR, "svg:not([aria-hidden]):not([aria-label])")
        self.assertEqual(unnamed, [])
        levels = [int(h.tag_name[1]) for h in self.browser.find_elements(By.CSS_SELECTOR, "h1, h2, h3")]
        self.assertTrue(all(later - earlier <= 1 for earlier, later in pairwise(levels)), levels)
