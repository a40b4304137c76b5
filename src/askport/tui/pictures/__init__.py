"""The picture of each step: pure functions from a session to lines."""
