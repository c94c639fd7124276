"""What is looked at from outside of a server that is measured."""

import subprocess
from pathlib import Path


def memory_mb(process: "subprocess.Popen[str]") -> float:
    """Resident, of the server and its sound process together. What they share is counted once: the libraries are in both."""
    held = 0.0
    for pid in (process.pid, *Path(f"/proc/{process.pid}/task/{process.pid}/children").read_text().split()):
        rollup = dict(line.split(":", 1) for line in Path(f"/proc/{pid}/smaps_rollup").read_text().splitlines()[1:])
        held += float(rollup["Pss"].split()[0]) / 1024
    return held
