"""Kinds: what is known of devices of one sort, out of files that technicians write and share."""
