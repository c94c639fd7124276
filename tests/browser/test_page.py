"""The main job through the real page: play, compress, compare, undo, import, export."""

import io
import re
import time

import httpx
import numpy as np
import pytest
import soundfile

from tests.browser.conftest import PATIENCE_S, saved
from tests.edits import moved_json
from tests.signals import noise


def heard(page):
    return int(page.get_attribute("footer.transport", "data-heard"))


def energy(page):
    return float(page.get_attribute("footer.transport", "data-energy"))


def mean_energy(page, bars=0.5):
    """Mean power of the sound heard over some bars (84 bpm), from sums that the socket's worker keeps."""
    began, first = heard(page), energy(page)
    wait_heard(page, began + bars * 4 * 60 / 84 * 48_000)
    return (energy(page) - first) / (heard(page) - began) / 2


#: What was rendered ahead when something changed is heard for no longer than this (`engine.live.MAX_LEAD_S`).
LEAD_S = 1.0


def sound_follows(page, looks_back_s=0.0):
    """Wait by what was heard, not by the clock: until nothing of before a change is heard, or looked back at, any more."""
    wait_heard(page, heard(page) + (LEAD_S + looks_back_s) * 48_000)


def figure(page, name, column=None):
    place = f"[data-figure={name}]" + (f" td:nth-of-type({column})" if column else "")
    text = page.inner_text(place, timeout=2000)
    return float((re.search(r"[-+]?\d+\.\d", text) or re.search(r"[-+]?\d+", text)).group())


def wait_figure(page, name, test, column=None, seconds=PATIENCE_S):
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        try:
            value = figure(page, name, column)
            if test(value):
                return value
        except Exception:
            pass
        page.wait_for_timeout(50)
    raise AssertionError(f"{name} stays at {page.inner_text(f'[data-figure={name}]')}")


def setting(page, name):
    return float(page.get_attribute(f"[role=slider][data-setting='{name}']", "aria-valuenow"))


def wait_heard(page, frames):
    page.wait_for_function(f"Number(document.querySelector('footer.transport').dataset.heard) > {frames}")


def type_setting(page, name, text):
    page.focus(f"[role=slider][data-setting='{name}']")
    page.keyboard.press("Enter")
    page.wait_for_selector("input.typing:focus")
    page.keyboard.type(text)
    page.keyboard.press("Enter")


def test_the_first_screen_plays_the_looped_chorus(page):
    assert "Low Water" in page.inner_text("header >> nth=0")
    assert page.locator("nav.tree li").count() == 15
    before = page.inner_text("[aria-label='Position, bars and beats']")
    assert before.startswith("13.1")
    # Pixels of the meters' canvas that are painted at all: a line beneath each of the 15, and what sounds.
    painted = """() => { const canvas = document.querySelector('nav.tree canvas');
        const { data } = canvas.getContext('2d').getImageData(0, 0, canvas.width, canvas.height);
        return data.filter((value, at) => at % 4 === 3 && value > 0).length; }"""
    still = page.evaluate(painted)
    assert still == 15 * 34
    page.keyboard.press("Space")
    wait_heard(page, 48_000)
    assert energy(page) > 1e-5
    assert page.inner_text("[aria-label='Position, bars and beats']") != before
    assert re.match(r"-\d+\.\d LUFS", page.inner_text("[data-figure=short_term]"))
    page.wait_for_function(f"({painted})() > {still + 200}")
    page.keyboard.press("Space")
    stopped = heard(page)
    page.wait_for_timeout(400)
    assert heard(page) == stopped
    assert page.evaluate(painted) == still


def test_add_a_compressor_by_key_drag_it_while_it_plays_and_undo(page):
    page.click("nav.tree >> text=Organ")
    page.keyboard.press("Space")
    page.keyboard.press("s")
    page.keyboard.press("a")
    page.keyboard.type("compr")
    page.keyboard.press("Enter")
    page.wait_for_selector("[data-picture=threshold]")
    wait_heard(page, 60_000)
    loud = mean_energy(page)
    page.hover("[data-picture=threshold]", trial=True)  # once it stands still
    box = page.locator("[data-picture=threshold]").bounding_box()
    x, y = box["x"] + 100, box["y"] + box["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    for down in range(0, 111, 10):
        page.mouse.move(x, y + down)
        page.wait_for_timeout(20)
    page.mouse.up()
    assert setting(page, "threshold_db") < -28
    largest = wait_figure(page, "largest_db", lambda value: value > 4)
    changed = wait_figure(page, "integrated_lufs", lambda value: value < -3, column=3)
    sound_follows(page)
    assert mean_energy(page) < 0.6 * loud
    live = page.inner_text(".plate.chosen .figure")
    assert re.match(r"-\d", live) and largest > 4 and changed < -3
    dragged = setting(page, "threshold_db")
    page.keyboard.press("Control+z")
    page.wait_for_function("document.querySelector('[data-setting=threshold_db]')?.ariaValueNow === '-18'")
    page.keyboard.press("Control+Shift+z")
    page.wait_for_function(f"document.querySelector('[data-setting=threshold_db]')?.ariaValueNow === '{dragged:g}'")
    page.reload()
    page.wait_for_selector("[data-figure=largest_db]")
    assert setting(page, "threshold_db") == dragged
    page.click("text=Undo")
    page.click("text=Undo")
    page.wait_for_function("!document.querySelector('[data-setting=threshold_db]')")


def test_before_after_taken_and_matched_by_key(page):
    page.click("nav.tree >> text=Organ")
    page.keyboard.press("a")
    page.keyboard.type("trim")
    page.keyboard.press("Enter")
    page.wait_for_selector("[data-setting=gain_db]")
    type_setting(page, "gain_db", "-10")
    matched = wait_figure(page, "matched_db", lambda value: value < -5)
    assert matched == -10.0
    page.keyboard.press("s")
    page.keyboard.press("Space")
    wait_heard(page, 200_000)  # short-term loudness looks back three seconds of what was heard, however long that takes
    after, after_power = figure(page, "short_term"), mean_energy(page, 1)
    page.keyboard.press("e")
    page.keyboard.press("z")
    # Short-term loudness looks back three seconds, and a busy machine hears a change late: wait for it to arrive.
    wait_figure(page, "short_term", lambda before: before - after == pytest.approx(-matched, abs=1.5))
    assert mean_energy(page, 1) > 2 * after_power
    page.keyboard.press("e")
    wait_figure(page, "short_term", lambda matched_before: matched_before == pytest.approx(after, abs=1.5))
    page.keyboard.press("c")
    page.wait_for_selector("footer .matched:has-text('Without gain'):has-text('10.0 dB')")
    sound_follows(page)
    assert mean_energy(page, 0.5) < 1e-14  # a trim does nothing but its gain
    page.keyboard.press("e")  # with it
    page.wait_for_selector("footer .matched:has-text('off')")
    sound_follows(page)
    assert mean_energy(page, 1) > 1e-7
    page.keyboard.press("b")
    sound_follows(page)
    assert mean_energy(page, 0.2) == 0.0
    page.keyboard.press("x")
    for name in ("Small speaker", "Mono", "Dim", "Full range"):
        page.click(f"[role=radio] >> text={name}")
        page.wait_for_timeout(300)
        assert page.locator("[aria-label=Monitor] [aria-checked=true]").inner_text() == name


def test_rules_answer_to_drag_wheel_keys_typing_and_double_click(page):
    rule = "[role=slider][data-setting=attack_ms]"
    box = page.locator(rule).bounding_box()
    before = setting(page, "attack_ms")
    page.mouse.click(box["x"] + box["width"] * 0.9, box["y"] + 6)  # a press alone moves nothing, wherever it is
    assert setting(page, "attack_ms") == before
    page.mouse.move(box["x"] + 4, box["y"] + 6)
    page.mouse.down()
    page.mouse.move(box["x"] + 4 + box["width"] * 0.1, box["y"] + 6, steps=6)
    assert setting(page, "attack_ms") > before
    page.keyboard.press("Escape")  # cancels the drag
    assert setting(page, "attack_ms") == before
    page.mouse.up()
    page.mouse.move(box["x"] + 4, box["y"] + 6)
    page.mouse.down()
    page.mouse.move(box["x"] + 4 + box["width"] * 0.25, box["y"] + 6, steps=6)
    page.mouse.up()
    dragged = setting(page, "attack_ms")
    assert dragged == pytest.approx(before * 5000**0.25, rel=0.05)  # a quarter of a scale from 0.05 to 250 ms
    page.focus(rule)
    page.keyboard.press("ArrowRight")
    page.wait_for_function(f"Number(document.querySelector('{rule}').ariaValueNow) > {dragged}")
    page.mouse.wheel(0, 100)
    page.wait_for_function(f"Number(document.querySelector('{rule}').ariaValueNow) <= {dragged}")
    type_setting(page, "attack_ms", "12")
    page.wait_for_function(f"document.querySelector('{rule}').ariaValueNow === '12'")
    for wrong, why in (("900", "From 0.05 ms to 250 ms."), ("soon", "Type a number in ms."), ("3 dB", '"db" does not fit')):
        page.focus(rule)
        page.keyboard.press("Enter")
        page.keyboard.type(wrong)
        page.keyboard.press("Enter")
        assert why in page.inner_text(".rule [role=alert]")
        page.keyboard.press("Escape")
        assert setting(page, "attack_ms") == 12
    page.dblclick(rule)
    page.wait_for_function(f"document.querySelector('{rule}').ariaValueNow === '10'")
    page.select_option("[data-setting=release_mode]", "ms")
    page.wait_for_selector("[role=slider][data-setting=release_ms]")
    curve = page.locator("[data-picture=curve]").bounding_box()
    before = setting(page, "threshold_db")
    page.mouse.click(curve["x"] + 60, curve["y"] + 100)  # a click moves nothing, wherever it is
    page.mouse.click(curve["x"] + 200, curve["y"] + 60)
    assert setting(page, "threshold_db") == before
    line = page.locator("[data-picture='curve threshold']").bounding_box()
    page.mouse.move(line["x"] + 16, line["y"] + 100)
    page.mouse.down()
    page.mouse.move(line["x"] + 17, line["y"] + 100)
    assert abs(setting(page, "threshold_db") - before) < 1.5  # from where it was taken hold of
    page.mouse.move(curve["x"] + 70, curve["y"] + 100, steps=3)
    page.mouse.up()
    page.wait_for_function("Number(document.querySelector('[data-setting=threshold_db]').ariaValueNow) < -35")


def test_path_by_keys_and_the_equaliser_picture(page):
    plates = lambda: [text.split("\n")[0] for text in page.locator("[data-step] b").all_inner_texts()]  # noqa: E731
    assert plates() == ["Snare", "Gate", "Equaliser", "Compressor"]
    page.focus("[data-step].chosen button")
    page.keyboard.press("Alt+ArrowLeft")
    page.wait_for_function("document.querySelectorAll('[data-step] b')[2].innerText === 'Compressor'")
    page.click("[data-step] >> text=Equaliser")
    page.wait_for_selector("[data-picture=band3]")
    box = page.locator("[data-picture=band3]").bounding_box()
    page.mouse.move(box["x"] + 9, box["y"] + 9)
    page.mouse.down()
    page.mouse.move(box["x"] - 40, box["y"] + 40, steps=5)
    page.mouse.up()
    page.wait_for_function("Number(document.querySelector('[data-setting=band3_gain_db]').ariaValueNow) < -2")
    page.keyboard.press("Delete")
    page.wait_for_function("document.querySelectorAll('[data-step]').length === 3")
    page.keyboard.press("Control+z")
    page.wait_for_function("document.querySelectorAll('[data-step]').length === 4")


def test_passage_by_section_and_by_drag(page):
    page.click(".section .name >> text=Verse")
    page.wait_for_function("document.querySelector('aside.ledger h2').innerText.includes('Verse')")
    verse = wait_figure(page, "integrated_lufs", lambda value: value < -28, column=1)
    box = page.locator("[data-picture=timeline]").bounding_box()
    page.mouse.move(box["x"] + box["width"] * 0.72, box["y"] + 60)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] * 0.9, box["y"] + 60, steps=5)
    page.mouse.up()
    page.wait_for_function("document.querySelector('aside.ledger h2').innerText.includes('Bars')")
    wait_figure(page, "integrated_lufs", lambda value: value > verse + 3, column=1)
    page.mouse.click(box["x"] + box["width"] * 0.5, box["y"] + 60)
    page.wait_for_function("document.querySelector('footer .clock').innerText.startsWith('0:4')")


def test_strips_mute_level_rename_feed_and_remove(page):
    page.click("[aria-label='Mute Bass']")
    page.wait_for_selector("[aria-label='Mute Bass'][aria-pressed=true]")
    page.fill("[aria-label='Level of Bass, dB']", "-12.5")
    page.keyboard.press("Enter")
    page.dblclick("nav.tree >> text=Bass")
    page.fill("nav.tree input.rename", "Low end")
    page.keyboard.press("Enter")
    page.click("nav.tree >> text=Low end")
    page.click("[data-step=strip] button")
    page.select_option("select[aria-label=Output]", "drums")
    page.wait_for_function("[...document.querySelectorAll('nav.tree li')].findIndex(l => l.dataset.strip === 'bass') < 7")
    assert page.input_value("[aria-label='Level of Low end, dB']") == "-12.5"
    page.click("text=Remove strip")
    page.wait_for_function("!document.querySelector('[data-strip=bass]')")
    for _ in range(5):
        page.keyboard.press("Control+z")
        page.wait_for_timeout(150)
    page.wait_for_selector("[aria-label='Mute Bass'][aria-pressed=false]")


def wav(x, **how):
    file = io.BytesIO()
    soundfile.write(file, x.T, 48000, format="WAV", **how)
    return file.getvalue()


def chosen_format(page, name):
    """That format alone."""
    page.select_option("[aria-label='Add to formats']", name)
    page.wait_for_selector(f"[aria-label=Formats] [data-format={name}]")
    while page.locator("[aria-label=Formats] .chip").count() > 1:
        page.locator(f"[aria-label=Formats] .chip:not([data-format={name}]) button").first.click()
        page.wait_for_timeout(50)
    page.wait_for_function("document.querySelectorAll('[aria-label=Formats] .chip').length === 1")


def test_import_several_with_a_broken_one_then_export_and_read_back(page, tmp_path):
    x = noise(2, 96_000)
    files = [
        {"name": "oars.wav", "mimeType": "audio/wav", "buffer": wav(x, subtype="FLOAT")},
        {"name": "cut.wav", "mimeType": "audio/wav", "buffer": wav(x, subtype="PCM_24")[:5000]},
        {"name": "ropes.wav", "mimeType": "audio/wav", "buffer": wav(x[:1], subtype="PCM_24")},
    ]
    page.set_input_files("[aria-label='Audio files']", files)
    page.wait_for_selector("nav.tree >> text=oars")
    page.wait_for_selector("nav.tree >> text=ropes")
    assert "cut.wav" in page.inner_text("[role=alert]")
    assert page.locator("nav.tree >> text=cut").count() == 0
    page.click("header >> text=Deliver")
    out = page.locator("section[aria-label='Export']")
    out.get_by_role("checkbox", name="oars").check()
    out.get_by_role("checkbox", name="Main").uncheck()
    chosen_format(page, "wav32f")
    out.get_by_label("with a report").uncheck()
    page.wait_for_selector(".names >> text='Low Water copy - oars.wav'")
    out.get_by_role("button", name="Deliver one file").click()
    link = page.wait_for_selector(".jobs a")
    with page.expect_download() as download:
        link.click()
    download.value.save_as(tmp_path / "out.wav")
    assert download.value.suggested_filename == "Low Water copy - oars.wav"
    read, rate = soundfile.read(tmp_path / "out.wav", dtype="float32")
    assert rate == 48000 and np.array_equal(read[:96_000].T, x)
    # Too loud for whole numbers: the file is written, and the page says what was clipped.
    page.click("header >> text=Shape")
    page.click("nav.tree >> text=oars")
    type_setting(page, "trim_db", "24")
    saved(page)
    page.click("header >> text=Deliver")
    assert out.get_by_label("Include tail").is_checked() and not out.get_by_role("checkbox", name="Main").is_checked()
    chosen_format(page, "wav16")
    out.get_by_role("button", name="Deliver one file").click()
    told = page.wait_for_selector(".jobs .warning").inner_text()
    assert re.match(r"Low Water copy - oars\.wav: \d+ samples were clipped, by up to \d+\.\d dB", told)


def test_sessions_and_two_tabs(page_alone, server):
    page = page_alone
    page.click("button.session")
    page.click("[aria-label='Duplicate Low Water']")
    page.wait_for_selector("text=Low Water copy")
    page.click("text=New session ...")
    page.keyboard.type("Harbour bell")
    page.keyboard.press("Enter")
    page.wait_for_function("document.querySelector('button.session').innerText === 'Harbour bell'")
    page.click("button.session")
    page.click("dialog >> text='Low Water'")
    page.wait_for_function("document.querySelector('button.session').innerText === 'Low Water'")
    page.wait_for_selector("[data-figure=matched_db]")
    other = page.context.new_page()
    other.goto(server)
    other.wait_for_selector("[data-figure=matched_db]")
    page.click("[aria-label='Mute Kick']")
    other.wait_for_selector("[aria-label='Mute Kick'][aria-pressed=true]")
    # What another tab did is named before it is undone.
    other.click("header button:has-text('Undo')")
    other.wait_for_selector("[role=status]:has-text('Another tab made the last edit'):has-text('Mute')")
    assert page.get_attribute("[aria-label='Mute Kick']", "aria-pressed") == "true"
    other.click("header button:has-text('Undo')")
    page.wait_for_selector("[aria-label='Mute Kick'][aria-pressed=false]")
    other.close()
    page.click("button.session")
    page.click("[aria-label='Delete Low Water copy']")
    page.click("[aria-label='Restore Low Water copy']")
    page.wait_for_selector("[aria-label='Delete Low Water copy']")
    page.keyboard.press("Escape")
    page.wait_for_selector("dialog", state="detached")
    assert page.evaluate("document.activeElement.className").split()[0] == "session"  # the focus is back where it was


def test_a_tab_whose_socket_comes_late_shows_what_was_edited_meanwhile(browser, shared_server):
    """The worker that opens the socket is held back until another tab's edit is stored; without the revision in the socket's
    first message the page shows the old document until the next change."""
    number = httpx.post(f"{shared_server}/api/sessions/1/duplicate").json()["id"]
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    context.add_init_script(f"localStorage['saltanvil.session'] ??= '{number}'")
    page = context.new_page()
    held = []
    page.route("**/socket.worker*", lambda route: held.append(route))
    page.goto(shared_server)
    page.wait_for_selector("[aria-label='Mute Kick'][aria-pressed=false]")
    kick = next(one["id"] for one in httpx.get(f"{shared_server}/api/sessions/{number}").json()["session"]["strips"]
                if one["name"] == "Kick")  # fmt: skip
    httpx.post(f"{shared_server}/api/sessions/{number}/edits", json={"edit": moved_json("strip", kick, mute=True)})
    assert page.get_attribute("[aria-label='Mute Kick']", "aria-pressed") == "false"
    while not held:
        page.wait_for_timeout(20)
    held[0].continue_()
    page.wait_for_selector("[aria-label='Mute Kick'][aria-pressed=true]")
    context.close()
    httpx.delete(f"{shared_server}/api/sessions/{number}")  # its name is free again


def test_themes_narrow_window_and_zoom(page):
    page.click("header >> text=Dark")
    assert page.evaluate("getComputedStyle(document.body).backgroundColor") == "rgb(21, 24, 28)"
    for width, height in ((1000, 700), (640, 400)):  # 640 x 400 is 1280 x 800 at 200 %
        page.set_viewport_size({"width": width, "height": height})
        page.wait_for_timeout(200)
        assert page.evaluate("document.documentElement.scrollWidth") <= width
        assert page.is_visible("[aria-label=Play]")
        page.locator("[role=slider][data-setting=threshold_db]").scroll_into_view_if_needed()
        assert page.is_visible("[role=slider][data-setting=threshold_db]")
    page.keyboard.press("?")
    assert page.is_visible("text=Loudness-matched on or off")
