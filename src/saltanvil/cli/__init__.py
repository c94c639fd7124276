"""The command line: serve, measure, process, batch, bench, aim, steps, render; pack, unpack; check, backup, restore."""

import importlib
import sys
import traceback

from saltanvil.cli.errors import Failed
from saltanvil.cli.parser import build_parser
from saltanvil.errors import UserError


def main(arguments: list[str] | None = None) -> int:
    """Returns the exit status: 0; 1 with one line on standard error for what the user can mend; 3 for a fault of the program,
    with where it was; 4 with --strict if samples were clipped, which is a line on standard error in any case; 5 if some files
    of a batch failed. Without a word it serves."""
    words = sys.argv[1:] if arguments is None else arguments
    request = build_parser().parse_args(words or ["serve"])
    try:
        module = importlib.import_module(f"saltanvil.cli.{request.module}")
        warned = getattr(module, f"run_{request.command}")(request)
    except KeyboardInterrupt:
        return 130
    except Exception as error:
        if isinstance(error, UserError | OSError):
            print(f"saltanvil: {' '.join(str(error).split())}", file=sys.stderr)
            return 5 if isinstance(error, Failed) else 1
        traceback.print_exc()
        print(f"saltanvil: a fault of the program ({type(error).__name__}), not of what you asked for", file=sys.stderr)
        return 3
    return 4 if warned and request.strict else 0
