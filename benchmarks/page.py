"""The page's budgets, in a headless browser against the demo: control to ear, Play to sound, underruns, start, memory.

Run with `.venv/bin/python benchmarks/page.py [PART ...]` (about ten minutes; `--quick`: five; the parts are the functions in
`main`). What is heard is timed by a tap in the audio
graph, before the destination, on the clock of the audio context: from a press until the first quantum (2.7 ms) whose sound has
changed.
"""

import contextlib
import io
import json
import multiprocessing
import os
import shutil
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import numpy as np
import soundfile
from playwright.sync_api import Page, sync_playwright
from server import begun, memory_mb

from saltanvil.cli.serving import ensure_demo
from saltanvil.engine.stream import Stream
from saltanvil.engine.wanted import Wanted
from saltanvil.web.services import Services
from saltanvil.web.sessions import EditRequest

ROOT = Path(__file__).parent.parent
#: One period in each quantum of 128 frames.
TONE_HZ = 48_000 / 128
#: Beyond the little moves of a drag.
AWAY_DB = 2.0
TAP = """
const connect = AudioNode.prototype.connect;
AudioNode.prototype.connect = function (target, ...rest) {
  if (!(target instanceof AudioDestinationNode)) return connect.call(this, target, ...rest);
  const context = this.context;
  const code = `registerProcessor('tap', class extends AudioWorkletProcessor {
    process([input], [output]) {
      let power = 0;
      input.forEach((channel, c) => { output[c].set(channel); for (const v of channel) power += v * v; });
      this.port.postMessage([currentTime, power]);
      return true;
    }
  })`;
  const url = URL.createObjectURL(new Blob([code], { type: 'text/javascript' }));
  window.tap = { context, heard: [], wanted: null };
  context.audioWorklet.addModule(url).then(() => {
    const node = new AudioWorkletNode(context, 'tap', { outputChannelCount: [2] });
    node.port.onmessage = ({ data }) => {
      const { heard, wanted } = window.tap;
      heard.push(data);
      if (heard.length > 60000) heard.splice(0, 30000);
      if (!wanted || data[0] <= wanted.began_s) return;
      wanted.quanta = data[1] > wanted.power === wanted.above ? wanted.quanta + 1 : 0;
      if (wanted.quanta < wanted.wanted_quanta) return;
      window.tap.wanted = null;
      wanted.done(data[0] - (wanted.wanted_quanta - 1) * 128 / context.sampleRate - wanted.began_s);
    };
    connect.call(this, node);
    connect.call(node, context.destination);
  });
  return target;
};
"""
# The quanta after a press are counted as they come: seconds until the first of those that are louder, or softer, than before.
# The tone has one period in each quantum, so that each has the same power until it changes, to a few parts in a hundred
# thousand. What is softer has to stay so for eight quanta (21 ms): a gap in the sound is no change.
PRESS = """([selector, above]) => new Promise((resolve, reject) => {
  const { heard, context } = window.tap;
  const last = heard.slice(-375);
  const power = above ? 1e-9 : 0.98 * last.reduce((sum, [, power]) => sum + power, 0) / last.length;
  setTimeout(() => reject(new Error(`no change after ${selector}; power before it ${power}`)), 20000);
  window.tap.wanted = {
    began_s: context.currentTime, power, above, quanta: 0, wanted_quanta: above ? 1 : 8, done: resolve };
  document.querySelector(selector).click();
})"""


def burn() -> None:
    """Another program: of a session of its own, as Linux shares its cores between those first."""
    os.setsid()
    while True:
        pass


def percentiles(values: list[float]) -> str:
    digits = 1 if np.median(values) < 10.0 else 0
    return f"median {np.median(values):.{digits}f} ms, 95th percentile {np.percentile(values, 95):.{digits}f} ms"


def pressed(page: Page, selector: str, sounding: bool) -> float:
    """Milliseconds from a press until sound begins, or stops."""
    return 1000.0 * float(page.evaluate(PRESS, [selector, sounding]))


def play_to_sound(page: Page, times: int) -> list[float]:
    result = []
    for _ in range(times):
        result.append(pressed(page, ".play", True))
        page.wait_for_timeout(400)
        page.click("[aria-label=Stop]")
        page.wait_for_timeout(400)
    return result


def add_tone(address: str) -> None:
    """A track of two minutes of one even tone: only a change makes it softer or louder."""
    time_s = np.arange(120 * 48_000) / 48_000
    body = io.BytesIO()
    soundfile.write(body, (0.1 * np.sin(2 * np.pi * TONE_HZ * time_s)).astype(np.float32), 48_000, format="WAV")
    url = f"{address}/api/sessions/1"
    httpx.post(f"{url}/media?name=Tone.wav", content=body.getvalue(), timeout=60).raise_for_status()
    while all(strip["name"] != "Tone" for strip in httpx.get(url).json()["session"]["strips"]):
        time.sleep(0.1)


def sustained(page: Page) -> None:
    """The even tone plays alone."""
    page.click("nav.tree >> text=Tone")
    page.keyboard.press("s")
    page.keyboard.press("Space")
    page.wait_for_timeout(2000)


def ended(page: Page) -> None:
    page.keyboard.press("Space")
    page.keyboard.press("s")
    page.wait_for_timeout(500)


def control_to_ear(page: Page, times: int) -> list[float]:
    """Mutes by the strip's switch: the fader glides in 8 ms from the next tick on."""
    sustained(page)
    result = []
    for _ in range(times):
        page.wait_for_timeout(500 + int(np.random.default_rng(len(result)).integers(0, 50)))
        result.append(pressed(page, "[aria-label='Mute Tone']", False))
        page.wait_for_timeout(300)
        pressed(page, "[aria-label='Mute Tone']", True)
    ended(page)
    return result


DRAG = """(times) => new Promise((resolve) => {
  const scale = document.querySelector("[role=slider][data-setting='trim_db']");
  const box = scale.getBoundingClientRect();
  const at = (type, share) => scale.dispatchEvent(new PointerEvent(type, {
    bubbles: true, pointerId: 1, button: 0, clientX: box.left + share * box.width, clientY: box.top + 5 }));
  scale.setPointerCapture = () => undefined;
  scale.hasPointerCapture = () => true;
  window.tap.heard = [];
  const jumps = [];
  let step = 0;
  at('pointerdown', 0.7);
  const timer = setInterval(() => {
    // Little moves about two places, 36 dB apart, a jump between them every 40 steps.
    const low = Math.floor(step / 40) % 2 === 1;
    if (step % 40 === 0) jumps.push([window.tap.context.currentTime, low]);
    at('pointermove', (low ? 0.27 : 0.7) + 0.004 * (step % 5));
    step += 1;
    if (step < 40 * times) return;
    clearInterval(timer);
    at('pointerup', 0.7);
    setTimeout(() => resolve([jumps, window.tap.heard]), 600);
  }, 16);
})"""


def drag_to_ear(page: Page, times: int) -> list[float]:
    """While the trim is dragged, an edit every 16 ms: from a jump of 36 dB until the sound leaves what it was."""
    sustained(page)
    page.click(".path >> text=/^trim/")
    page.wait_for_selector("[data-setting=trim_db]")
    jumps, heard = page.evaluate(DRAG, times)
    ended(page)
    when = np.array([time for time, _ in heard])
    levels = 10.0 * np.log10(np.array([power for _, power in heard]) + 1e-12)
    result = []
    for time_s, down in jumps[1:]:
        before = levels[(when > time_s - 0.3) & (when <= time_s)]
        # What the little moves make of it, and half as much again as the largest of them.
        low, high = np.percentile(before, 10) - AWAY_DB, np.percentile(before, 90) + AWAY_DB
        later = np.flatnonzero((when > time_s) & ((levels < low) if down else (levels > high)))
        if len(later):
            result.append(1000.0 * float(when[later[0]] - time_s))
    return result


def main_thread(page: Page, seconds: float) -> str:
    """Share of a core (the thread's own time, not what it waits for one), long tasks, and frames, while it plays."""
    session = page.context.new_cdp_session(page)
    session.send("Performance.enable", {"timeDomain": "threadTicks"})

    def busy_s() -> float:
        return next(float(m["value"]) for m in session.send("Performance.getMetrics")["metrics"] if m["name"] == "TaskDuration")

    page.evaluate(
        """() => { window.long = [];
        const took = (list) => list.getEntries().forEach((entry) => window.long.push(entry.duration));
        new PerformanceObserver(took).observe({ type: 'longtask' }); }"""
    )
    before = busy_s()
    page.wait_for_timeout(1000 * seconds)
    share = (busy_s() - before) / seconds
    worst = page.evaluate("Math.max(0, ...window.long)")
    count = page.evaluate("window.long.length")
    frames = page.evaluate(
        """() => new Promise((resolve) => {
        const began = performance.now();
        let frames = 0;
        const look = (now) => { frames += 1; if (now - began < 3000) requestAnimationFrame(look); else resolve(frames / 3); };
        requestAnimationFrame(look); })"""
    )
    tasks = f"{count} tasks over 50 ms (worst {worst:.0f})"
    return f"{100 * share:.0f} % of a core, {tasks}, {frames:.0f} frames a second"


@contextlib.contextmanager
def most_memory(process: "subprocess.Popen[str]") -> Iterator[list[float]]:
    """What `memory_mb` said at most meanwhile, looked at twice a second."""
    most = [memory_mb(process)]
    done = threading.Event()

    def look() -> None:
        while not done.wait(0.5):
            most[0] = max(most[0], memory_mb(process))

    watcher = threading.Thread(target=look)
    watcher.start()
    try:
        yield most
    finally:
        done.set()
        watcher.join()


def gaps(page: Page, seconds: float) -> str:
    """With an edit every 100 ms."""
    page.keyboard.press("Space")
    page.wait_for_timeout(1000)
    page.click(".path .plate[data-step] >> nth=0")
    slider = page.locator(".editor [role=slider]").first
    began = time.monotonic()
    edits = 0
    while time.monotonic() - began < seconds:
        slider.press("ArrowLeft" if (edits // 8) % 2 else "ArrowRight", no_wait_after=True)
        edits += 1
        page.wait_for_timeout(max(0.0, 1000 * (began + 0.1 * edits - time.monotonic())))
    underruns = page.get_attribute("footer.transport", "data-underruns")
    heard = int(page.get_attribute("footer.transport", "data-heard") or 0) / 48_000
    page.keyboard.press("Space")
    return f"{underruns} in {heard:.0f} s, {edits} edits"


def machine(data: Path) -> None:
    """How fast this machine is just now: what else is measured here goes by it. And an edit's way inside the server."""
    services = Services(data)
    session = services.sessions.version(1).session
    wanted = Wanted(session)
    stream = Stream(services.media.at_rate(session.rate_hz), wanted, 30 * session.rate_hz, 1)
    times = []
    for _ in range(400):
        began = time.perf_counter()
        stream.next(wanted, 0.3)
        times.append(1000.0 * (time.perf_counter() - began))
        stream.forget(stream.frames - session.rate_hz)
    row("a block of the demo rendered alone (42.7 ms of sound)", percentiles(times), "")
    step = next(step for strip in session.strips for step in strip.path.walk() if step.kind == "compressor")
    times = []
    began = 0.0
    play = services._play

    def played(*arguments: Any) -> None:
        play(*arguments)
        times.append(1000.0 * (time.perf_counter() - began))

    services._play = played  # type: ignore[method-assign]
    for move in range(200):
        values = [{"of": "step", "id": step.id, "name": "threshold_db", "value": -20.0 - move / 10}]
        body = json.dumps({"edit": {"op": "set", "values": values}, "gesture": f"{move // 20}"})
        began = time.perf_counter()
        question = EditRequest.model_validate_json(body)
        services.edit(1, question.edit, question.gesture)
    services.close()
    row("edit request until the player has it", percentiles(times), "6 ms")


def steal_share() -> tuple[float, float]:
    """Time that the machine gave to others, and all time, in ticks."""
    ticks = [float(tick) for tick in Path("/proc/stat").read_text().splitlines()[0].split()[1:]]
    return ticks[7], sum(ticks[:8])


def row(what: str, measured: str, budget: str) -> None:
    print(f"| {what} | {measured} | {budget} |", flush=True)


def start_by_part(data: Path) -> None:
    """Where the second start spends its time."""
    for what, code in (
        ("interpreter", "pass"),
        ("numbers (numpy, numba)", "import numpy, numba"),
        ("web framework", "import fastapi, uvicorn"),
        ("all of it, kernels loaded", "import saltanvil.web.app"),
    ):
        began = time.perf_counter()
        subprocess.run([sys.executable, "-c", code], check=True)
        row(f"start: {what}", f"{time.perf_counter() - began:.2f} s", "")


def work(page: Page, address: str, data: Path) -> None:
    """Both demos played, studied and exported."""
    for number in (1, 2):
        page.evaluate(f"localStorage['saltanvil.session'] = '{number}'")
        page.goto(address)
        page.wait_for_selector("[data-figure=matched_db]", timeout=120_000)
        page.keyboard.press("Space")
        for strip in range(page.locator("nav.tree li").count()):
            page.click(f"nav.tree li >> nth={strip} >> .name")
            page.wait_for_selector("[data-figure=matched_db]", timeout=120_000)
        page.keyboard.press("Space")
        ids = [strip["id"] for strip in httpx.get(f"{address}/api/sessions/{number}").json()["session"]["strips"]]
        url = f"{address}/api/sessions/{number}"
        httpx.post(f"{url}/delivery/files", json={"delivery": {"strip_ids": ids}}).raise_for_status()
        while any(job["state"] in ("waiting", "running") for job in httpx.get(f"{url}/jobs").json()):
            time.sleep(0.2)


def worked(page: Page, address: str, data: Path, process: "subprocess.Popen[str]") -> str:
    with most_memory(process) as most:
        work(page, address, data)
        time.sleep(10)
    return f"{memory_mb(process):.0f} MB ten seconds later, at most {most[0]:.0f}"


def soaked(page: Page, address: str, process: "subprocess.Popen[str]", minutes: int) -> list[float]:
    """Memory of every minute of work: strips and sections chosen, sliders dragged, steps bypassed, undone, played on and on."""
    page.goto(address)
    page.wait_for_selector("[data-figure=matched_db]", timeout=120_000)
    page.keyboard.press("Space")
    began, result = time.monotonic(), list[float]()
    turn = 0
    while len(result) < minutes:
        names = page.locator("nav.tree li .name")
        names.nth(turn % names.count()).click()
        plates = page.locator(".path .plate[data-step] button")
        plates.nth(turn % plates.count()).click()
        slider = page.locator(".editor [role=slider]").first
        for move in range(40):
            slider.press("ArrowLeft" if (move // 20) % 2 else "ArrowRight", no_wait_after=True)
            page.wait_for_timeout(25)
        page.keyboard.press("b")
        page.wait_for_timeout(400)
        page.keyboard.press("Control+z")
        page.wait_for_timeout(1500)
        turn += 1
        if time.monotonic() - began > 60.0 * (len(result) + 1):
            result.append(memory_mb(process))
    page.keyboard.press("Space")
    return result


def sixty_strips(address: str) -> None:
    """The first demo session with its tracks again and again, each with its path, until there are 60 strips."""
    url = f"{address}/api/sessions/1"
    strips = httpx.get(url).json()["session"]["strips"]
    tracks = [strip for strip in strips if strip["kind"] == "track" and strip["media_id"] is not None]

    def anew(value: object, n: int) -> object:
        """The same with other ids; keys to strips stay."""
        if isinstance(value, dict):
            return {name: f"{held}-{n}" if name == "id" else anew(held, n) for name, held in value.items()}
        return [anew(one, n) for one in value] if isinstance(value, list) else value

    for n in range(60 - len(strips)):
        track = tracks[n % len(tracks)]
        for step in track["path"]["steps"]:
            step["key"] = None
        edit = {"op": "add_strip", "strip": {**anew(track, n), "name": f"{track['name']} {n}"}}
        httpx.post(f"{url}/edits", json={"edit": edit}).raise_for_status()


def slot_to_ear(page: Page, address: str, times: int) -> list[float]:
    """Between two versions of the tone's whole path, one of them with a step more that takes it down by 60 dB."""
    url = f"{address}/api/sessions/1"
    tone = next(strip["id"] for strip in httpx.get(url).json()["session"]["strips"] if strip["name"] == "Tone")
    down = {"id": "down", "kind": "trim", "settings": {"gain_db": -60.0}}
    store = {"op": "store_slot", "of": "strip", "id": tone}
    for edit in ({**store, "slot": 1}, {"op": "add_step", "strip_id": tone, "step": down}, {**store, "slot": 2}):
        answer = httpx.post(f"{url}/edits", json={"edit": edit})
        assert answer.is_success, answer.text
    page.click("nav.tree >> text=Tone")
    page.click(".path .plate:has-text('Tone') button")
    page.wait_for_selector("[data-slot='2'][aria-pressed=true]")
    page.click("[data-slot='1']")
    sustained(page)
    result = []
    for _ in range(times):
        page.wait_for_timeout(700 + int(np.random.default_rng(len(result)).integers(0, 50)))
        result.append(pressed(page, "[data-slot='2']", False))
        page.wait_for_timeout(700)
        page.click("[data-slot='1']")
    ended(page)
    return result


def main() -> None:
    parts = [part for part in sys.argv[1:] if not part.startswith("--")]
    gap_s = 60.0 if "--quick" in sys.argv else 300.0
    print("| what | measured | budget |\n|---|---|---|")
    stolen = steal_share()
    with tempfile.TemporaryDirectory() as folder, sync_playwright() as playwright:
        data = Path(folder)
        ensure_demo(data)
        machine(data)
        if not parts:
            start_by_part(data)
        began = time.perf_counter()
        process, address = begun(data, start_new_session=True)
        row("start: until the server listens", f"{time.perf_counter() - began:.1f} s", "")
        browser = playwright.chromium.launch(
            executable_path=shutil.which("chromium-headless-shell"),
            args=[
                "--no-sandbox",
                "--disable-gpu",
                "--disable-background-networking",
                "--autoplay-policy=no-user-gesture-required",
            ],
        )
        context = browser.new_context(viewport={"width": 1280, "height": 800}, bypass_csp=True)
        context.add_init_script(TAP)
        page = context.new_page()
        page.goto(address)
        page.wait_for_selector(".editor [role=slider]")
        row("second start to a page that plays and edits", f"{time.perf_counter() - began:.1f} s", "4 s")
        page.wait_for_selector("[data-figure=matched_db]")
        row("... and to its first figures", f"{time.perf_counter() - began:.1f} s", "")
        add_tone(address)
        page.wait_for_function("window.tap")
        page.wait_for_selector("nav.tree >> text=Tone")
        busy = multiprocessing.Process(target=burn, daemon=True)

        def ear() -> None:
            row("Play to first sound", percentiles(play_to_sound(page, 20)), "median 100 ms")
            row("control moved to changed sample, by a tap", percentiles(control_to_ear(page, 40)), "median 60, 95th 90 ms")
            row("the same while dragging, an edit every 16 ms", percentiles(drag_to_ear(page, 40)), "")

        def slot() -> None:
            row("a slot of another structure switched to, by the tap", percentiles(slot_to_ear(page, address, 20)), "")

        def thread() -> None:
            page.click("nav.tree >> text=Snare")
            page.keyboard.press("Space")
            page.wait_for_timeout(1000)
            row("page's main thread while playing", main_thread(page, 15.0), "25 % of a core, none over 50 ms, 50 frames")
            page.keyboard.press("Space")

        def quiet_gaps() -> None:
            page.click("nav.tree >> text=Snare")
            row("underruns in 60 s, an edit every 100 ms", gaps(page, 60.0), "0")

        def busy_ear() -> None:
            busy.start()
            row("control, other core busy", percentiles(control_to_ear(page, 40)), "")
            row("dragging, other core busy", percentiles(drag_to_ear(page, 40)), "median 90, 95th 140 ms")

        def busy_gaps() -> None:
            if not busy.is_alive():
                busy.start()
            page.click("nav.tree >> text=Snare")
            row(f"underruns in {gap_s:.0f} s, other core busy, an edit every 100 ms", gaps(page, gap_s), "0")
            busy.kill()

        def memory() -> None:
            row("server's memory, both demos played, studied, exported", worked(page, address, data, process), "900 MB")

        def strips() -> None:
            sixty_strips(address)
            row("the same with 60 strips", worked(page, address, data, process), "1600 MB")
            page.evaluate("localStorage['saltanvil.session'] = '1'")
            page.goto(address)
            page.wait_for_selector("[data-figure=matched_db]", timeout=120_000)
            page.keyboard.press("Space")
            page.wait_for_timeout(3000)
            row("page's main thread, 60 strips", main_thread(page, 15.0), "none over 50 ms")
            page.keyboard.press("Space")

        def soak() -> None:
            by_minute = soaked(page, address, process, 10)
            row(
                "server's memory by the minute of ten minutes' work", ", ".join(f"{mb:.0f}" for mb in by_minute) + " MB", "900 MB"
            )

        for part in (ear, slot, thread, quiet_gaps, busy_ear, busy_gaps, memory, soak, strips):
            if not parts or part.__name__ in parts:
                part()
        if busy.is_alive():
            busy.kill()
        gone, whole = (now - then for now, then in zip(steal_share(), stolen, strict=True))
        row("time that the host gave to other machines", f"{100 * gone / whole:.1f} %", "")
        browser.close()
        assert process.stdin
        process.stdin.close()
        process.wait(20)
        machine(data)


if __name__ == "__main__":
    main()
