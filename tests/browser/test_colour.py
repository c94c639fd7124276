"""Colours through the real page: held loudness, two orders, the low end on a small speaker, colour on the bench."""

import math

import pytest

from tests.browser.conftest import saved
from tests.browser.test_bench import measured, to_bench
from tests.browser.test_page import figure, mean_energy, setting, sound_follows, type_setting, wait_figure, wait_heard
from tests.browser.test_splits import strip
from tests.browser.test_steps import add, choose


def plate(page, name):
    page.click(f".path .plate:has-text('{name}') button")
    page.wait_for_selector(f".editor h2:has-text('{name}')")


def test_a_held_output_follows_the_drive_while_it_plays(page):
    strip(page, "Drums")
    plate(page, "Saturator")
    page.keyboard.press("s")
    page.keyboard.press("Space")
    wait_heard(page, 20_000)
    # Over the chorus that is looped, so that the ledger's figures are of the same stretch.
    page.select_option("[aria-label='Measured over']", label="Chorus")
    saved(page)
    at_first = wait_figure(page, "match", lambda value: value < -3)
    before = mean_energy(page, 1)
    slider = page.locator("[role=slider][data-setting=drive_db]").bounding_box()
    middle = slider["y"] + slider["height"] - 4
    page.mouse.move(slider["x"] + slider["width"] * 0.4, middle)
    page.mouse.down()
    page.mouse.move(slider["x"] + slider["width"] * 0.75, middle, steps=6)
    page.mouse.up()
    saved(page)
    assert setting(page, "drive_db") > 18
    wait_figure(page, "match", lambda value: value < at_first - 8)
    wait_figure(page, "integrated_lufs", lambda change: abs(change) <= 0.1, 3)
    sound_follows(page)
    assert mean_energy(page, 1) == pytest.approx(before, rel=0.5)  # heard as loud, not 12 dB louder
    choose(page, "output", "not held")
    page.wait_for_selector("[data-figure=match]", state="detached")
    wait_figure(page, "integrated_lufs", lambda change: change > 8, 3)
    sound_follows(page)
    assert mean_energy(page, 1) > 5 * before
    choose(page, "compensate_drive", "on")
    wait_figure(page, "integrated_lufs", lambda change: change < 0, 3)
    wait_figure(page, "true_peak_dbtp", lambda change: change < -3, 3)


def test_two_orders_are_swapped_and_heard_equally_loud_by_one_key(page):
    # Two bars in a loop: whenever two bars are listened to, they are the same.
    for key in ("[", ".", ".", "]"):
        page.keyboard.press(key)
    for name in ("Main", "Drums", "Parallel drums"):  # what holds the level behind the snare
        strip(page, name)
        page.keyboard.press("Shift+B")
        saved(page)
    add(page, "Snare", "Compressor")
    type_setting(page, "threshold_db", "-36")
    type_setting(page, "ratio", "8")
    type_setting(page, "makeup_db", "20")
    page.keyboard.press("a")
    page.keyboard.type("saturator")
    page.keyboard.press("Enter")
    page.wait_for_selector(".editor h2:has-text('Saturator')")
    choose(page, "output", "not held")
    type_setting(page, "drive_db", "24")
    saved(page)
    page.keyboard.press("s")
    page.keyboard.press("Space")
    wait_heard(page, 20_000)
    sound_follows(page, 3.0)  # short-term loudness looks back three seconds
    loud = figure(page, "short_term")
    names = lambda: page.locator(".path .plate[data-step] b").all_inner_texts()  # noqa: E731
    assert names()[-2:] == ["Compressor", "Saturator"]
    page.keyboard.press("r")
    gain = wait_figure(page, "order", lambda value: abs(value) > 2)
    saved(page)
    assert names()[-2:] == ["Saturator", "Compressor"]
    sound_follows(page, 3.0)
    wait_figure(page, "short_term", lambda value: value == pytest.approx(loud, abs=2.5))
    matched = mean_energy(page, 2)
    page.keyboard.press("e")  # as they are
    page.wait_for_selector("[data-figure=order]:has-text('not matched')")
    wait_figure(page, "short_term", lambda value: value - loud == pytest.approx(-gain, abs=2.5))
    moved = 10.0 * math.log10(mean_energy(page, 2) / matched)
    assert moved == pytest.approx(-gain, abs=1.0)  # with what a busy machine leaves out
    page.keyboard.press("e")
    page.click(".editor >> text=Swap")
    page.wait_for_selector("[data-figure=order]:has-text('order matched 0.0')")
    saved(page)
    assert names()[-2:] == ["Compressor", "Saturator"]


def test_the_bass_is_heard_on_the_small_speaker(page):
    strip(page, "Bass")
    plate(page, "Low-end harmonics")
    small = wait_figure(page, "small_louder_lu", lambda value: value > 3)
    assert figure(page, "full_louder_lu") < 1 < small
    page.keyboard.press("s")
    page.click("[role=radio] >> text=Small speaker")
    page.keyboard.press("e")
    page.keyboard.press("Space")
    wait_heard(page, 20_000)
    after = mean_energy(page, 4)
    page.keyboard.press("z")
    sound_follows(page)
    assert after > 1.2 * mean_energy(page, 4)  # the model's ear gets more of it; other bars, so only about as much
    type_setting(page, "amount_db", "-36")
    wait_figure(page, "small_louder_lu", lambda value: value == 0)


def test_colours_are_told_apart_on_the_bench(page):
    add(page, "Organ", "Compressor")
    type_setting(page, "ratio", "1")
    choose(page, "output_colour", "plain")
    type_setting(page, "colour_odd_share", "0")
    to_bench(page)
    type_setting(page, "bench_level_dbfs", "-24")
    measured(page, "harmonics")
    second = figure(page, "h2_db")
    assert second > -40 and figure(page, "h3_db") < second - 60
    page.keyboard.press("k")
    page.click("nav[aria-label=Views] >> text=Shape")
    type_setting(page, "colour_odd_share", "100")
    saved(page)
    to_bench(page)
    page.wait_for_function("Number(document.querySelector('[data-figure=h2_db] td').innerText) < -100")
    measured(page, "harmonics")
    third = figure(page, "h3_db")
    assert figure(page, "h2_db") < third - 60 and figure(page, "h2_db", 2) == second
