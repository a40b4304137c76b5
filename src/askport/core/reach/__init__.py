"""Whether laptop and device can talk, and which address the laptop borrows so that they can."""
