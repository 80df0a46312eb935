"""The one root of all errors a user may meet. Every message is a sentence that says what to do."""


class MeadowError(Exception):
    """Something a user can act on; ``str(error)`` is the sentence to show."""


class RuleMistake(MeadowError):
    """A rule that cannot be read. ``place`` is the 0-based character where it stops making sense."""

    def __init__(self, sentence: str, place: int, fits: tuple[str, ...] = ()) -> None:
        super().__init__(sentence)
        self.place = place
        self.fits = fits


class Missing(MeadowError):
    """Something that was named does not exist."""


class CannotOpen(Missing):
    """A file, folder, port or workspace cannot be reached or opened."""


class Refused(MeadowError):
    """An act the rules of the job or of the workspace do not allow."""


class Passing(MeadowError):
    """It stands in everybody's way and passes: nothing was changed, and nothing that was asked for is at fault."""


class NoSpace(Passing):
    """The disk is full: nothing was changed."""


class Busy(Passing):
    """The database is written by something else; nothing was changed."""


class Damaged(MeadowError):
    """The database file is damaged; nothing that it says can be trusted."""


class Newer(MeadowError):
    """The database was written by a newer version; nothing of it is touched."""


class NotSignedIn(MeadowError):
    """Name, password, code or link do not fit."""


class TooMany(MeadowError):
    """Something was tried too often; ``seconds`` until it may be tried again."""

    def __init__(self, sentence: str, seconds: int) -> None:
        super().__init__(sentence)
        self.seconds = seconds


class TooLarge(MeadowError):
    """What was sent, or asked for, is over a limit that the sentence says."""
