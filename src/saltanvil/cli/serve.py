"""`saltanvil serve`: the page and the engine."""

import argparse
import gc
import importlib

from saltanvil.sound.line import SOUND


def run_serve(request: argparse.Namespace) -> None:
    SOUND.start()  # it gets ready while the server is loaded
    gc.disable()  # what a start makes stays: looking through it again and again is a tenth of the start
    print("Salt Anvil: getting ready ...", flush=True)
    importlib.import_module("saltanvil.cli.serving").serve(request)
