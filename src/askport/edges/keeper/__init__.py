"""The small privileged process that owns an adapter while it is borrowed, and always gives it back.

It is a program of its own: the standard library and the netlink library, and nothing else of this package.
"""
