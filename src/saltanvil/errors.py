"""The root of every error that whoever asked can mend, and what a refused value says."""

from pydantic import ValidationError


class UserError(Exception):
    """Its text names the thing, says what is wrong with it, and what to do. Anything else that is raised is a fault of the
    program, or of the system it runs on (OSError)."""

    def __str__(self) -> str:
        return str(self.args[0]) if self.args else ""


def reason(error: ValueError) -> str:
    """One plain sentence for a validation error."""
    if not isinstance(error, ValidationError):
        return str(error)
    first = error.errors(include_url=False)[0]
    where = ".".join(str(part) for part in first["loc"])
    message = first["msg"].removeprefix("Value error, ")
    return f"{where}: {message}" if where else message
