"""The small privileged process that owns an adapter while it is borrowed and always gives it back: no packages."""
