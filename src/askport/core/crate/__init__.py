"""More than one unit of the same."""
