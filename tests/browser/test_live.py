"""Heard and shown at once: quick steps, a drag, figures that are out of date, a server that goes and comes back."""

import contextlib
import os
import re
import shutil
import signal
from pathlib import Path

import httpx
import pytest

from tests.browser.conftest import opened, saved, serving, until
from tests.browser.test_page import energy, heard, mean_energy, setting, wait_heard

THRESHOLD = "[role=slider][data-setting=threshold_db]"


def slowed(page, what, seconds):
    """Requests to a route are answered later."""
    sent = []

    def late(route):
        sent.append(route.request.post_data_json)
        page.wait_for_timeout(1000 * seconds)
        route.continue_()

    page.route(re.compile(what), late)
    return sent


@pytest.mark.parametrize("how", ["arrows", "wheel"])
def test_ten_quick_steps_are_ten_steps_on_a_slow_server(page, how):
    page.click("nav.tree >> text=Snare")
    page.click(".path .plate >> text=Compressor")
    began = setting(page, "threshold_db")
    sent = slowed(page, "/edits$", 0.3)
    page.focus(THRESHOLD)
    if how == "wheel":
        page.hover(THRESHOLD)
    for step in range(10):
        if how == "arrows":
            page.keyboard.press("ArrowLeft")
        else:
            page.mouse.wheel(0, 100)
            page.wait_for_function(
                f"Math.abs(document.querySelector('{THRESHOLD}').ariaValueNow - {began - (step + 1) / 2}) < 0.01"
            )
        assert setting(page, "threshold_db") == pytest.approx(began - 0.5 * (step + 1))  # at once, whatever the server does
    saved(page)
    assert setting(page, "threshold_db") == pytest.approx(began - 5.0)
    assert len(sent) < 10  # what was overtaken on its way is not sent
    assert sent[-1]["edit"]["values"][0]["value"] == pytest.approx(began - 5.0)
    page.keyboard.press("Control+z")
    page.wait_for_function(f"document.querySelector('{THRESHOLD}').ariaValueNow == {began}")  # one gesture, one undo


def test_a_refused_edit_goes_back_to_what_holds(page):
    page.click("nav.tree >> text=Snare")
    page.click(".path .plate >> text=Compressor")
    began = setting(page, "threshold_db")
    page.route(re.compile("/edits$"), lambda route: route.fulfill(status=409, json={"detail": "not now"}))
    page.focus(THRESHOLD)
    page.keyboard.press("ArrowLeft")
    page.wait_for_selector("text=not now")
    assert setting(page, "threshold_db") == began


def test_a_threshold_dragged_while_it_plays_is_heard_before_it_is_let_go(page):
    page.click("nav.tree >> text=Snare")
    page.keyboard.press("s")
    page.click(".path .plate >> text=Compressor")
    page.keyboard.press("Space")
    wait_heard(page, 30_000)
    loud = mean_energy(page, 1)
    box = page.locator(THRESHOLD).bounding_box()
    y = box["y"] + box["height"] / 2
    page.mouse.move(box["x"] + box["width"] / 2, y)
    page.mouse.down()
    for share in range(50, 4, -2):
        page.mouse.move(box["x"] + box["width"] * share / 100, y)
        page.wait_for_timeout(16)
    began = heard(page)
    wait_heard(page, began + 30_000)
    assert mean_energy(page, 1) < 0.7 * loud
    page.mouse.up()
    assert setting(page, "threshold_db") < -40


def test_what_is_out_of_date_says_so_within_a_frame(page):
    page.click("nav.tree >> text=Bass")  # no loudness is held behind it, which would be measured a while later
    page.click(".path .plate >> text=Compressor")
    busy = "[...document.querySelectorAll('aside.ledger, .pictures .plate, .timeline .drawn')].map((e) => e.ariaBusy)"
    page.wait_for_function(f"{busy}.every((value) => value === 'false')")
    question = slowed(page, "/studies/scope$", 0.5)
    revision = int(page.get_attribute("aside.ledger", "data-revision"))
    page.focus(THRESHOLD)
    result = page.evaluate(
        f"""() => new Promise((resolve) => {{
            const slider = document.querySelector('{THRESHOLD}');
            for (let n = 0; n < 5; n += 1)
                slider.dispatchEvent(new KeyboardEvent('keydown', {{ key: 'ArrowLeft', bubbles: true }}));
            requestAnimationFrame(() => requestAnimationFrame(() => resolve({busy})));
        }})"""
    )
    assert result == ["true"] * 4
    assert page.evaluate("getComputedStyle(document.querySelector('aside.ledger > h2')).opacity") == "0.5"
    assert page.evaluate("getComputedStyle(document.querySelector('.drawn')).opacity") == "0.5"
    veil = "getComputedStyle(document.querySelector('.pictures .plate'), '::after').backgroundColor"
    assert page.evaluate(veil).replace(" ", "").endswith("/0.5)"), page.evaluate(veil)
    page.wait_for_function(f"{busy}.every((value) => value === 'false')")
    assert int(page.get_attribute("aside.ledger", "data-revision")) > revision
    assert len(question) == 1  # five steps, measured once


def test_pictures_that_are_not_shown_are_not_asked_for(page):
    page.click("nav.tree >> text=Snare")
    page.click(".path .plate >> text=Compressor")
    page.wait_for_selector("[data-figure=largest_db]")
    question = []
    page.on("request", lambda request: question.append(request.url.rsplit("/", 1)[1]) if "/studies/" in request.url else None)
    page.keyboard.press("v")
    page.wait_for_selector(".map")
    with page.expect_response(lambda answer: answer.url.endswith("/studies/scope")):
        page.keyboard.press("b")
    page.wait_for_timeout(1000)
    assert set(question) == {"scope"}  # what is compared at equal loudness


def test_the_page_finds_a_server_again_that_was_away(browser, demo_folder, tmp_path):
    """It says so, keeps what is edited meanwhile, sends it, and plays on where it was."""
    data = tmp_path / "data"
    shutil.copytree(demo_folder, data)
    with serving(data) as address:
        port = int(address.rsplit(":", 1)[1])
        page = browser.new_context(viewport={"width": 1280, "height": 800}, bypass_csp=True).new_page()
        page.goto(address)
        page.wait_for_selector("[data-figure=matched_db]")
        page.click("nav.tree >> text=Snare")
        page.click(".path .plate >> text=Compressor")
        began = setting(page, "threshold_db")
        page.keyboard.press("Space")
        wait_heard(page, 40_000)
    page.wait_for_selector("text=Not connected")
    page.wait_for_selector("[aria-label=Play]")  # nothing sounds, and the button does not say so
    page.focus(THRESHOLD)
    for _ in range(4):
        page.keyboard.press("ArrowLeft")
    page.keyboard.press("b")
    assert setting(page, "threshold_db") == pytest.approx(began - 2.0)
    page.wait_for_selector("text=Not connected, 2 to send")
    with serving(data, port):
        page.wait_for_selector("text=Not connected", state="detached")
        saved(page)
        page.wait_for_selector("[aria-label=Stop]")
        first = heard(page)
        page.wait_for_function(f"Number(document.querySelector('footer.transport').dataset.heard) != {first}")
        power = energy(page)
        page.wait_for_function(f"Number(document.querySelector('footer.transport').dataset.energy) > {power}")
        session = httpx.get(f"{address}/api/sessions/1").json()["session"]
        snare = next(strip for strip in session["strips"] if strip["name"] == "Snare")
        step = next(step for step in snare["path"]["steps"] if step["kind"] == "compressor")
        assert step["settings"]["threshold_db"] == pytest.approx(began - 2.0)
        assert step["bypass"] is True
        assert page.locator(".notices .error").count() == 0
        page.keyboard.press("Control+z")
        page.keyboard.press("Control+z")
        page.wait_for_function(f"document.querySelector('{THRESHOLD}').ariaValueNow == {began}")
        page.context.close()


def sound_process_of(data):
    """The process that renders what is heard, of the server over a folder; None while there is none."""
    for folder in Path("/proc").glob("[0-9]*"):
        with contextlib.suppress(OSError):
            parent = int((folder / "stat").read_text().rsplit(")", 1)[1].split()[1])
            line = (folder / "cmdline").read_text()
            if "saltanvil.sound.process" in line and str(data) in Path(f"/proc/{parent}/cmdline").read_text():
                return int(folder.name)
    return None


def test_it_plays_on_after_the_sound_process_was_killed(browser, demo_folder, tmp_path):
    data = tmp_path / "data"
    shutil.copytree(demo_folder, data)
    with serving(data) as address, opened(browser, address) as page:
        page.click("nav.tree >> text=Snare")
        page.keyboard.press("Space")
        wait_heard(page, 40_000)
        old = sound_process_of(data)
        os.kill(old, signal.SIGKILL)
        # "Not connected" may be gone before it is drawn; what tells is the next process, and sound beyond what had been sent.
        until(page, lambda: sound_process_of(data) not in (None, old))
        heard = int(page.get_attribute("footer.transport", "data-heard"))
        wait_heard(page, heard + 96_000)
        assert page.locator("[aria-label=Stop]").count() == 1


def test_stop_shows_only_while_it_sounds(page):
    assert page.get_attribute("button.play", "aria-label") == "Play"
    page.keyboard.press("Space")
    wait_heard(page, 20_000)
    assert page.get_attribute("button.play", "aria-label") == "Stop"
    page.keyboard.press("Space")
    page.wait_for_selector("[aria-label=Play]")


def test_a_play_says_when_it_does_not_begin_as_the_song_does(page_alone):
    """Nothing has been rendered after the first start; a render of the song, as the contrast makes one, keeps what steps had
    become at each border."""
    page = page_alone

    def begins_exactly():
        page.keyboard.press("Space")
        wait_heard(page, 10_000)
        approximate = page.locator("footer .approximate").count()
        page.keyboard.press("Space")
        page.wait_for_selector("footer.transport .play[aria-label=Play]")
        return not approximate

    assert not begins_exactly()
    number = page.url.rsplit("#/", 1)[1].split("/")[0]
    page.evaluate(f"""fetch('/api/sessions/{number}/studies/contrast', {{
        method: 'POST', headers: {{'Content-Type': 'application/json'}},
        body: JSON.stringify({{tab: 'another', scopes: [{{strip_id: 'main'}}]}}),
    }}).then((answer) => answer.json())""")
    until(page, begins_exactly)
