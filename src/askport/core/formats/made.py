"""Making the value of a layer."""

made = tuple.__new__
"""Makes a NamedTuple of all its values in order. Naming them takes half of the time that reading a frame may take."""
