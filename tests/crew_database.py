"""A real PostgreSQL for a crew: in a folder, on a Unix socket and on a loopback port with TLS, and removed again."""

import datetime
import os
import pwd
import shutil
import socket
import subprocess
import time
from pathlib import Path

import psycopg
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric.ec import SECP256R1, generate_private_key
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from cryptography.x509.oid import NameOID

LOGINS = ("anna", "ben", "carla", *(f"m{number}" for number in range(10)))


class Database:
    """One server, with a database "site" whose owner is "owner"; a copy of another one where that is given."""

    def __init__(self, folder, made=None):
        self.folder = folder
        self.bin = max(Path("/usr/lib/postgresql").glob("*/bin"), key=lambda each: int(each.parts[-2]))
        self.environment = {"PATH": os.environ["PATH"], "LC_ALL": "C.UTF-8"}
        self.data = folder / "data"
        folder.mkdir(parents=True, exist_ok=True)
        self.user = []
        if os.geteuid() == 0:  # it refuses root
            nobody = pwd.getpwnam("nobody")
            self.user = ["setpriv", f"--reuid={nobody.pw_uid}", f"--regid={nobody.pw_gid}", "--clear-groups"]
            os.chown(folder, nobody.pw_uid, nobody.pw_gid)
            folder.chmod(0o755)
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]
        if made is None:
            self._run("initdb", "-D", self.data, "-U", "owner", "--auth=trust", "--no-sync", "-E", "UTF8")
        else:
            subprocess.run(["cp", "-a", made.data, self.data], check=True)
        self._certify()
        (self.data / "postgresql.conf").open("a").write(
            f"port={self.port}\nunix_socket_directories='{folder}'\nlisten_addresses='127.0.0.1'\nssl=on\n"
            f"ssl_cert_file='{folder}/server.crt'\nssl_key_file='{folder}/server.key'\nfsync=off\n"
        )
        self.start()
        self.crews = {}
        """What tests begin with, by its name: files, and a database to copy."""
        if made is None:
            for each in LOGINS:
                self.sql(f"CREATE ROLE {each} LOGIN", database="postgres")

    def _run(self, name, *arguments):
        done = subprocess.run([*self.user, str(self.bin / name), *map(str, arguments)], env=self.environment,
                              capture_output=True, text=True, cwd="/")  # fmt: skip
        assert done.returncode == 0, done.stderr + done.stdout

    def _certify(self):
        """Make a certificate for localhost and 127.0.0.1, by an authority of our own."""
        key, now = generate_private_key(SECP256R1()), datetime.datetime.now(datetime.UTC)
        name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "localhost")])
        made = x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key())
        made = made.serial_number(x509.random_serial_number()).not_valid_before(now)
        made = made.not_valid_after(now + datetime.timedelta(days=2))
        made = made.add_extension(x509.SubjectAlternativeName([x509.DNSName("localhost")]), critical=False)
        made = made.add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        (self.folder / "server.crt").write_bytes(made.sign(key, hashes.SHA256()).public_bytes(Encoding.PEM))
        private = key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
        (self.folder / "server.key").write_bytes(private)
        (self.folder / "server.key").chmod(0o600)
        if self.user:
            nobody = pwd.getpwnam("nobody")
            os.chown(self.folder / "server.key", nobody.pw_uid, nobody.pw_gid)

    def start(self):
        """Start it; its process is ``process``."""
        command = [*self.user, str(self.bin / "postgres"), "-D", str(self.data)]
        with (self.folder / "log").open("ab") as log:
            self.process = subprocess.Popen(command, env=self.environment, stdout=log, stderr=log, cwd="/")
        for _ in range(200):
            try:
                self.sql("SELECT 1", database="postgres")
                return
            except psycopg.OperationalError:  # it has not come up yet
                time.sleep(0.05)
        raise AssertionError((self.folder / "log").read_text())

    def kill(self):
        """End it as a power cycle would."""
        self.process.kill()
        self.process.wait()
        time.sleep(0.3)  # its children see that it is gone
        (self.data / "postmaster.pid").unlink(missing_ok=True)

    def stop(self):
        """End it in order."""
        self.process.terminate()
        self.process.wait(60)

    def anew(self, of="template1"):
        """Have nothing in the database "site", or what is in another one."""
        if self.process.poll() is not None:
            self.start()
        self.sql("DROP DATABASE IF EXISTS site WITH (FORCE)", database="postgres")
        self.sql(f"CREATE DATABASE site TEMPLATE {of} STRATEGY file_copy", database="postgres")

    def keep(self, name):
        """Keep the database "site" under a name, for tests that begin with what is in it."""
        self.sql(f"ALTER DATABASE site RENAME TO {name}", database="postgres")

    def url(self, login="owner", database="site"):
        """Return its URL by the Unix socket."""
        return f"postgresql://{login}@/{database}?host={self.folder}&port={self.port}"

    def sql(self, statement, login="owner", database="site", values=None):
        """Run a statement, and return the rows that come of it."""
        with psycopg.connect(self.url(login, database), autocommit=True, connect_timeout=3) as connection:
            found = connection.execute(statement, values)
            return found.fetchall() if found.description else []

    def remove(self):
        """End it, and take its folder away."""
        if self.process.poll() is None:
            self.process.terminate()
            try:
                self.process.wait(20)
            except subprocess.TimeoutExpired:
                self.process.kill()
        shutil.rmtree(self.folder, ignore_errors=True)
