"""`python -m saltanvil.cli`."""

import sys

from saltanvil.cli import main

if __name__ == "__main__":
    sys.exit(main())
