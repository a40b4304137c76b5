"""The site and what a device is meant to become."""
