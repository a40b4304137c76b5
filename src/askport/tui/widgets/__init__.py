"""The parts of the screen that every step has."""
