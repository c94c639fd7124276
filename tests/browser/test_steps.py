"""Every processor of the working set through the real page: the facts of the demo, its pictures, presets, the path."""

import json

import numpy as np
import pytest

from saltanvil.demo import low_water as demo
from tests.browser.conftest import measured, saved
from tests.browser.test_page import (
    energy,
    figure,
    heard,
    mean_energy,
    setting,
    sound_follows,
    type_setting,
    wait_figure,
    wait_heard,
)

CHORUS_S = 12 * demo.BAR_S
FAULTS = demo.FAULTS


def add(page, strip, name, clear=True):
    """A step on a strip whose other steps are bypassed."""
    page.click(f"nav.tree >> text='{strip}'")
    page.wait_for_selector(f".path[aria-label='Path of {strip}']")
    page.wait_for_timeout(200)
    if clear and page.locator(".path .plate[data-step]").count() > 2:
        page.keyboard.press("Shift+B")
        page.wait_for_selector("text=Enable all")
    elif clear and page.locator(".path .plate[data-step]").count() == 2:
        page.keyboard.press("b")
        page.wait_for_selector(".path .bypassed")
    plates = page.locator(".path .plate[data-step]").count()
    page.keyboard.press("a")
    page.keyboard.type(name)
    page.keyboard.press("Enter")
    # The strip may have such a step already: the new one is there when there is one more, and it is chosen.
    page.wait_for_function(f"document.querySelectorAll('.path .plate[data-step]').length === {plates + 1}")
    page.wait_for_selector(f".path .plate.chosen:has-text('{name}')")
    page.wait_for_selector(f".editor h2:has-text('{name}')")
    page.wait_for_selector("[data-figure=matched_db]")


def study(page, start_s, end_s, kind="scope"):
    """What the page would be told about the chosen step over a passage."""
    return page.evaluate(
        """async ([start_s, end_s, kind]) => {
          const view = JSON.parse(Object.entries(localStorage).find(([k]) => k.startsWith('saltanvil.view.'))[1]);
          const id = JSON.parse(localStorage.getItem('saltanvil.session'));
          const body = { tab: 'test', strip_id: view.strip, step_id: view.step, start_s, end_s };
          const told = await fetch(`/api/sessions/${id}/studies/${kind}`, {
            method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify(body) });
          return await told.json();
        }""",
        [start_s, end_s, kind],
    )


def change(page, name, start_s, end_s):
    ledger = study(page, start_s, end_s)["ledger"]
    return ledger["after"][name] - ledger["before"][name]


def choose(page, name, option):
    page.select_option(f"select[data-setting={name}]", option)
    saved(page)


def test_stray_snare_hits_come_down_6_db_by_clipping_at_the_same_loudness(page):
    """Common practice, no source: clipping 6 dB off drum peaks leaves the perceived loudness nearly unchanged."""
    add(page, "Snare", "Clipper")
    type_setting(page, "ceiling_db", f"{figure(page, 'sample_peak_dbfs', 1) - FAULTS.stray_snare_db:.1f}")
    type_setting(page, "hardness", "95")
    # Above 1x the filters let the peaks swing over: the ceiling is set by the figure, as a user would.
    measured(page)
    short = FAULTS.stray_snare_db - figure(page, "peaks_down_db")
    type_setting(page, "ceiling_db", f"{setting(page, 'ceiling_db') - short:.1f}")
    measured(page)
    down = figure(page, "peaks_down_db")
    assert down == pytest.approx(FAULTS.stray_snare_db, abs=0.5)
    assert abs(figure(page, "loudness_moved_lu")) <= 0.5
    assert int(page.inner_text("[data-figure=samples_clipped]").split()[0]) > 20
    # The picture marks the clipped stretches; a single hit, one side, and the ceiling can be dragged.
    touched = int(page.get_attribute(".wave", "data-touched"))
    assert touched >= 2
    page.click("text=Absolute")
    page.click("text=One hit")
    page.wait_for_function(f"Number(document.querySelector('.wave').dataset.touched) != {touched}")
    assert "s to" in page.inner_text(".wave .note >> nth=0")
    line = page.locator("[data-picture=ceiling]").bounding_box()
    page.mouse.move(line["x"] + 40, line["y"] + 6)
    page.mouse.down()
    page.mouse.move(line["x"] + 40, line["y"] + 46, steps=6)
    page.mouse.up()
    wait_figure(page, "peaks_down_db", lambda value: value > down + 1)


def test_sibilants_fall_and_vowels_stay(page):
    add(page, "Lead voice", "De-esser")
    choose(page, "shape", "high-pass 24")
    type_setting(page, "threshold_db", "-13")
    page.wait_for_timeout(300)
    hissing = [start for start, _, _, _, hiss, _ in demo.syllables() if hiss and start > CHORUS_S][:6]
    for start in hissing:  # in the sibilants' own band, as vowels ring on beneath some of them
        spectrum = study(page, start - 0.10, start - 0.03, "spectrum")["spectrum"]
        band = [i for i, hz in enumerate(spectrum["frequency_hz"]) if abs(hz / FAULTS.sibilant_hz - 1) < 0.15]
        assert max(spectrum["after_db"][i] - spectrum["before_db"][i] for i in band) < -3
    vowels = [(s, length) for s, length, _, _, hiss, _ in demo.syllables() if not hiss and length > 0.6 and s > CHORUS_S][:4]
    assert max(abs(change(page, "rms_dbfs", s + 0.15, s + length - 0.2)) for s, length in vowels) < 0.3
    # The whole band moves in one drag over the spectrum.
    choose(page, "shape", "band wide")
    before = setting(page, "frequency_hz")
    band = page.locator("[data-picture=band]").bounding_box()
    page.mouse.move(band["x"] + 4, band["y"] + 60)
    page.mouse.down()
    page.mouse.move(band["x"] - 40, band["y"] + 60, steps=5)
    page.mouse.up()
    saved(page)
    assert setting(page, "frequency_hz") < before and setting(page, "width_oct") == 1.0
    # Taken alone is the sibilants: far less energy than the voice.
    page.keyboard.press("s")
    page.keyboard.press("Space")
    wait_heard(page, 30_000)
    whole = mean_energy(page, 1)
    page.keyboard.press("c")
    sound_follows(page)
    assert 0 < mean_energy(page, 1) < 0.1 * whole


def test_the_room_between_phrases_is_shut_out_and_no_word_start_is_lost(page):
    add(page, "Lead voice", "Gate")
    choose(page, "detector", "rms")
    for name, text in {
        "threshold_db": "-40",
        "hysteresis_db": "4",
        "attack_ms": "2",
        "release_ms": "60",
        "lookahead_ms": "12",
    }.items():
        type_setting(page, name, text)
    saved(page)
    page.wait_for_timeout(300)
    for start, end in demo.phrase_gaps()[1:4]:
        quiet = study(page, start + 0.6, end)["ledger"]
        assert quiet["before"]["rms_dbfs"] == pytest.approx(FAULTS.room_dbfs, abs=1) and quiet["after"]["rms_dbfs"] < -80
    starts = [start for start, _, _, _, hiss, _ in demo.syllables() if not hiss][:12]
    assert min(change(page, "sample_peak_dbfs", start, start + 0.06) for start in starts) > -0.5
    page.keyboard.press("Space")
    wait_heard(page, 20_000)
    assert page.get_attribute(".editor .gate-state", "data-gate-state") in ("open", "hold", "closing", "closed")


def test_a_slow_gate_is_seen_and_hold_takes_the_chatter_off(page):
    add(page, "Snare", "Gate")
    type_setting(page, "threshold_db", "-24")
    type_setting(page, "attack_ms", "15")
    page.wait_for_selector("text=It opens too late")
    type_setting(page, "attack_ms", "0.1")
    type_setting(page, "lookahead_ms", "1")
    page.wait_for_selector("text=It opens too late", state="detached")
    choose(page, "detector", "rms")  # a peak detector holds crests and does not chatter here
    type_setting(page, "rms_ms", "1")
    type_setting(page, "release_ms", "5")
    type_setting(page, "hysteresis_db", "0")
    type_setting(page, "hold_ms", "0")
    chattering = wait_figure(page, "openings", lambda value: value > 4)
    page.wait_for_selector("text=It chatters")
    type_setting(page, "hysteresis_db", "6")
    type_setting(page, "hold_ms", "2")
    calm = wait_figure(page, "openings", lambda value: value < 3)
    assert calm < chattering / 2
    page.wait_for_selector("text=It chatters", state="detached")


def test_hear_key_plays_what_the_detector_hears(page):
    add(page, "Kick", "Compressor")
    choose(page, "key_filter", "high-pass")
    type_setting(page, "key_low_hz", "2k")
    page.wait_for_function("document.querySelector('[data-setting=key_low_hz]').ariaValueNow === '2000'")
    page.keyboard.press("s")
    page.keyboard.press("Space")
    wait_heard(page, 30_000)
    whole = mean_energy(page, 1)
    page.keyboard.press("g")
    page.wait_for_selector("button[aria-pressed=true] >> text=Listen to key")
    sound_follows(page)
    assert 0 < mean_energy(page, 1) < 0.2 * whole
    page.keyboard.press("g")
    page.wait_for_selector("button[aria-pressed=false] >> text=Listen to key")
    # As soon as a bar of it was heard; a busy machine may be far ahead of what is heard.
    assert any(mean_energy(page, 1) > 0.5 * whole for _ in range(6))


def test_limiter_marks_what_goes_beyond_the_users_limit(page):
    add(page, "Snare", "Limiter")
    type_setting(page, "ceiling_db", "-10")
    assert wait_figure(page, "true_peak_dbtp", lambda value: value < -9, column=2) <= -9.9
    assert wait_figure(page, "beyond_mark", lambda value: value > 0) > 0
    page.wait_for_selector("text=beyond your mark of 2 dB")
    type_setting(page, "warn_above_db", "12")
    wait_figure(page, "beyond_mark", lambda value: value == 0)


def test_shaper_leveller_and_expander_act(page):
    add(page, "Snare", "Transient shaper")
    assert int(page.get_attribute(".envelopes", "data-columns")) > 100
    type_setting(page, "attack_db", "9")
    assert wait_figure(page, "sample_peak_dbfs", lambda value: value > 3, column=3) < 10
    add(page, "Lead voice", "Leveller")
    type_setting(page, "target_db", "-30")
    wait_figure(page, "integrated_lufs", lambda value: value < -3, column=3)
    add(page, "Guitar left", "Expander", clear=False)
    type_setting(page, "threshold_db", "-10")
    assert wait_figure(page, "largest_db", lambda value: value > 3) <= 20.1


def test_points_of_a_free_curve_are_added_dragged_typed_and_taken_out(page, tmp_path):
    add(page, "Bass", "Free curve")
    assert page.locator(".points .point").count() == 4
    box = page.locator("[data-picture=curve]").bounding_box()
    page.mouse.click(box["x"] + box["width"] * 0.66, box["y"] + box["height"] * 0.55)
    page.wait_for_function("document.querySelectorAll('.points .point').length === 5")
    handle = page.locator("[data-picture=point4]").bounding_box()
    page.mouse.move(handle["x"] + 5, handle["y"] + 5)
    page.mouse.down()
    page.mouse.move(handle["x"] + 5, handle["y"] + 45, steps=5)
    page.mouse.up()
    wait_figure(page, "sample_peak_dbfs", lambda value: value < -3, column=3)
    page.fill("[aria-label='Output of point 5']", "-6")
    page.keyboard.press("Enter")
    wait_figure(page, "sample_peak_dbfs", lambda value: value > -6.5, column=3)
    page.dblclick("[data-picture=point2]")
    page.wait_for_function("document.querySelectorAll('.points .point').length === 4")
    with page.expect_download() as told:
        page.click("text=CSV")
    text = told.value.path().read_text()
    assert text.startswith("input_db,output_db\n") and len(text.splitlines()) == 5
    mine = tmp_path / "mine.csv"
    mine.write_text("-60,-60\n-20,-20\n0,-15\n")
    page.set_input_files("[aria-label='Curve file']", mine)
    page.wait_for_function("document.querySelectorAll('.points .point').length === 3")
    mine.write_text("-60,-60\n-60.1,-20\n")
    page.set_input_files("[aria-label='Curve file']", mine)
    page.wait_for_selector("text=at least 0.5 dB above the one before")


def test_starting_points_and_presets(page, tmp_path):
    add(page, "Snare", "Compressor")
    page.click("text=Starting points")
    assert page.locator("dialog .start span").count() >= 7
    page.dblclick("text=snare: tighten, keep the crack")
    page.wait_for_selector("dialog", state="detached")
    page.wait_for_function("document.querySelector('[data-setting=attack_ms]').ariaValueNow === '8'")
    page.click("text=Starting points")
    page.fill("[aria-label='Name of the preset']", "Mine")
    page.keyboard.press("Enter")
    page.wait_for_selector("dialog .own >> text=Mine")
    page.click("dialog >> text=Default")
    page.click("dialog >> text='Use'")
    page.wait_for_function("document.querySelector('[data-setting=attack_ms]').ariaValueNow === '10'")
    page.click("text=Starting points")
    page.dblclick("dialog .own .start")
    page.wait_for_function("document.querySelector('[data-setting=attack_ms]').ariaValueNow === '8'")
    page.click("text=Starting points")
    page.click("dialog >> text=Rename")
    page.fill("[aria-label='New name']", "Ours")
    page.keyboard.press("Enter")
    page.wait_for_selector("dialog .own >> text=Ours")
    with page.expect_download() as told:
        page.click("dialog >> text=Export")
    kept = json.loads(told.value.path().read_text())
    assert kept["version"] == 3 and kept["presets"][0]["name"] == "Ours" and kept["presets"][0]["settings"]["attack_ms"] == 8.0
    page.click("dialog >> text=Delete")
    page.wait_for_selector("dialog .own", state="detached")
    page.click("dialog [role=status] >> text=Undo")
    page.wait_for_selector("dialog .own >> text=Ours")
    given = tmp_path / "given.json"
    kept["presets"][0]["name"] = "Given"
    given.write_text(json.dumps(kept))
    page.set_input_files("[aria-label='Preset file']", given)
    page.wait_for_selector("dialog .own >> text=Given")
    for broken, why in (
        ({**kept, "version": 9}, "this program reads versions up to 3"),
        ("no json", "this is not a preset file"),
    ):
        given.write_text(json.dumps(broken) if isinstance(broken, dict) else broken)
        page.set_input_files("[aria-label='Preset file']", given)
        page.wait_for_selector(f"text={why}")


def test_several_steps_are_copied_pasted_duplicated_moved_and_bypassed(page):
    plates = page.locator(".path .plate[data-step]:not([data-step=strip]) b")
    page.click("nav.tree >> text='Snare'")
    page.wait_for_selector(".path[aria-label='Path of Snare']")
    assert plates.all_inner_texts() == ["Gate", "Equaliser", "Compressor"]
    page.click(".path >> text=Equaliser")
    page.click(".path >> text=Compressor", modifiers=["Shift"])
    page.wait_for_selector("text=2 chosen")
    page.keyboard.press("Control+c")
    page.keyboard.press("b")
    page.wait_for_function("document.querySelectorAll('.path .bypassed').length === 2")
    page.keyboard.press("b")
    page.wait_for_function("document.querySelectorAll('.path .bypassed').length === 0")
    page.click("nav.tree >> text='Guitar right'")
    page.wait_for_selector(".path[aria-label='Path of Guitar right']")
    page.keyboard.press("Control+v")
    page.wait_for_function("document.querySelectorAll('.path .plate').length === 3")
    assert plates.all_inner_texts() == ["Equaliser", "Compressor"]
    page.click(".path >> text=Equaliser")
    page.keyboard.press("Control+d")
    page.wait_for_function("document.querySelectorAll('.path .plate').length === 4")
    assert plates.all_inner_texts() == ["Equaliser", "Equaliser", "Compressor"]
    page.focus(".path .plate:has-text('Compressor') button")
    page.click(".path >> text=Compressor")
    page.keyboard.press("Alt+ArrowLeft")
    page.wait_for_function("document.querySelectorAll('.path .plate b')[2].textContent === 'Compressor'")
    page.keyboard.press("Shift+B")
    page.wait_for_function("document.querySelectorAll('.path .bypassed').length === 3")
    page.click("text=Enable all")
    page.wait_for_function("document.querySelectorAll('.path .bypassed').length === 0")
    page.drag_and_drop(".path .plate:has-text('Compressor')", ".path .plate:has-text('Equaliser') >> nth=0")
    page.wait_for_function("document.querySelectorAll('.path .plate b')[1].textContent === 'Compressor'")
    page.keyboard.press("Control+z")
    page.wait_for_function("document.querySelectorAll('.path .plate b')[1].textContent === 'Equaliser'")


def test_the_spectrum_smooths_and_moves_and_corners_are_dragged(page):
    add(page, "Snare", "Gate")
    choose(page, "key_filter", "band")
    page.click("[aria-label='Right picture'] >> text=Spectrum")
    page.wait_for_selector(".spectrum")
    page.click("text=1/24")
    page.wait_for_selector(".spectrum [role=radio][aria-checked=true]:has-text('1/24')")
    page.click("text=Moving")
    page.wait_for_function("Number(document.querySelector('.spectrum').dataset.pictures) > 50")
    before = setting(page, "key_low_hz")
    corner = page.locator("[data-picture=key_low_hz]").bounding_box()
    y = corner["y"] + 0.75 * corner["height"]
    page.mouse.move(corner["x"] + 5, y)
    page.mouse.down()
    page.mouse.move(corner["x"] + 65, y, steps=5)
    page.mouse.up()
    saved(page)
    assert setting(page, "key_low_hz") > 1.5 * before
    assert np.isfinite(energy(page)) and heard(page) >= 0
