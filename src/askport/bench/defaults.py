"""How the demo starts; apart, so that asking for its help loads no bench."""

PACE = 4.0
"""The demo runs four times as fast as the clock: boots take seconds, and everything can still be watched."""
WIRES = ("crate", "twins", "house")
"""Where the cable can be: at the next device of the crate, on one switch with twins, or in a house's network."""
