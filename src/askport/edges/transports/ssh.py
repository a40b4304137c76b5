"""SSH over one adapter, with the old algorithms of devices that have no others (RFC 4251 to 4254)."""

from typing import Any

from askport.core.channels import SshPort
from askport.core.phrases import phrase
from askport.edges import log
from askport.edges.transports import hush, tcp_socket

_ALIVE_S, _MISSED = 1, 2
_LONGEST_S = 15
"""For the log-in: an old device takes seconds for its keys."""
_OLD = {
    "kex_algs": "+diffie-hellman-group14-sha1,diffie-hellman-group1-sha1,diffie-hellman-group-exchange-sha1",
    "server_host_key_algs": "+ssh-rsa,ssh-dss",
    "encryption_algs": "+aes128-cbc,aes192-cbc,aes256-cbc,3des-cbc",
    "mac_algs": "+hmac-sha1",
}
"""Offered last: a device that has better ones uses them."""


class _Session:
    """One shell, as a stream; its reader and its writer are both this."""

    def __init__(self, connection: Any, stdin: Any, stdout: Any, key: str | None) -> None:
        self.key = key
        self._connection, self._stdin, self._stdout = connection, stdin, stdout

    async def read(self, most: int) -> bytes:
        """Return what came, or nothing at the end."""
        import asyncssh

        try:
            return bytes(await self._stdout.read(most))
        except asyncssh.Error as error:
            raise ConnectionError(phrase("SSH: {reason}", reason=error.reason)) from None

    def write(self, data: bytes) -> None:
        """Send."""
        self._stdin.write(data)

    def close(self) -> None:
        """End it."""
        self._connection.close()


async def connect(over: tcp_socket.Sockets, far: SshPort) -> tuple[Any, Any]:
    """Connect over one cable, log in and open a shell.

    Raises:
        OSError: the device refuses, or cannot be reached, or does not take the log-in.
        TimeoutError: nothing has come back.
    """
    import asyncssh  # here, because it takes a second to load

    hush("asyncssh")
    connection = tcp_socket.watch(await tcp_socket.connected_socket(over, far))
    session, shell_is_open = None, False
    try:
        session = await asyncssh.connect(
            sock=connection,
            username=far.user,
            password=far.password,
            config=None,
            known_hosts=None,  # whose key it is cannot be known of a device out of the box; it is said instead
            client_keys=None,
            agent_path=None,
            login_timeout=_LONGEST_S,
            keepalive_interval=_ALIVE_S,
            keepalive_count_max=_MISSED,
            **_OLD,
        )
        stdin, stdout, _ = await session.open_session(term_type="vt100", encoding=None)
        shell_is_open = True
    except asyncssh.PermissionDenied:
        raise ConnectionError(phrase("it did not take the log-in name and password")) from None
    except asyncssh.Error as error:
        raise ConnectionError(phrase("SSH: {reason}", reason=error.reason)) from None
    finally:
        if session and not shell_is_open:  # refused, or called off in between
            session.abort()
    key = session.get_server_host_key()
    shown = str(key.get_fingerprint()) if key else None
    log.event("ssh", to=far, key=shown or "none")
    shell = _Session(session, stdin, stdout, shown)
    return shell, shell
