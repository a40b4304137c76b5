"""The screens."""
