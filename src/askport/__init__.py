"""Ask Port: finds a device's address on one cable, sets the final one, proves it and gives the laptop back."""

__version__ = "0.1.0"
