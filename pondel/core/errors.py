"""The project's own exceptions: each message is meant for a mixing engineer."""

from __future__ import annotations


class PondelError(Exception):
    """Something the user can understand and mend.

    `where` names the field, file or part the message is about, when there is one.
    """

    def __init__(self, message: str, *, where: str | None = None) -> None:
        super().__init__(message)
        self.message = message
        self.where = where

    def line(self) -> str:
        """The message as one line, with its place in front."""
        return f"{self.where}: {self.message}" if self.where else self.message


class BadAudio(PondelError):
    """A file that cannot become a part."""


class BadDocument(PondelError):
    """A mix document, or a change to one, that breaks a rule."""


class NotFound(PondelError):
    """A session, part, move or revision that does not exist."""


class StaleEdit(PondelError):
    """An edit based on a revision that is no longer the newest."""


class DiskFull(PondelError):
    """There is no room left to write."""

    def __init__(self, message: str = "") -> None:
        super().__init__(message or "the disk is full: make room, and this goes on by itself")


class BadRecording(PondelError):
    """A recording that is missing from the data folder, or is not what was once brought in."""


class NotYet(PondelError):
    """Something that has to be measured first, and is being measured."""


class Busy(PondelError):
    """More is asked for at once than there is room for; a moment later there is."""
