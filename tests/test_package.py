"""The wheel: built, installed into an empty environment, and served from there, page and all."""

import ast
import json
import os
import re
import subprocess
import sys
from pathlib import Path

import httpx
import pytest
from fastapi.testclient import TestClient

from saltanvil import cli
from saltanvil.cli import serve
from saltanvil.cli.parser import DEFAULT_PORT
from saltanvil.web import app

ROOT = Path(__file__).parent.parent


def uv(*arguments, **more):
    return subprocess.run([Path(sys.executable).with_name("uv"), "-q", *arguments], check=True, text=True, **more)


@pytest.fixture(scope="module")
def wheel(tmp_path_factory):
    out = tmp_path_factory.mktemp("wheel")
    uv("build", "--wheel", "--out-dir", str(out), str(ROOT))
    return next(out.glob("saltanvil-*.whl"))


def test_an_empty_environment_serves_the_page(wheel, tmp_path):
    """Without the kernels compiled (a minute): nothing is computed here."""
    uv("venv", "--python", "3.11", str(tmp_path / "env"))
    uv("pip", "install", "--python", str(tmp_path / "env/bin/python"), str(wheel))
    environment = {name: value for name, value in os.environ.items() if name not in ("PYTHONPATH", "VIRTUAL_ENV")}
    command = [tmp_path / "env/bin/saltanvil", "serve", "--port", "0", "--empty", "--until-stdin-closes"]
    process = subprocess.Popen(
        command,
        cwd=tmp_path,
        env={**environment, "NUMBA_DISABLE_JIT": "1"},
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
    )
    try:
        while "http://" not in (line := process.stdout.readline()):
            assert line, "the server ended"
        address = line.split(" at ")[1].strip().rstrip("/")
        page = httpx.get(address + "/")
        assert page.status_code == 200 and "<title>" in page.text
        for asset in re.findall(r'(?:src|href)="(/[^"]+)"', page.text):
            assert httpx.get(address + asset).status_code == 200, asset
        assert httpx.get(address + "/api/sessions").json() == [] and len(httpx.get(address + "/api/processors").json()) > 15
    finally:
        process.stdin.close()
        assert process.wait(30) == 0


def test_the_cluster_extra_resolves(wheel):
    uv("pip", "install", "--dry-run", "--python", sys.executable, f"saltanvil[cluster] @ {wheel.as_uri()}")


def test_what_the_package_needs_is_what_is_imported():
    """Every package that the program imports is declared, and every declared one is imported (or belongs to the server)."""
    declared = set(re.findall(r'^    "([a-z0-9_-]+)==', (ROOT / "pyproject.toml").read_text(), re.M))
    nodes = [node for path in (ROOT / "src").rglob("*.py") for node in ast.walk(ast.parse(path.read_text()))]
    names = [alias.name for node in nodes if isinstance(node, ast.Import) for alias in node.names]
    names += [node.module for node in nodes if isinstance(node, ast.ImportFrom) and node.module and not node.level]
    imported = {name.partition(".")[0] for name in names} - set(sys.stdlib_module_names) - {"saltanvil"}
    # The extra, and what FastAPI and Pydantic are made of.
    assert imported - declared <= {"distributed", "starlette", "pydantic_core", "annotated_types"}
    assert declared - imported == {"httptools", "uvloop", "websockets"}
    pinned = (ROOT / "requirements.txt").read_text().splitlines()
    assert all(any(line.startswith(f"{name}==") for line in pinned) for name in declared)


def test_without_a_word_it_serves(monkeypatch):
    asked = []
    monkeypatch.setattr(serve, "run_serve", asked.append)
    monkeypatch.setattr(sys, "argv", ["saltanvil"])
    assert cli.main() == 0
    assert (asked[0].port, asked[0].host, str(asked[0].data), asked[0].empty) == (DEFAULT_PORT, "127.0.0.1", "data", False)


def test_a_page_that_is_not_built_is_a_sentence(tmp_path, monkeypatch):
    monkeypatch.setattr(app, "PAGE", tmp_path)
    with TestClient(app.create_app(tmp_path / "data"), base_url="http://127.0.0.1") as client:
        answer = client.get("/")
        assert answer.status_code == 503 and "is not built here" in answer.text and "./start" in answer.text


def test_the_built_page_is_told_by_its_parts():
    names = json.dumps([str(path.relative_to(app.PAGE)) for path in app.PAGE.rglob("*") if path.is_file()])
    assert "index.html" in names and "output.worklet" in names and "socket.worker" in names and ".woff2" in names
