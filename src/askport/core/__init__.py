"""The job itself, without sockets, files, clocks or randomness of its own."""
