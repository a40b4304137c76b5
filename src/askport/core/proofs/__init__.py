"""The checks of the final state, each a machine with what was expected and what was measured."""
