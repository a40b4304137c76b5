"""The keeper: the one process that may change the adapter, and that always gives it back.

It is started as root for one adapter, opens the packet socket, borrows and gives back addresses on request, and
nothing else. When the other end of its socket closes, for whatever reason, it gives everything back and ends.
"""
