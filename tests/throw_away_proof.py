"""A proof that the plan's own column asks for: what a new one takes is this module and one line of the table."""

from askport.core.proofs.proof import Proof


class MacEnds(Proof):
    """The device's MAC address ends as the plan says."""

    name = "mac-ends"

    def __init__(self, subject, ending):
        super().__init__()
        self._mac, self._ending = str(subject.mac), ending
        self.expected = f"its MAC address ends in {ending}"

    def handle_timer(self, now):
        if not self.done:
            self._end(self._mac.endswith(self._ending), self._mac, f"It is {self._mac}.")

    def next_deadline(self):
        return None if self.done else 0.0


def mac_ends(making):
    if ending := making.expected.columns.get("MAC ends"):
        yield MacEnds(making.subject, ending)
