"""A server that is measured, in a process of its own, and what is looked at of it from outside."""

import subprocess
import sys
from pathlib import Path
from typing import Any

SERVE = [sys.executable, "-m", "saltanvil.cli", "serve", "--port", "0", "--until-stdin-closes", "--data"]


def begun(data: Path, **more: Any) -> tuple["subprocess.Popen[str]", str]:
    """The process of a server over a folder, and its address. more: for the process."""
    process = subprocess.Popen([*SERVE, str(data)], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, **more)
    assert process.stdout
    while "http://" not in (line := process.stdout.readline()):
        assert line, "the server ended"
    return process, line.split(" at ")[1].strip().rstrip("/")


def memory_mb(process: "subprocess.Popen[str]") -> float:
    """Resident, of the server and its sound process together. What they share is counted once: the libraries are in both."""
    held = 0.0
    for pid in (process.pid, *Path(f"/proc/{process.pid}/task/{process.pid}/children").read_text().split()):
        rollup = dict(line.split(":", 1) for line in Path(f"/proc/{pid}/smaps_rollup").read_text().splitlines()[1:])
        held += float(rollup["Pss"].split()[0]) / 1024
    return held
