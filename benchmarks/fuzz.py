"""Ten thousand mutated files of all kinds, by API and by command, and requests drawn from the schema:
`python benchmarks/fuzz.py [--files N] [--seed S] [--requests N]`.

Prints what led to a fault of the program; there should be nothing.
"""

import argparse
import sys
import tempfile
from multiprocessing import get_context
from pathlib import Path

from fastapi.testclient import TestClient
from tqdm import tqdm

sys.path.insert(0, str(Path(__file__).parent.parent))

from saltanvil.web.app import create_app
from tests.fuzz.drive import fuzzing
from tests.fuzz.schema import BASE, ask_everything

#: Files that one server takes.
AT_A_TIME = 500


def part(seeds: range) -> tuple[list[str], dict[str, int]]:
    with tempfile.TemporaryDirectory() as folder, fuzzing(Path(folder)) as fuzz:
        wrong = [result for seed in seeds if (result := fuzz.run(seed)) is not None]
        return wrong, fuzz.taken


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--files", type=int, default=10_000)
    parser.add_argument("--seed", type=int, default=1_000_000)
    parser.add_argument("--requests", type=int, default=100, help="for each operation of the API")
    request = parser.parse_args()
    parts = [
        range(request.seed + at, request.seed + min(at + AT_A_TIME, request.files)) for at in range(0, request.files, AT_A_TIME)
    ]
    wrong, taken = [], {}
    with get_context("spawn").Pool(2) as pool, tqdm(total=request.files, unit="file", disable=not sys.stderr.isatty()) as bar:
        for seeds, (faults, counts) in zip(parts, pool.imap(part, parts), strict=True):
            bar.update(len(seeds))
            wrong += faults
            taken = {kind: taken.get(kind, 0) + count for kind, count in counts.items()}
    print("\n".join(wrong))
    print(f"{request.files} files, {len(wrong)} faults; taken: {', '.join(f'{kind} {count}' for kind, count in taken.items())}")
    if request.requests:
        with tempfile.TemporaryDirectory() as folder:
            app = create_app(Path(folder) / "data")
            with TestClient(app, base_url=BASE, raise_server_exceptions=False) as served:
                ask_everything(served, request.requests, derandomize=False)
        print(f"{request.requests} requests for each operation of the API: no fault")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
