"""The one tree of domain errors. The shell turns them into pages or JSON in one place
(shell/problems.py)."""

from meadowrun.core.language import worded


class MeadowrunError(Exception):
    """Something a person can act on. `str()` of it says what is wrong, where, and what to do."""

    status = 500

    def __init__(self, message: str = ""):
        super().__init__(worded(message))


class NotFound(MeadowrunError):
    """The object does not exist, or no longer does."""

    status = 404


class NotAllowed(MeadowrunError):
    """The signed-in person's role does not reach that far."""

    status = 403


class Conflict(MeadowrunError):
    """Somebody else changed the object in the meantime, or its state forbids the action."""

    status = 409

    def __init__(self, message: str, newest: int | None = None):
        """`newest` is the version that somebody else saved, where there is one to go on from."""
        super().__init__(message)
        self.newest = newest


class Invalid(MeadowrunError):
    """Input that cannot be taken. `where` names the place (a field's name), for the page to point
    at."""

    status = 422

    def __init__(self, message: str, where: str | None = None):
        super().__init__(message)
        self.where = where


class TooMany(MeadowrunError):
    """Asked too often; the text says when to try again."""

    status = 429


class SettingsError(MeadowrunError):
    """A setting is missing or unusable; the text names the environment variable."""


class GatewayUnavailable(MeadowrunError):
    """A service outside cannot be reached right now; what was to be handed over stays here."""

    status = 503
