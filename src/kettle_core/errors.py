"""Every error of ours descends from KettleError; its message is a sentence for the user."""


class KettleError(Exception):
    """Root of all errors that Vast Kettle raises itself."""


class TimingError(KettleError, ValueError):
    """A time, rate or stamp that cannot be used."""


class RigError(KettleError, ValueError):
    """A rig that does not hold together; `field` names the place where it came in."""

    def __init__(self, message: str, field: str = "") -> None:
        super().__init__(message)
        self.field = field


class PictureError(KettleError, ValueError):
    """A picture of the wrong shape or size."""


class SoundError(KettleError, ValueError):
    """A sound, or a setting of its chain, that cannot be used; `field` names where it came in."""

    def __init__(self, message: str, field: str = "") -> None:
        super().__init__(message)
        self.field = field


class CueError(KettleError, ValueError):
    """A change of a take that can't be made; `field` names the place where it came in."""

    def __init__(self, message: str, field: str = "") -> None:
        super().__init__(message)
        self.field = field


class CutError(KettleError, ValueError):
    """A cut list, or a change of one, that can't be; `field` is the value at fault."""

    def __init__(self, message: str, field: str = "") -> None:
        super().__init__(message)
        self.field = field


class TakeError(KettleError):
    """A take folder that cannot be written or read."""


class NoRoomError(TakeError):
    """The disk has no room for what is to be written, or can't be written to at all."""


class DeviceError(KettleError):
    """A device that is not there or cannot do what is asked.

    `state` is one word for it: unplugged, busy, changed or fault.
    """

    def __init__(self, message: str, state: str = "fault") -> None:
        super().__init__(message)
        self.state = state


class EngineError(KettleError):
    """The recording engine refused a command or does not answer."""
