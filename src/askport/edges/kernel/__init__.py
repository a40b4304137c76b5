"""The kernel's own interfaces to adapters: messages about them (rtnetlink(7)), and packet sockets (packet(7))."""
