"""Transports: a module for each way in which a stream reaches the device."""
