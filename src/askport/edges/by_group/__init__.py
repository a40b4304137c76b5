"""The keeper for whoever is in the group, started by a socket of systemd's: it does not trust who asks.

The standard library, the kernel's room and the keeper, and nothing else of this package.
"""

ASKS_FOR_A_WORD = "default-route"
"""The code of a refusal that saying the adapter's name once more takes away."""
