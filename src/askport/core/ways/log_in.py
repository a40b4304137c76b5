"""What a device's console or page is entered with."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class LogIn:
    """What the console is entered with; the password is never shown, stored or logged."""

    user: str = ""
    password: str = ""

    @property
    def values(self) -> dict[str, str]:
        """What the placeholders stand for, as far as they were given."""
        return {key: value for key, value in (("user", self.user), ("password", self.password)) if value}

    def __repr__(self) -> str:
        return f"LogIn(user={self.user!r})"


NO_LOG_IN = LogIn()
"""For devices that let anybody in."""
