"""Delivery through the real page: five codecs, the ceiling, the difference heard, stems by section, the report, files dropped."""

import io
import json
import re
import zipfile

import pytest
import soundfile

from saltanvil.demo import low_water
from tests.browser.conftest import saved
from tests.browser.test_access import violations
from tests.browser.test_page import energy, heard, mean_energy, sound_follows, wait_heard, wav
from tests.browser.test_settings import document
from tests.signals import noise

ENCODERS = ["mp3-128", "mp3-256", "aac-256", "opus-128", "vorbis-192"]


def to_deliver(page):
    page.click("header >> text=Deliver")
    page.wait_for_selector(".names li")


def only_a_passage(page):
    """Four seconds of the chorus, so that a check does not take the whole song."""
    page.evaluate("window.dispatchEvent(new Event('resize'))")
    page.click("[aria-label=Length] >> text=Passage")
    saved(page)


def short_passage(page):
    """Two bars from the playhead on, by keys."""
    page.keyboard.press("Home")
    page.keyboard.press("[")
    page.keyboard.press(".")
    page.keyboard.press(".")
    page.keyboard.press("]")


def row(page, name):
    return page.locator(f"[data-table=check] tr[data-row='{name}']")


def number(locator):
    return float(locator.inner_text())


def checked(page):
    page.click("[data-act=check]")
    page.wait_for_selector("[data-act=check]:has-text('Checking')")
    page.wait_for_selector("[data-act=check]:text-is('Check')")
    page.wait_for_selector("[data-table=check]")


def test_five_codecs_are_checked_heard_and_their_overs_played(page):
    short_passage(page)
    to_deliver(page)
    only_a_passage(page)
    checked(page)
    page.wait_for_function(
        "/MP3 128 kbit.s -?\\d.*above/.test(document.querySelector('.overs-plot figcaption')?.textContent ?? '')"
    )
    peaks = {name: number(row(page, name).locator("[data-figure=true_peak]")) for name in ENCODERS}
    master = number(row(page, "master").locator("td").first)
    for name in ENCODERS:
        assert number(row(page, name).locator("[data-figure=rise]")) == pytest.approx(peaks[name] - master, abs=0.02)
        assert (number(row(page, name).locator("[data-figure=overs]")) > 0) == (peaks[name] > -1.0)
    # Heard by keys while it plays: the master, what is decoded, and what was lost.
    page.keyboard.press("e")  # as they are
    page.keyboard.press("Space")
    wait_heard(page, 20_000)
    page.keyboard.press("z")
    page.wait_for_selector("[aria-label='Listen to'] [aria-checked=true]:text-is('Master')")
    sound_follows(page)
    whole = mean_energy(page, 2)
    page.keyboard.press("4")  # Opus
    page.wait_for_selector("[data-table=check] tr.on[data-row=opus-128]")
    page.keyboard.press("x")
    page.wait_for_selector("[aria-label='Listen to'] [aria-checked=true]:text-is('Decoded')")
    sound_follows(page)
    decoded = mean_energy(page, 2)
    page.keyboard.press("c")
    page.wait_for_selector("[aria-label='Listen to'] [aria-checked=true]:text-is('Difference')")
    sound_follows(page)
    difference = mean_energy(page, 2)
    assert decoded == pytest.approx(whole, rel=0.1) and 0 < difference < 0.1 * whole
    # An over is a place to go to.
    loudest = max(peaks, key=peaks.get)
    row(page, loudest).locator("button").click()
    over = page.locator("[aria-label^='Overs of'] button").first
    at = over.inner_text()
    over.click()
    minutes, seconds = at.split(":")
    page.wait_for_function(
        """(at) => {
            const [minutes, seconds] = document.querySelector('.clock').innerText.split(':').map(Number);
            return Math.abs(60 * minutes + seconds - at) < 1.5;
        }""",
        arg=60 * int(minutes) + float(seconds),
    )
    # Leaving the view, the session is heard again; an edit marks the check.
    page.click("header >> text=Shape")
    page.wait_for_selector("[aria-label='Listen to'] [aria-checked=true]:text-is('After')")
    page.click("nav.tree >> text=Kick")
    page.keyboard.press("m")
    saved(page)
    page.click("header >> text=Deliver")
    page.wait_for_selector("[data-figure=check_state]:has-text('changed after this check')")
    page.click("header >> text=Shape")  # where the sound is undone
    page.keyboard.press("Control+z")
    page.click("header >> text=Deliver")
    page.wait_for_selector("[data-figure=check_state]:has-text('checked at')")
    assert energy(page) > 0 and heard(page) > 0


def test_the_safe_ceiling_is_found_set_and_holds(page):
    short_passage(page)
    to_deliver(page)
    only_a_passage(page)
    for name in ("mp3-128", "mp3-256", "vorbis-192"):
        page.click(f"[aria-label=Encoders] [data-format={name}] button")
        page.wait_for_selector(f"[aria-label=Encoders] [data-format={name}]", state="detached")
    page.click("[aria-label='True peak wanted'] >> text=-0.5")
    saved(page)
    assert document(page)["session"]["delivery"]["true_peak_dbtp"] == -0.5
    page.fill("[aria-label='True peak wanted, dBTP']", "-0.8")
    page.keyboard.press("Enter")
    saved(page)
    page.click("[data-act=ceiling]")
    page.wait_for_selector("[data-table=ceilings]")
    rows = page.locator("[data-table=ceilings] tbody tr").evaluate_all("rows => rows.map((row) => row.dataset.row)")
    assert {"-0.1", "-0.3", "-0.5", "-1"} <= set(rows)
    safe = float(re.search(r"ceiling of (-[\d.]+) dB", page.inner_text("[data-figure=safe]"))[1])
    assert safe < -0.8
    page.click("[data-act='apply ceiling']")
    saved(page)
    limiter = next(s for s in document(page)["session"]["strips"] if s["id"] == "main")["path"]["steps"][-1]
    assert limiter["settings"]["ceiling_db"] == safe
    assert f"ceiling {safe:.1f} dB" in page.inner_text("[data-figure=chain_limiter]")
    page.wait_for_selector("[data-act='apply ceiling']:has-text('It is set')")
    checked(page)
    for name in ("aac-256", "opus-128"):
        assert number(row(page, name).locator("[data-figure=true_peak]")) <= -0.79
        assert row(page, name).locator("[data-figure=overs]").inner_text() == "0"
    # What a player at the target does to it.
    page.select_option("[aria-label='Ready-made target']", "EBU R 128")
    saved(page)
    page.wait_for_selector("[data-figure=playback]:has-text('At -23 LUFS it is turned down')")
    assert document(page)["session"]["delivery"]["true_peak_dbtp"] == -1.0


def test_stems_with_a_pattern_and_a_report(page, tmp_path):
    to_deliver(page)
    page.get_by_role("button", name="All buses").click()
    page.get_by_role("checkbox", name="Main").uncheck()
    page.click("[aria-label=Length] >> text=Sections")
    page.fill("input[aria-label='File names']", "{number} {section} {strip} {format}")
    page.keyboard.press("Enter")
    page.wait_for_selector(".names >> text='01 Intro Drums wav24.wav'")
    names = page.locator(".names li span:first-child").all_inner_texts()
    assert len(names) == 4 * len(low_water.SECTIONS) and names[-1] == "20 Last chorus Parallel drums wav24.wav"
    page.fill("input[aria-label='File names']", "{take}")
    page.keyboard.press("Enter")
    page.wait_for_selector("text=a name has no field {take}")
    assert document(page)["session"]["delivery"]["pattern"] == "{number} {section} {strip} {format}"
    page.click("summary")
    page.get_by_label("Artist").fill("The Pilots")
    page.keyboard.press("Enter")
    saved(page)
    page.get_by_role("button", name="Deliver 20 files").click()
    page.wait_for_selector(".jobs >> text=Rendering")
    zipped = page.wait_for_selector(".jobs a:has-text('all as one zip')")
    with page.expect_download() as download:
        zipped.click()
    download.value.save_as(tmp_path / "all.zip")
    with zipfile.ZipFile(tmp_path / "all.zip") as archive:
        assert archive.namelist()[:20] == names and archive.testzip() is None
        told = json.loads(archive.read("Delivery report.json"))
        x, rate = soundfile.read(io.BytesIO(archive.read(names[0])))
        assert rate == 48000 and len(x) == round(low_water.SECTIONS[0][2] * low_water.BAR_S * 48000)
        html = archive.read("Delivery report.html").decode()
        (tmp_path / "report.html").write_text(html)
    assert [row["file"] for row in told["files"]] == names and told["delivery"]["tags"]["artist"] == "The Pilots"
    # The report is read where it is, and stands alone.
    report = page.context.new_page()
    fetched = []
    report.on("request", lambda request: fetched.append(request.url))
    report.goto((tmp_path / "report.html").as_uri())
    assert not violations(report)
    assert report.locator("h2").all_inner_texts()[:3] == ["Files", "Loudness over the song", "Contrast"]
    assert report.locator("table").first.locator("tbody tr").count() == 20 and report.locator("svg").count() >= 1
    assert report.locator("code").first.inner_text() == told["files"][0]["sha256"] and len(fetched) == 1
    report.close()


def test_a_delivery_is_cancelled(page):
    to_deliver(page)
    page.get_by_role("button", name="All tracks").click()
    page.wait_for_function("document.querySelectorAll('.names li').length === 11")
    page.get_by_role("button", name="Deliver 11 files").click()
    page.wait_for_selector(".jobs >> text=Rendering")
    page.click(".jobs .card:has-text('Rendering') >> text=Cancel")
    page.wait_for_selector(".jobs .card:has-text('Rendering')", state="detached")
    assert page.locator(".jobs a").count() == 0


def test_dropped_files_go_through_the_main_and_a_session_is_packed_and_opened(page, tmp_path):
    to_deliver(page)
    x = noise(2, 48_000, 3)
    page.evaluate(
        """(files) => {
            const data = new DataTransfer();
            for (const [name, bytes] of files) data.items.add(new File([new Uint8Array(bytes)], name, { type: 'audio/wav' }));
            window.dispatchEvent(new DragEvent('drop', { dataTransfer: data, bubbles: true, cancelable: true }));
        }""",
        [["oars.wav", list(wav(x, subtype="PCM_24"))], ["broken.wav", [1, 2, 3]]],
    )
    dialog = page.locator("dialog[aria-label='Put 2 files through a path']")
    dialog.get_by_label("Format").select_option("flac24")
    dialog.get_by_label("Bring each to").check()
    dialog.get_by_label("Loudness, LUFS").fill("-20")
    page.click("[data-act=batch]")
    assert "broken.wav" in page.wait_for_selector("[role=alert] >> text=broken.wav").inner_text()
    link = page.wait_for_selector(".jobs a:has-text('oars.flac')")
    with page.expect_download() as download:
        link.click()
    download.value.save_as(tmp_path / "oars.flac")
    made, rate = soundfile.read(tmp_path / "oars.flac")
    assert rate == 48000 and made.shape[1] == 2 and len(made) >= 48_000
    before, address = document(page)["session"], page.evaluate("location.hash")
    page.click("button.session")
    page.click("[data-act=pack]")
    packed = page.wait_for_selector(".jobs a:has-text('.zip'):not(:has-text('all as'))")
    with page.expect_download() as download:
        packed.click()
    download.value.save_as(tmp_path / "session.zip")
    page.click("button.session")
    page.set_input_files("[aria-label='Session file']", tmp_path / "session.zip")
    page.wait_for_selector("dialog", state="detached")
    page.wait_for_function(f"location.hash !== '{address}'")
    after = document(page)["session"]
    assert [strip["path"] for strip in after["strips"]] == [strip["path"] for strip in before["strips"]]
    assert after["name"] == f"{before['name']} 2" and page.locator("main.deliver").count() == 1
