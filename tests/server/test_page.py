"""The page in a browser: what people choose, click and type, and the numbers that they read."""

from __future__ import annotations

import io
import re
import shutil
import tempfile
import warnings

import netCDF4
import numpy as np
import pytest
from PIL import Image
from test_serve import Running, folder  # noqa: F401

webdriver = pytest.importorskip("selenium.webdriver")
pytest.importorskip("bokeh")
from selenium.webdriver.chrome.service import Service  # noqa: E402
from selenium.webdriver.common.action_chains import ActionChains  # noqa: E402
from selenium.webdriver.common.keys import Keys  # noqa: E402
from selenium.webdriver.support.ui import Select, WebDriverWait  # noqa: E402

pytestmark = pytest.mark.slow
_PATIENCE = 60
_QUIET = [
    "headless=new",
    "no-sandbox",
    "disable-gpu",
    "disable-quic",
    "no-first-run",
    "disable-sync",
    "disable-background-networking",
    "disable-component-update",
    "hide-scrollbars",
]


@pytest.fixture(scope="module")
def browser():
    program, driver = shutil.which("chromium"), shutil.which("chromedriver")
    if program is None or driver is None:
        said = "the page was tried in no browser: chromium and chromedriver are not installed"
        warnings.warn(said, stacklevel=1)
        pytest.skip(said)
    options = webdriver.ChromeOptions()
    options.binary_location = program
    with tempfile.TemporaryDirectory() as profile:
        for word in (*_QUIET, f"user-data-dir={profile}"):
            options.add_argument(f"--{word}")
        options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
        started = webdriver.Chrome(options, Service(driver))
        yield started
        started.quit()


@pytest.fixture(scope="module")
def site(folder):  # noqa: F811
    running = Running(folder, "serve", "maps.nc", "other=types.nc")
    yield running
    running.stop()


class Page:
    """One dataset's page in the browser."""

    def __init__(self, browser, address, width=1280, height=800):
        self.browser = browser
        browser.get("about:blank")
        browser.execute_cdp_cmd(
            "Emulation.setDeviceMetricsOverride",
            {
                "width": width,
                "height": height,
                "deviceScaleFactor": 1,
                "mobile": width < 500,
            },
        )
        browser.get(address)
        self.wait(lambda: self.find("map").get_attribute("data-shown"))

    def find(self, name):
        return self.browser.find_element("id", name)

    def wait(self, condition):
        WebDriverWait(self.browser, _PATIENCE).until(lambda _: condition())

    def shown(self):
        return int(self.find("map").get_attribute("data-shown") or 0)

    def after(self, work):
        """Do something, and wait until the map that it asks for is there."""
        before = self.shown()
        work()
        self.wait(lambda: self.shown() > before)

    @property
    def value(self):
        return float(self.find("value").get_attribute("data-value"))

    def press(self, *keys):
        ActionChains(self.browser).send_keys(*keys).perform()

    def errors(self):
        return [
            line
            for line in self.browser.get_log("browser")
            if line["level"] == "SEVERE"
        ]


@pytest.fixture(scope="module")
def values(folder):  # noqa: F811
    with netCDF4.Dataset(folder / "maps.nc") as file:
        file.set_auto_mask(False)
        return file["tas"][...]


def test_a_click_reads_the_value_and_the_series_of_its_cell(browser, site, values):
    page = Page(browser, f"{site.root}/view/maps#t=2000-04&view=-200,-90,200,90")
    assert page.find("date").text == "April 2000"
    map_, size = page.find("map"), page.find("map").size
    ActionChains(browser).move_to_element_with_offset(
        map_, int(size["width"] * 0.21), int(-size["height"] * 0.2)
    ).click().perform()
    page.wait(lambda: page.find("value").get_attribute("data-value"))
    text = page.find("value").text
    found = re.search(r"([\d.]+) K, ([\d.]+)°([NS]) ([\d.]+)°([EW]), April 2000", text)
    assert found, text
    north = float(found.group(2)) * (1 if found.group(3) == "N" else -1)
    east = float(found.group(4)) * (1 if found.group(5) == "E" else -1) % 360
    row, column = int((north + 60) / 20), int(east / 40)
    assert page.value == pytest.approx(float(values[3, row, column]), rel=1e-6)
    assert page.find("series").get_attribute("data-count") == "36"
    link = page.find("download").get_attribute("href").removeprefix(site.root)
    rows = site.get(link)[2].decode().splitlines()[1:]
    series = [float(line.split(",")[-1] or "nan") for line in rows]
    np.testing.assert_allclose(series, values[:, row, column], rtol=1e-6)
    assert not page.errors()


def test_time_variables_and_limits_change_the_map_and_the_address_keeps_them(
    browser, site
):
    page = Page(browser, f"{site.root}/view/maps#t=2000-06")
    for button, date in (
        ("first", "January 2000"),
        ("forward", "February 2000"),
        ("back", "January 2000"),
        ("last", "December 2002"),
    ):
        page.after(page.find(button).click)
        assert page.find("date").text == date
    page.after(page.find("play").click)
    page.wait(lambda: page.find("date").text not in ("December 2002", "January 2000"))
    page.find("play").click()
    assert page.find("play").get_attribute("aria-pressed") == "false"
    before = page.find("legend-image").get_attribute("src")
    page.find("low").send_keys("270")
    page.after(lambda: page.find("high").send_keys("290", Keys.TAB))
    assert page.find("legend-image").get_attribute("src") != before
    page.after(lambda: Select(page.find("palette")).select_by_value("viridis"))
    page.after(page.find("zoom-in").click)
    page.after(page.find("smooth").click)
    address = browser.current_url
    for word in ("low=270", "palette=viridis", "smooth=1", "view=", "t=200"):
        assert word in address
    date = page.find("date").text
    again = Page(browser, address)
    assert again.find("date").text == date
    assert again.find("low").get_attribute("value") == "270"
    assert Select(again.find("palette")).first_selected_option.text == "viridis"
    assert again.find("smooth").is_selected()
    assert not page.errors()


def test_units_a_second_map_and_a_pole_are_chosen_and_kept_in_the_address(
    browser, site, values
):
    page = Page(browser, f"{site.root}/view/maps#t=2000-01&at=40,20")
    page.wait(lambda: page.find("value").get_attribute("data-value"))
    kelvin = page.value
    Select(page.find("units-choice")).select_by_visible_text("°C")
    page.wait(lambda: page.value < 100)
    assert page.value == pytest.approx(kelvin - 273.15, abs=1e-4)
    assert "°C" in page.find("value").text
    # The first map stays beside, whatever is chosen next, and both go together.
    page.find("pin").click()
    page.wait(lambda: page.find("second-map").get_attribute("innerHTML"))
    assert page.find("second-title").text.endswith("January 2000")
    page.after(page.find("forward").click)
    assert page.find("second-title").text.endswith("January 2000")
    again = Page(browser, browser.current_url)
    assert again.find("date").text == "February 2000"
    again.wait(lambda: again.find("second-title").text.endswith("January 2000"))
    assert Select(again.find("units-choice")).first_selected_option.text == "°C"
    again.find("pin").click()
    again.wait(lambda: not again.find("second").is_displayed())
    # On the map of a pole a click is a place in metres.
    again.after(lambda: Select(again.find("projection")).select_by_index(1))
    assert not again.find("draw-box").is_displayed()
    map_ = again.find("map")
    ActionChains(browser).move_to_element_with_offset(map_, 0, 160).click().perform()
    # Of the place that was chosen before the text says 20.00°E.
    again.wait(lambda: re.search(r"\b0\.00°E", again.find("value").text))
    row = int(re.search(r"(\d+)\.00°N", again.find("value").text).group(1)) // 20 + 3
    expected = float(values[1, row, 0]) - 273.15
    assert again.value == pytest.approx(expected, abs=1e-3)
    assert not again.errors()


def test_the_first_picture_waits_for_no_library(browser, site):
    browser.execute_cdp_cmd("Network.enable", {})
    browser.execute_cdp_cmd("Network.setBlockedURLs", {"urls": ["*bokeh*"]})
    try:
        browser.get("about:blank")
        browser.get(f"{site.root}/view/maps#t=2000-04")
        shown = "return document.querySelector('#map img')?.naturalWidth"
        WebDriverWait(browser, _PATIENCE).until(lambda b: b.execute_script(shown))
    finally:
        browser.execute_cdp_cmd("Network.setBlockedURLs", {"urls": []})
        browser.get_log("browser")


def test_wheel_and_drag_move_the_map_and_a_box_gives_its_mean(browser, site, values):
    page = Page(browser, f"{site.root}/view/maps#t=2000-01&view=-200,-90,200,90")
    map_, size = page.find("map"), page.find("map").size
    wide = _view(browser)
    page.after(
        lambda: (
            ActionChains(browser).scroll_from_origin(_origin(map_), 0, -300).perform()
        )
    )
    assert _view(browser)[2] - _view(browser)[0] < wide[2] - wide[0]
    page.after(
        lambda: (
            ActionChains(browser)
            .move_to_element(map_)
            .click_and_hold()
            .move_by_offset(120, 0)
            .release()
            .perform()
        )
    )
    page.after(page.find("whole").click)
    page.find("draw-box").click()
    left, up = int(size["width"] * 0.1), int(size["height"] * 0.12)
    ActionChains(browser).move_to_element_with_offset(
        map_, -left, -up
    ).click_and_hold().move_by_offset(2 * left, 2 * up).release().perform()
    page.wait(lambda: "mean of" in page.find("value").text)
    ends = [
        float(part)
        for part in re.search(r"box=([^&]+)", browser.current_url)
        .group(1)
        .replace("%2C", ",")
        .split(",")
    ]
    rows = [r for r in range(7) if ends[1] <= 20 * r - 60 <= ends[3]]
    columns = [c for c in range(9) if (40 * c - ends[0]) % 360 <= ends[2] - ends[0]]
    weights = np.cos(np.radians(20.0 * np.array(rows) - 60))
    means = values[0][np.ix_(rows, columns)].mean(axis=1)
    assert page.value == pytest.approx(
        float(np.average(means, weights=weights)), rel=1e-5
    )
    assert not page.errors()


def test_the_keyboard_is_enough(browser, site, values):
    page = Page(browser, f"{site.root}/view/maps#t=2000-03&view=-200,-90,200,90")
    page.find("variable").send_keys(Keys.TAB)
    reached = set()
    for _ in range(40):
        reached.add(browser.switch_to.active_element.get_attribute("id"))
        if browser.switch_to.active_element.get_attribute("id") == "map":
            break
        page.press(Keys.TAB)
    assert {
        "palette",
        "low",
        "high",
        "smooth",
        "first",
        "play",
        "step",
        "map",
    } <= reached
    page.press(Keys.ENTER)
    page.wait(lambda: page.find("value").get_attribute("data-value"))
    assert page.value == pytest.approx(float(values[2, 3, 0]), rel=1e-6)
    before = _view(browser)
    page.after(lambda: page.press("+"))
    page.after(lambda: page.press(Keys.ARROW_RIGHT))
    after = _view(browser)
    assert after[2] - after[0] == pytest.approx((before[2] - before[0]) / 2)
    assert sum(after[::2]) > sum(before[::2])
    page.find("step").send_keys(Keys.ARROW_RIGHT)
    page.wait(lambda: page.find("date").text == "April 2000")
    assert not page.errors()


def test_on_a_phone_all_is_within_the_width(browser, site):
    page = Page(browser, f"{site.root}/view/maps#t=2000-03&at=40,20", 390, 844)
    page.wait(lambda: page.find("value").get_attribute("data-value"))
    assert browser.execute_script("return document.documentElement.scrollWidth") <= 390
    for name in ("map", "step", "play", "series"):
        assert page.find(name).size["width"] > 40, name
    assert page.find("map").size["width"] > 330
    picture = Image.open(io.BytesIO(browser.get_screenshot_as_png())).convert("RGB")
    assert len(set(picture.resize((60, 100)).getdata())) > 20
    assert not page.errors()


def _origin(element):
    from selenium.webdriver.common.actions.wheel_input import ScrollOrigin

    return ScrollOrigin.from_element(element)


def _view(browser):
    """West, south, east and north of what the address says is shown."""
    found = re.search(r"view=([^&]+)", browser.current_url)
    return [float(part) for part in found.group(1).replace("%2C", ",").split(",")]
