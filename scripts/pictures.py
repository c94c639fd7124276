"""Takes the pictures of docs/screenshots/ from the demo sessions: .venv/bin/python scripts/pictures.py [NAME ...]

Needs what ./test installs. Look at every picture before it is committed.
"""

import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

from saltanvil.cli.serving import ensure_demo

ROOT = Path(__file__).parent.parent
OUT = ROOT / "docs/screenshots"
Shot = Callable[[Page], None]


@contextmanager
def served(data: Path) -> Iterator[str]:
    command = [sys.executable, "-m", "saltanvil.cli", "serve", "--port", "0", "--data", str(data)]
    command += ["--until-stdin-closes"]
    process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
    assert process.stdin is not None and process.stdout is not None
    address = next(line for line in process.stdout if "http://" in line)
    yield address.split(" at ")[1].strip()
    process.stdin.close()
    process.wait(20)


def strip(page: Page, name: str) -> None:
    page.click(f"nav.tree >> text='{name}'")
    page.wait_for_selector(f".path[aria-label='Path of {name}']")


def plate(page: Page, name: str) -> None:
    page.click(f".path .plate:has-text('{name}') button")


def add(page: Page, name: str) -> None:
    page.keyboard.press("a")
    page.keyboard.type(name)
    page.keyboard.press("Enter")
    page.wait_for_timeout(900)


def put(page: Page, name: str, text: str) -> None:
    page.focus(f"[role=slider][data-setting='{name}']")
    page.keyboard.press("Enter")
    page.keyboard.type(text)
    page.keyboard.press("Enter")
    page.wait_for_timeout(250)


def choose(page: Page, name: str, option: str) -> None:
    page.select_option(f"[data-setting='{name}']", option)
    page.wait_for_timeout(250)


def start(page: Page, name: str) -> None:
    page.click("text=Starting points")
    page.dblclick(f"dialog >> text={name}")
    page.wait_for_timeout(600)


def ready_made(page: Page, name: str) -> None:
    page.click("text=Ready-made")
    page.dblclick(f"dialog >> text={name}")
    page.wait_for_timeout(900)


def session(page: Page, name: str) -> None:
    page.click("button.session")
    page.click(f"dialog >> text={name}")
    page.wait_for_timeout(2500)
    page.keyboard.press("Escape")


def play(page: Page, seconds: float = 2.5) -> None:
    page.wait_for_timeout(1500)
    page.wait_for_selector("text=/^Drawing/", state="detached")
    page.keyboard.press("Space")
    page.wait_for_timeout(round(1000 * seconds))


def shape(page: Page) -> None:
    play(page)


def deliver(page: Page) -> None:
    """Checked, with the safe ceiling of a passage."""
    page.click("nav[aria-label=Views] >> text=Deliver")
    page.click("[aria-label=Length] >> text=Passage")
    for act, table in (("check", "check"), ("ceiling", "ceilings")):
        page.click(f"[data-act={act}]")
        page.wait_for_selector(f"[data-table={table}]", timeout=300_000)
        page.wait_for_selector(f"[data-act={act}]:enabled", timeout=300_000)
    page.click("[data-row=opus-128] button")
    page.wait_for_timeout(1000)


def gate(page: Page) -> None:
    plate(page, "Gate")
    play(page)


def over_time(page: Page) -> None:
    """The lever by section and what it moves, on the demo's drums in the bridge."""
    strip(page, "Drums")
    plate(page, "Saturator")
    page.keyboard.press("PageDown")
    for name in ("Drums Bite", "Drums saturator Drive"):
        page.keyboard.press("y")
        page.click(f"dialog [aria-label='Lane of {name}']")
        page.keyboard.press("Escape")
        page.wait_for_timeout(300)
    page.wait_for_selector("text=/^Drawing/", state="detached")
    page.wait_for_timeout(1500)


def clipper(page: Page) -> None:
    strip(page, "Snare")
    add(page, "clipper")
    put(page, "ceiling_db", "-10")
    play(page)


def saturator(page: Page) -> None:
    strip(page, "Drums")
    plate(page, "Saturator")
    page.click("[role=radio] >> text=Level >> nth=1")
    play(page)


def lowend(page: Page) -> None:
    strip(page, "Bass")
    plate(page, "Low-end")
    page.click("[role=radio] >> text=Small speaker")
    play(page)


def tamer(page: Page) -> None:
    """On the demo's overheads, of which it holds the ring."""
    strip(page, "Overheads")
    plate(page, "Resonance tamer")
    page.wait_for_selector("[data-figure=verdict]")
    play(page)


def limiter(page: Page) -> None:
    strip(page, "Main")
    plate(page, "Limiter")
    play(page)


def freecurve(page: Page) -> None:
    strip(page, "Bass")
    add(page, "free curve")
    start(page, "soft sounds up, loud sounds as they are")
    play(page)


def bands(page: Page) -> None:
    strip(page, "Drums")
    page.click(".path .plate[data-step=strip] button")
    ready_made(page, "four-band compressor")
    play(page)


def parallel(page: Page) -> None:
    strip(page, "Drums")
    plate(page, "Compressor")
    page.click(".tools >> text=In parallel")
    page.wait_for_selector(".editor h2:has-text('In parallel')")
    plate(page, "Compressor")
    put(page, "threshold_db", "-34")
    put(page, "ratio", "8")
    plate(page, "In parallel")
    put(page, "position", "50")
    play(page)


def nested(page: Page) -> None:
    parallel(page)
    plate(page, "Compressor")
    page.keyboard.press("f")
    page.wait_for_timeout(900)
    plate(page, "Compressor")
    page.keyboard.press("w")
    page.wait_for_selector("[data-figure=matched_db]")
    page.wait_for_timeout(2500)


def the_map(page: Page) -> None:
    page.wait_for_timeout(1500)
    page.click("nav[aria-label=Views] >> text=Map")
    page.keyboard.press("Space")
    page.wait_for_timeout(3500)


def map_walk(page: Page) -> None:
    session(page, "Harbour Walk")
    the_map(page)


def bench(page: Page) -> None:
    strip(page, "Lead voice")
    plate(page, "Saturator")
    page.click("nav[aria-label=Views] >> text=Bench")
    put(page, "bench_frequency_hz", "220")
    put(page, "bench_level_dbfs", "-12")
    page.wait_for_timeout(4000)
    page.keyboard.press("k")
    page.click("nav[aria-label=Views] >> text=Shape")
    choose(page, "character", "transformer")
    page.click("nav[aria-label=Views] >> text=Bench")
    page.wait_for_timeout(5000)


def contrast(page: Page) -> None:
    strip(page, "Main")
    add(page, "compressor")
    put(page, "threshold_db", "-22")
    put(page, "ratio", "2.5")
    page.click("nav[aria-label=Views] >> text=Contrast")
    page.wait_for_selector("[data-table=sections]", timeout=60_000)
    put(page, "keep_contrast_lu", "12")
    page.wait_for_selector("[aria-label=Contrast][aria-busy=false] [data-hint]", timeout=60_000)


def narrow(page: Page) -> None:
    page.wait_for_timeout(2500)


#: Name, theme, width, height, and what is done before the picture.
SHOTS: dict[str, tuple[str, int, int, Shot]] = {
    "shape-salt": ("salt", 1280, 800, shape),
    "shape-iron": ("iron", 1280, 800, shape),
    "map-salt": ("salt", 1280, 800, the_map),
    "map-iron": ("iron", 1280, 800, map_walk),
    "over-time-salt": ("salt", 1280, 800, over_time),
    "deliver-salt": ("salt", 1280, 940, deliver),
    "gate-salt": ("salt", 1280, 800, gate),
    "clipper-salt": ("salt", 1280, 800, clipper),
    "bench-salt": ("salt", 1280, 800, bench),
    "saturator-salt": ("salt", 1280, 800, saturator),
    "lowend-iron": ("iron", 1280, 800, lowend),
    "limiter-iron": ("iron", 1280, 800, limiter),
    "contrast-iron": ("iron", 1280, 800, contrast),
    "tamer-iron": ("iron", 1280, 800, tamer),
    "freecurve-salt": ("salt", 1280, 800, freecurve),
    "bands-salt": ("salt", 1280, 800, bands),
    "parallel-salt": ("salt", 1280, 800, parallel),
    "nested-iron": ("iron", 1280, 800, nested),
    "narrow-salt": ("salt", 760, 900, narrow),
}


def main(names: list[str]) -> None:
    with tempfile.TemporaryDirectory() as folder, sync_playwright() as playwright:
        demo = Path(folder) / "demo"
        ensure_demo(demo)
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium-headless-shell"), args=["--no-sandbox"])
        for name in names or SHOTS:
            theme, width, height, prepare = SHOTS[name]
            shutil.copytree(demo, Path(folder) / name)
            with served(Path(folder) / name) as address:
                context = browser.new_context(viewport={"width": width, "height": height})
                context.add_init_script(f"localStorage.setItem('saltanvil.theme', '{theme}')")
                page = context.new_page()
                page.set_default_timeout(180_000)  # the song is drawn first
                page.goto(address)
                page.wait_for_selector("[data-figure=matched_db]")
                prepare(page)
                page.screenshot(path=OUT / f"{name}.png")
                context.close()
            shutil.rmtree(Path(folder) / name)
            sys.stdout.write(f"{name}\n")
        browser.close()


if __name__ == "__main__":
    main(sys.argv[1:])
