"""The page's budgets, in a headless browser against the demo: knob to ear, Play to sound, underruns, second start.

Run with `.venv/bin/python benchmarks/page.py`. What is heard is timed by a tap in the audio graph, before the destination, on the
clock of the audio context: from a press until the first quantum (2.7 ms) whose sound has changed.
"""

import multiprocessing
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
from playwright.sync_api import Page, sync_playwright

from saltanvil.cli import ensure_demo

ROOT = Path(__file__).parent.parent
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
  window.tap = { context, heard: [] };
  context.audioWorklet.addModule(url).then(() => {
    const node = new AudioWorkletNode(context, 'tap', { outputChannelCount: [2] });
    node.port.onmessage = ({ data }) => {
      window.tap.heard.push(data);
      if (window.tap.heard.length > 60000) window.tap.heard.splice(0, 30000);
    };
    connect.call(this, node);
    connect.call(node, context.destination);
  });
  return target;
};
"""
PRESS = """(selector) => {
  window.tap.heard = [];
  document.querySelector(selector).click();
  return window.tap.context.currentTime;
}"""


def burn() -> None:
    while True:
        pass


def serve(data: Path) -> tuple["subprocess.Popen[str]", str, float]:
    began = time.perf_counter()
    command = [
        sys.executable,
        "-m",
        "saltanvil.cli",
        "serve",
        "--port",
        "0",
        "--data",
        str(data),
        "--page",
        str(ROOT / "web/dist"),
        "--until-stdin-closes",
    ]
    process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
    assert process.stdout
    line = ""
    while "http://" not in line:
        line = process.stdout.readline()
    return process, line.split(" at ")[1].strip(), began


def percentiles(values: list[float]) -> str:
    return f"median {np.median(values):.0f} ms, 95th percentile {np.percentile(values, 95):.0f} ms"


def pressed(page: Page, selector: str, sounding: bool) -> float:
    """Milliseconds from a press until sound begins, or stops."""
    power = "window.tap.heard.slice(-200).reduce((sum, [, power]) => sum + power, 0) / 200"
    silence = 1e-9 if sounding else 0.02 * page.evaluate(power)
    began = page.evaluate(PRESS, selector)
    test = f"power {'>' if sounding else '<'} {silence}"
    # A gap in the sound is no change: eight quanta of silence are.
    span = 1 if sounding else 8
    found = (
        f"() => {{ const heard = window.tap.heard.filter(([time]) => time > {began});"
        f" return heard.findIndex((_, n) => n + {span} <= heard.length"
        f" && heard.slice(n, n + {span}).every(([, power]) => {test})); }}"
    )
    page.wait_for_function(f"({found})() >= 0")
    at = page.evaluate(f"window.tap.heard.filter(([time]) => time > {began})[({found})()][0]")
    return 1000.0 * float(at - began)


def play_to_sound(page: Page, times: int) -> list[float]:
    found = []
    for _ in range(times):
        found.append(pressed(page, ".play", True))
        page.wait_for_timeout(400)
        page.click("[aria-label=Stop]")
        page.wait_for_timeout(400)
    return found


def knob_to_ear(page: Page, times: int) -> list[float]:
    """Mutes by the strip's switch, of a sustained track that is soloed: the fader glides in 8 ms from the next tick on."""
    page.click("nav.tree >> text=Organ")
    page.keyboard.press("s")
    page.keyboard.press("Space")
    page.wait_for_timeout(2000)
    found = []
    for _ in range(times):
        page.wait_for_timeout(500 + int(np.random.default_rng(len(found)).integers(0, 50)))
        found.append(pressed(page, "[aria-label='Mute Organ']", False))
        page.wait_for_timeout(300)
        pressed(page, "[aria-label='Mute Organ']", True)
    page.keyboard.press("Space")
    page.keyboard.press("s")
    return found


def main() -> None:
    print("| what | measured | budget |\n|---|---|---|")
    with tempfile.TemporaryDirectory() as folder, sync_playwright() as playwright:
        data = Path(folder)
        ensure_demo(data)
        process, address, began = serve(data)
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
        page.wait_for_selector("[data-figure=matched_db]")
        print(f"| second start to usable page | {time.perf_counter() - began:.1f} s | 4 s |", flush=True)
        page.wait_for_function("window.tap")
        print(f"| Play to first sound | {percentiles(play_to_sound(page, 20))} | median 100 ms |", flush=True)
        print(
            f"| control moved to changed sample, by a tap | {percentiles(knob_to_ear(page, 30))} | median 60, 95th 90 ms |",
            flush=True,
        )
        page.wait_for_timeout(500)
        busy = multiprocessing.Process(target=burn, daemon=True)
        busy.start()
        print(f"| the same, other core busy | {percentiles(knob_to_ear(page, 30))} | median 90, 95th 140 ms |", flush=True)
        page.keyboard.press("Space")
        page.wait_for_timeout(60_000)
        underruns = page.get_attribute("footer.transport", "data-underruns")
        seconds = int(page.get_attribute("footer.transport", "data-heard") or 0) / 48_000
        busy.kill()
        print(f"| underruns in 60 s, other core busy | {underruns} in {seconds:.0f} s | 0 |", flush=True)
        browser.close()
        assert process.stdin
        process.stdin.close()
        process.wait(20)


if __name__ == "__main__":
    main()
