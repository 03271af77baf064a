"""The page: nothing that a name holds can act, the same input gives the same bytes, and in a browser it is alive."""

import base64
import json
import os
import re
import shutil

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from calling import tachys
from tachys.capture.table import Capture, make_signal
from tachys.checking.checking import check
from tachys.demo import board
from tachys.demo.analyser import to_vcd
from tachys.demo.project import model_text
from tachys.model.loading import read_model
from tachys.report.page import page
from tachys.report.timeline import packed, timeline_data
from tachys.worstcase.analysis import bounds

HOSTILE = '</script><script>alert("1")</script> \' " & <b>\u202e\x07'


def unpacked(text):
    found, value, scale = [], 0, 1
    for byte in base64.b64decode(text):
        value += (byte & 127) * scale
        scale *= 128
        if not byte & 128:
            found.append(value)
            value, scale = 0, 1
    return found


@given(st.lists(st.integers(0, 2**53)))
def test_streams_hold_every_number(numbers):
    assert unpacked(packed(np.array(numbers, np.int64))) == numbers


@pytest.fixture(scope="module")
def place(tmp_path_factory):
    folder = tmp_path_factory.mktemp("report")
    (folder / "m.toml").write_text(model_text())
    (folder / "c.vcd").write_text(to_vcd(board.record(faulty=True)))
    return folder


@pytest.fixture(scope="module")
def written(place):
    done = tachys(place, "report", "m.toml", "c.vcd", "-o", "p.html")
    assert (done.returncode, done.stderr) == (1, "")
    return place / "p.html"


def test_a_page_needs_nothing_else_and_says_what_it_is_of(place, written):
    text = written.read_text()
    assert len(text) < 2 * 10**6
    assert re.search(r"(?:src|href|url|import)\s*[=(]", text.partition("<script type")[0]) is None
    assert "default-src 'none'" in text
    for due in ("3 of 4 needs missed", "what explains most first", "step.log: it holds interrupts off for longer",
                "held off by step.log for", "SHA-256", "where 45.92 us comes from", "Headroom"):  # fmt: skip
        assert due in text
    assert tachys(place, "report", "m.toml", "c.vcd", "-o", "again.html").returncode == 1
    assert (place / "again.html").read_bytes() == written.read_bytes()
    assert tachys(place, "report", "m.toml", "-o", "p.pdf").returncode == 2
    assert tachys(place, "report", "m.toml", "-o", "paper.html").returncode == 0


def hostile_page():
    text = f"""tachys = 1
title = {json.dumps(HOSTILE)}
[core]
clock = "48 MHz"
[source.s]
every = "1 us"
[isr.r]
on = "source.s"
cost = "0.1 us"
[probe.{json.dumps(HOSTILE)}]
shows = "isr.r"
"""
    signals = {
        name: make_signal(name, 1, [0, *range(10**6, 10**7, 10**5)], [0, *[1, 0] * 45]) for name in (HOSTILE, "D1")
    }
    capture = Capture(f"{HOSTILE}.vcd", signals, 0, 10**7, 1000)
    paper = bounds(read_model(text, "m.toml"))
    return page(paper, [check(paper.system, capture, paper)], HOSTILE, text, None)


def test_a_name_from_a_stranger_is_text():
    made = hostile_page()
    assert made.count("<script") == 2
    assert made.count("</script>") == 2
    assert 'alert("1")' not in made
    assert "\u202e" not in made
    assert "\x07" not in made


def test_what_is_too_much_is_thinned_but_for_the_worst_moments(written, place):
    system = read_model((place / "m.toml").read_text(), "m.toml")
    from tachys.capture.reading import read_capture
    from tachys.drawing.scene import Moment

    result = check(system, read_capture(place / "c.vcd"))
    moment = Moment(22_700_000_000, 23_000_000_000)
    whole = timeline_data(result, [moment], 10**7)
    few = timeline_data(result, [moment], 20_000)
    assert not whole["thinned"]
    assert few["thinned"]
    assert len(json.dumps(few)) < 45_000 < len(json.dumps(whole))
    for all_, some in zip(whole["lanes"], few["lanes"], strict=True):
        for state, pair in all_["bars"].items():
            begins = np.cumsum(unpacked(pair[0]))
            inside = begins[(begins * 1000 >= moment.begin) & (begins * 1000 <= moment.end)]
            kept = np.cumsum(unpacked(some["bars"].get(state, ["", ""])[0]))
            assert set(inside.tolist()) <= set(kept.tolist())


# --- in a browser -----------------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def browser():
    chromium, driver = shutil.which("chromium"), shutil.which("chromedriver")
    if not (chromium and driver):
        told = "no Chromium with its driver (packages chromium, chromium-driver): the page is not tried in a browser"
        if os.environ.get("TACHYS_TEST_BROWSER") == "needed":
            pytest.fail(told)
        pytest.skip(told)
    from selenium import webdriver

    options = webdriver.ChromeOptions()
    for argument in ("--headless=new", "--no-sandbox", "--disable-gpu", "--window-size=1280,900", "--hide-scrollbars"):
        options.add_argument(argument)
    options.binary_location = chromium
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    made = webdriver.Chrome(options=options, service=webdriver.ChromeService(driver))
    yield made
    made.quit()


def opened(browser, path):
    browser.get(f"file://{path}")
    assert browser.execute_script("return document.documentElement.dataset.ready") == "yes"
    return browser.find_element("css selector", ".timeline")


def test_in_a_browser_the_timeline_zooms_and_its_cursors_measure(browser, written):
    from selenium.webdriver import ActionChains, Keys

    box = opened(browser, written)
    canvas = box.find_element("css selector", "canvas")
    (button,) = [each for each in box.find_elements("css selector", "button") if each.text.startswith("release")]
    button.click()

    def window():
        return [float(box.get_attribute(f"data-{end}")) for end in ("from", "to")]

    def wait():
        browser.execute_async_script("requestAnimationFrame(() => requestAnimationFrame(arguments[0]))")

    wait()
    begin, end = window()
    left, wide, high = 150, canvas.size["width"] - 150, canvas.size["height"]
    event, answer = 22_789_875, 22_957_875  # ns: the event of the wheel and the first instruction, 168 us later

    def click(at, row):
        across = left + (at - begin) / (end - begin) * wide - canvas.size["width"] / 2 + 3
        ActionChains(browser).move_to_element_with_offset(
            canvas, across, 8 + 46 * row + 23 - high / 2
        ).click().perform()

    click(event, 0)
    click(answer, 0)
    assert float(box.get_attribute("data-apart")) == pytest.approx(168e-6, abs=1e-12)
    assert "B − A = 168 us ± 125 ns" in box.text
    canvas.send_keys("+")
    wait()
    assert window()[1] - window()[0] == pytest.approx((end - begin) / 2)
    canvas.send_keys("0")
    wait()
    assert window()[0] == 0
    canvas.send_keys(Keys.ESCAPE, "a", "n")
    assert "A at" in box.text
    assert box.get_attribute("data-apart") == ""
    box.find_element("css selector", "summary").click()
    box.find_element("css selector", ".lanes input").click()
    wait()
    assert canvas.size["height"] < high
    assert browser.get_log("browser") == []


def test_in_a_browser_hostile_names_do_nothing(browser, tmp_path):
    (tmp_path / "h.html").write_text(hostile_page())
    browser.get(f"file://{tmp_path / 'h.html'}")
    assert browser.execute_script("return document.documentElement.dataset.ready") == "yes"
    assert browser.get_log("browser") == []
    assert "alert" in browser.find_element("css selector", "h1").text
