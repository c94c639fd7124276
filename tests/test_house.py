"""The house rules: imports run downwards, nothing of this or another machine in the lock files."""

import ast
import subprocess
from pathlib import Path

ROOT = Path(__file__).parent.parent
ORDER = ["cli", "web", "demo", "store", "studies", "engine", "session", "processors", "measure", "media", "dsp"]
PURE = ["dsp", "measure", "processors", "session", "engine", "studies"]


def imports(path):
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom) and node.module:
            yield node.module


def test_imports_run_down_the_list():
    files = [
        path for path in (ROOT / "src/saltanvil").rglob("*.py") if path.stem != "__init__" or path.parent.name != "saltanvil"
    ]
    assert len(files) > 40
    for path in files:
        part = path.relative_to(ROOT / "src/saltanvil").parts[0].removesuffix(".py")
        for name in imports(path):
            if name.startswith("saltanvil."):
                target = name.split(".")[1]
                assert ORDER.index(target) >= ORDER.index(part), f"{path} imports {name}"
            if part in PURE:
                assert name.split(".")[0] not in ("fastapi", "starlette", "sqlite3"), f"{path} imports {name}"


def test_lock_files_name_no_host():
    text = (ROOT / "web/package-lock.json").read_text()
    assert '"resolved"' not in text and "://" not in text
    for name in ("requirements.txt", "requirements-test.txt"):
        assert "://" not in (ROOT / name).read_text()


def test_the_commands_have_help():
    run = subprocess.run([ROOT / ".venv/bin/saltanvil", "--help"], capture_output=True, text=True)
    assert run.returncode == 0 and all(word in run.stdout for word in ("serve", "measure", "process", "steps", "render"))
