"""One device at the cable, from plugging it in to its record."""
