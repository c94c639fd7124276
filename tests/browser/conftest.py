"""A real server in a process of its own and a real browser; the demo is made once for all tests."""

import shutil
import subprocess
import sys
from pathlib import Path

import pytest
from playwright.sync_api import sync_playwright

from saltanvil.cli import ensure_demo

ROOT = Path(__file__).parent.parent.parent
FLAGS = [
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--autoplay-policy=no-user-gesture-required",
]  # fmt: skip


@pytest.fixture(scope="session")
def demo_folder(tmp_path_factory):
    folder = tmp_path_factory.mktemp("demo")
    ensure_demo(folder)
    return folder


@pytest.fixture
def server(demo_folder, tmp_path):
    """The address of a server over a copy of the demo. It ends when its standard input closes."""
    data = tmp_path / "data"
    shutil.copytree(demo_folder, data)
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
    address = ""
    while "http://" not in address:
        address = process.stdout.readline()
        assert address, "the server ended"
    yield address.split(" at ")[1].strip()
    process.stdin.close()
    process.wait(20)


@pytest.fixture(scope="session")
def browser():
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium-headless-shell"), args=FLAGS)
        yield browser
        browser.close()


@pytest.fixture
def page(browser, server):
    """The demo on its first screen; any error of the page fails the test.

    Waiting on conditions needs eval, which the served policy forbids; hence bypass_csp.
    """
    context = browser.new_context(viewport={"width": 1280, "height": 800}, accept_downloads=True, bypass_csp=True)
    page = context.new_page()
    wrong = []
    page.on("pageerror", lambda error: wrong.append(str(error)))
    page.goto(server)
    page.wait_for_selector("[data-figure=matched_db]", timeout=30_000)
    yield page
    context.close()
    assert not wrong, wrong
