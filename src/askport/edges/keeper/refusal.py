"""What the keeper will not do."""


class Refusal(Exception):
    """The keeper will not, or the kernel would not; the message is for the technician, the code for the program."""

    def __init__(self, message: str, code: str = "") -> None:
        super().__init__(message)
        self.code = code
