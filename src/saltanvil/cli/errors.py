"""What a command refuses or could not do, in one line."""

import contextlib
from collections.abc import Iterator

from saltanvil.errors import UserError, reason


class Refused(UserError):
    """What was asked for cannot be done so."""


class Failed(UserError):
    """Some of the work could not be done, as was said; the rest is."""


@contextlib.contextmanager
def refusing() -> Iterator[None]:
    """What is asked for here is checked by the model itself: its refusal is the user's to mend."""
    try:
        yield
    except ValueError as error:
        raise Refused(reason(error)) from error
