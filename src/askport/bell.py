"""Waiting that can be ended from outside, and never swallows that it was called off.

``asyncio.wait_for`` does on Python 3.11 where what it waits for comes about at the moment of the cancelling: whoever
waits in a loop then goes on for ever (fixed in 3.12). A future that is awaited bare cannot.
"""

import asyncio


class Bell:
    """Rings once for whoever waits, or for the next who will."""

    def __init__(self) -> None:
        self._has_rung = False
        self._waits: asyncio.Future[None] | None = None

    @property
    def has_rung(self) -> bool:
        """Whether it has rung, and nobody has waited for it since."""
        return self._has_rung

    def ring(self) -> None:
        """End the waiting under way, or the next one at once."""
        self._has_rung = True
        if self._waits and not self._waits.done():
            self._waits.set_result(None)

    def clear(self) -> None:
        """Forget that it has rung."""
        self._has_rung = False

    async def wait(self, longest_s: float) -> bool:
        """Wait for it, at the longest so many seconds; return whether it has rung."""
        if not self._has_rung:
            loop = asyncio.get_running_loop()
            self._waits = loop.create_future()
            timer = loop.call_later(longest_s, self._over, self._waits)
            try:
                await self._waits
            finally:
                timer.cancel()
                self._waits = None
        rung, self._has_rung = self._has_rung, False
        return rung

    @staticmethod
    def _over(waits: "asyncio.Future[None]") -> None:
        if not waits.done():
            waits.set_result(None)
