"""The practice bench: a simulated wire in virtual time and stand-in devices that speak bytes."""
