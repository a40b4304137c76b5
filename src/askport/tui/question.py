"""One question to the technician: its sentence, what is said while it is typed, and what is done with it."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:  # a question may stand on the first screen, before the work is loaded
    from askport.core.visit.session import Session


@dataclass(frozen=True, slots=True)
class Question:
    """One question."""

    sentence: str
    text: str
    """What stands in the line at first."""
    check: Callable[[str], str]
    """Says what the text means, or raises what is wrong with it (:class:`AskPortError`)."""
    use: "Callable[[Session, float, str], None]"
    """Does it, with the session, the time and the text."""
    secret: bool = False
    """Whether what is typed is not shown."""
    then: "Callable[[str], Question] | None" = None
    """What is asked next, made of what was typed."""
    replaces: bool = False
    """Whether what is typed takes the place of what stands there, until a key moves the cursor."""
