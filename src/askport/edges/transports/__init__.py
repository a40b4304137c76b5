"""Transports: a module for each way in which a stream reaches the device."""

import logging


def hush(package: str) -> None:
    """Keep what a package logs off the screen: it is about the device's bytes, and would be written over the cable."""
    logger = logging.getLogger(package)
    logger.propagate = False
    if not logger.handlers:
        logger.addHandler(logging.NullHandler())
