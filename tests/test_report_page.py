"""The page of `report` in a real browser: filters, explanations, keyboard, contrast, paper; and hostile values."""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright

from tests.conftest import DEMO, Coinjar
from tests.consumers import need

_QUIET = (
    "--no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking "
    "--disable-component-update --disable-sync"
)
HOSTILE = "\"'><img src=x onerror=hacked()></script><script>hacked()</script>{{7*7}}${HOME}&lt;"
NAMED = "A\"%41<b>'&`|$x#"
_PATIENCE = 60_000


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    with sync_playwright() as driver:
        started = driver.chromium.launch(executable_path=need("chromium"), args=_QUIET.split(), timeout=_PATIENCE)
        yield started
        started.close()


@pytest.fixture(scope="module")
def report(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo's page, with a finding that is accepted, ages, readers and a missing value."""
    cj = Coinjar(tmp_path_factory.mktemp("report"))
    shutil.copytree(DEMO, cj.folder, dirs_exist_ok=True)
    cj("readers", "seal")
    cj("declare", "PIER_CLOCK", "--required", "--service", "timetable")
    cj("report", "--out", "report.html")
    return cj.folder / "report.html"


@pytest.fixture
def show(browser: Browser) -> Iterator[Callable[..., Page]]:
    """Opens a page; at the end nothing may have been complained of, asked for or run."""
    pages: list[tuple[Page, list[str]]] = []

    def open_page(path: Path, *, width: int = 1280, scheme: Any = "light") -> Page:
        page = browser.new_page(viewport={"width": width, "height": 800}, color_scheme=scheme)
        page.set_default_timeout(_PATIENCE)
        told: list[str] = []
        page.on("console", lambda message: told.append(message.text))
        page.on("pageerror", lambda error: told.append(str(error)))
        page.on("request", lambda request: told.append(request.url) if request.url != path.as_uri() else None)
        page.expose_function("hacked", lambda: told.append("hacked"))
        page.goto(path.as_uri())
        pages.append((page, told))
        return page

    yield open_page
    for page, told in pages:
        page.close()
        assert told == []


def seen_rows(page: Page) -> list[str]:
    names: list[str] = page.eval_on_selector_all(
        "#grid tbody tr", "rows => rows.filter(row => row.offsetParent).map(row => row.dataset.name)"
    )
    return names


def test_the_filters(report: Path, show: Callable[..., Page]) -> None:
    cj = Coinjar(report.parent)
    variables = json.loads(cj("report", "--json").out)["variables"]
    page = show(report)
    everything = [variable["name"] for variable in variables]
    assert seen_rows(page) == everything
    assert page.inner_text("#count") == f"{len(everything)} variables"
    page.fill("input[name=name]", "ticket_db")
    assert seen_rows(page) == [name for name in everything if "TICKET_DB" in name]
    page.check("input[name=differs]")
    wanted = [row["name"] for row in variables if "TICKET_DB" in row["name"] and row["agreement"] == "different"]
    assert seen_rows(page) == wanted
    assert page.inner_text("#count") == f"{len(wanted)} of {len(everything)} variables"
    page.click("button[type=reset]")
    expect(page.locator("#count")).to_have_text(f"{len(everything)} variables", timeout=_PATIENCE)
    page.select_option("select[name=service]", "berths")
    assert seen_rows(page) == [row["name"] for row in variables if "berths" in row["services"]]
    page.select_option("select[name=service]", "")
    page.check("input[name=missing]")
    assert "PIER_CLOCK" in seen_rows(page)
    assert seen_rows(page) == [row["name"] for row in variables if row["missing"]]
    page.uncheck("input[name=missing]")
    page.select_option("select[name=state]", "shared")
    wanted = [row["name"] for row in variables if any(cell["state"] == "shared" for cell in row["cells"].values())]
    assert seen_rows(page) == wanted


def test_a_cell_is_explained(report: Path, show: Callable[..., Page]) -> None:
    """The same layers and the same winner as `why` tells."""
    page = show(report)
    told = json.loads(Coinjar(report.parent)("why", "prod", "LOG_LEVEL", "-s", "timetable", "--json").out)
    column = page.eval_on_selector_all("#grid thead th", "all => all.map(one => one.textContent)").index("prod") - 2
    page.locator("tr[data-name=LOG_LEVEL] td").nth(column).click()
    assert page.inner_text("dialog h2") == "LOG_LEVEL on prod"
    part = page.evaluate(
        "[...document.querySelectorAll('dialog h3')].find(one => one.textContent.includes('timetable'))"
        ".nextElementSibling.nextElementSibling.innerText"
    )
    lines = [line for line in part.splitlines() if line.strip()]
    for line, layer in zip(lines, reversed(told["layers"]), strict=True):
        assert line.startswith(f"{layer['layer']}: {layer['says']} ({layer['file']}:{layer['line']})")
        assert ("takes effect" in line) == layer["wins"]
    page.keyboard.press("Escape")
    assert not page.is_visible("dialog")
    page.locator("tr[data-name=LOG_LEVEL] td").nth(column).click()
    page.click("dialog a")
    assert page.is_visible("#v-LOG_LEVEL .places")
    assert not page.is_visible("dialog")


def test_with_the_keyboard_alone(report: Path, show: Callable[..., Page]) -> None:
    page = show(report)
    stops = []
    for _ in range(30):
        page.keyboard.press("Tab")
        stops.append(
            page.evaluate("document.activeElement.name || document.activeElement.textContent.trim().slice(0, 30)")
        )
        if stops[-1] == "APP_TITLE":
            break
    order = [
        "Skip to the variables",
        "Overview",
        "name",
        "service",
        "state",
        "differs",
        "missing",
        "Show all",
        "APP_TITLE",
    ]
    assert [stop for stop in stops if stop in order] == order
    page.keyboard.press("ArrowRight")
    page.keyboard.press("ArrowDown")
    place = "[document.activeElement.parentElement.dataset.name, document.activeElement.cellIndex]"
    assert page.evaluate(place) == ["LISTEN_PORT", 2]
    page.keyboard.press("End")
    page.keyboard.press("Home")
    page.keyboard.press("ArrowRight")
    page.keyboard.press("Enter")
    assert page.inner_text("dialog h2") == "LISTEN_PORT on dev"
    assert page.evaluate("document.activeElement.textContent") == "Close"
    page.keyboard.press("Enter")
    assert page.evaluate(place) == ["LISTEN_PORT", 2]  # back where it was
    outline = page.evaluate("getComputedStyle(document.activeElement).outlineStyle")
    assert outline == "solid"


_CONTRASTS = """() => {
  const rgba = (text) => { const [r, g, b, a = 1] = text.match(/[\\d.]+/g).map(Number); return [r, g, b, a]; };
  const light = ([r, g, b]) => {
    const part = (one) => { const c = one / 255; return c <= .04045 ? c / 12.92 : ((c + .055) / 1.055) ** 2.4; };
    return .2126 * part(r) + .7152 * part(g) + .0722 * part(b);
  };
  const behind = (node) => {
    for (let one = node; one; one = one.parentElement) {
      const colour = rgba(getComputedStyle(one).backgroundColor);
      if (colour[3] === 1) return colour;
    }
    return [255, 255, 255, 1];
  };
  const ratio = (one, other) => {
    const [low, high] = [light(one), light(other)].sort((a, b) => a - b);
    return (high + .05) / (low + .05);
  };
  const found = [];
  for (const node of document.querySelectorAll('body *')) {
    const own = [...node.childNodes].some((one) => one.nodeType === 3 && one.textContent.trim());
    const unseen = ['SCRIPT', 'STYLE', 'OPTION', 'TITLE'].includes(node.tagName.toUpperCase());
    if (!own || unseen || !node.getClientRects().length) continue;
    const style = getComputedStyle(node);
    const drawn = node instanceof SVGElement;
    let back = behind(node);
    const cells = drawn && /^[\\d]+$/.test(node.textContent.trim())
      ? [...node.closest('svg').querySelectorAll('[style*="opacity"]')].map((one) => getComputedStyle(one).fill) : [];
    const accent = cells.find((fill) => fill !== 'none');
    if (accent) back = back.map((one, at) => one * .5 + rgba(accent)[at] * .5);  // the matrix's darkest cell
    const value = ratio(rgba(drawn ? style.fill : style.color), back);
    if (value < 4.5) found.push([node.tagName, node.textContent.trim().slice(0, 40), value]);
  }
  return found;
}"""


@pytest.mark.parametrize("scheme", ["light", "dark"])
def test_every_text_can_be_read(report: Path, show: Callable[..., Page], scheme: str) -> None:
    """4.5 to 1, as WCAG 2.2 asks (1.4.3), in the page, in the figures and in the explanation of a cell."""
    page = show(report, scheme=scheme)
    page.evaluate("document.querySelectorAll('details').forEach(one => { one.open = true; })")
    assert page.evaluate(_CONTRASTS) == []
    page.locator("tr[data-name=LISTEN_PORT] td").first.click()
    assert page.evaluate(_CONTRASTS) == []


_NAMELESS = """() => {
  const named = (one) => one.getAttribute('aria-label') ||
    document.getElementById(one.getAttribute('aria-labelledby')) || one.labels?.[0]?.innerText.trim() ||
    (one.tagName === 'BUTTON' && one.innerText) || one.parentElement.closest('svg');
  const all = document.querySelectorAll('input, select, button, svg, section, nav, [role=region], dialog');
  return [...all].filter((one) => !named(one)).map((one) => one.outerHTML.slice(0, 80));
}"""


def test_everything_has_a_name(report: Path, show: Callable[..., Page]) -> None:
    """Inputs, figures, tables that scroll and sections, for those who hear the page."""
    page = show(report)
    without = page.evaluate(_NAMELESS)
    assert without == []
    assert page.evaluate("document.querySelectorAll('h1').length") == 1
    assert page.evaluate("document.documentElement.lang") == "en"
    doubles = "() => { const all = [...document.querySelectorAll('[id]')].map(one => one.id); "
    doubles += "return all.filter((one, at) => all.indexOf(one) !== at); }"
    assert page.evaluate(doubles) == []


@pytest.mark.parametrize("width", [400, 1280])
def test_nothing_is_wider_than_the_screen(report: Path, show: Callable[..., Page], width: int) -> None:
    page = show(report, width=width)
    page.evaluate("document.querySelectorAll('details').forEach(one => { one.open = true; })")
    assert page.evaluate("document.documentElement.scrollWidth") <= width


def test_on_paper(report: Path, show: Callable[..., Page]) -> None:
    page = show(report)
    assert len(page.pdf()) > 20_000
    assert page.evaluate("document.querySelectorAll('details:not([open])').length") == 0
    page.emulate_media(media="print")
    assert not page.is_visible("nav")
    assert not page.is_visible("#filters")


def test_hostile_values_do_nothing(cj: Coinjar, show: Callable[..., Page]) -> None:
    quoted = json.dumps(HOSTILE)
    cj.write(
        {
            "jar/jar.yaml": f"coinjar: 1\napp: trial\nservices: {{web: {{about: {quoted}}}}}\n"
            f"stages: {{dev: {{about: {quoted}}}, prod: {{}}}}\nvariables:\n"
            f"  A: {{about: {quoted}, default: {quoted}}}\n  B: {{kind: port}}\n  {json.dumps(NAMED)}: {{default: x}}\n"
            f"accepted:\n  - {{rule: CJ003, variable: B, reason: {quoted}}}\n",
            "jar/plain/dev.yaml": f"all: {{A: {quoted}, B: {quoted}}}\nweb: {{A: {quoted}}}\n",
        }
    )
    cj("report", "--out", "report.html")
    page = show(cj.folder / "report.html")
    page.locator("tr[data-name=A] td").first.click()
    assert HOSTILE in page.inner_text("dialog")
    page.keyboard.press("Escape")
    page.locator("#grid tbody tr").nth(2).locator("td").first.click()
    assert page.inner_text("dialog h2") == f"{NAMED} on dev"
    page.click("dialog a")
    assert page.evaluate("name => document.getElementById(`v-${name}`).open", NAMED)
    page.evaluate("document.querySelectorAll('details').forEach(one => { one.open = true; })")
    assert HOSTILE in str(page.text_content("#v-A"))
    assert page.locator("img").count() == 0
