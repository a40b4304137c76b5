"""What parts and views know of the screen of the job that has them."""

from collections.abc import Callable
from typing import Any, Protocol

from textual.screen import Screen

from askport.core.visit import session, steps
from askport.tui.laptop_watch import LaptopWatch
from askport.tui.parts.practice_hands import PracticeHands
from askport.tui.question import Question
from askport.tui.widgets.octets import OctetKeys
from askport.tui.workplace import Workplace


class Desk(Protocol):
    """The screen of the job."""

    workplace: Workplace
    laptop: LaptopWatch
    hands: PracticeHands
    octets: OctetKeys
    looking_at: steps.Step | None

    def ask(self, question: Question) -> None:
        """Ask for one line."""

    def tell(self, text: str) -> None:
        """Say something beside the way."""

    def draw(self) -> None:
        """Show the state of this moment."""

    def act(self, intent: Callable[[session.Session, float], Any]) -> None:
        """Give the session an intent, and have the cable take it up."""

    def view(self, screen: Screen[Any], closed: Callable[[Any], None] | None = None) -> None:
        """Open a view over this one."""

    def open_door(self) -> object:
        """Open a browser on the device's page."""

    def do_next(self) -> None:
        """Do what the bottom line says."""

    def take_next(self) -> None:
        """Go on to the next device."""
