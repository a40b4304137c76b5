"""The ways of setting an address, each a state machine."""
