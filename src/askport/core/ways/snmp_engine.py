"""SNMP messages to a device's agent and from it (RFC 3411): a general package makes and reads them, in memory."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from enum import Enum
from ipaddress import IPv4Address
from typing import Any

from askport.core.errors import BadInput, Wants
from askport.core.kinds.model import SnmpAuth, SnmpPrivacy, SnmpVersion
from askport.core.phrases import phrase

Oid = tuple[int, ...]
Value = int | bytes | Oid | IPv4Address
"""An integer, octets, a name, or an address; as one is told, so it is typed."""
_MIN_PASSWORD = 8
_DOMAIN: Oid = (1, 3, 6, 1, 6, 1, 1)
_AGENT = ("192.0.2.1", 161)
"""What the package calls the agent by; it is never sent to from there."""
_AUTH = {
    "md5": "HMAC96_MD5", "sha": "HMAC96_SHA", "sha-224": "HMAC128_SHA224", "sha-256": "HMAC192_SHA256",
    "sha-384": "HMAC256_SHA384", "sha-512": "HMAC384_SHA512",
}  # fmt: skip
_PRIVACY = {"des": "CBC56_DES", "aes": "CFB128_AES", "aes-192": "CFB192_AES", "aes-256": "CFB256_AES"}
ERROR_STATUS = {
    1: phrase("the answer would be too big for it"),
    2: phrase("it has no such value"),
    3: phrase("it does not take that value"),
    4: phrase("that can only be read"),
    5: phrase("it could not, and does not say why"),
    6: phrase("this access does not let that be done"),
    7: phrase("that value has another type"),
    8: phrase("that value has another length"),
    9: phrase("that value is coded otherwise"),
    10: phrase("it does not take that value"),
    11: phrase("it makes no such row"),
    12: phrase("that value does not go with others that it has"),
    13: phrase("it lacks the room for that"),
    14: phrase("it could not be saved"),
    15: phrase("it could not be saved, and not be undone either"),
    16: phrase("this access does not let that be done"),
    17: phrase("that cannot be written"),
    18: phrase("it makes no such row now"),
}
"""What its error status means, as the end of a sentence (RFC 3416 section 3)."""
INDICATIONS = {
    "UnknownUserName": phrase("it knows no user of that name"),
    "UnknownSecurityName": phrase("it knows no user of that name"),
    "WrongDigest": phrase("it does not take the password, or wants another hash (MD5, SHA): give it in its kind"),
    "AuthenticationFailure": phrase("what it answered was not made with this password"),
    "AuthenticationError": phrase("what it answered was not made with this password"),
    "DecryptionError": phrase("it uses another encryption (DES, AES): give it in its kind"),
    "UnsupportedSecurityLevel": phrase("it lets this user in at another security level only: give it in its kind"),
    "UnsupportedAuthProtocol": phrase("it does not know this hash: choose another in its kind"),
    "UnsupportedPrivProtocol": phrase("it does not know this encryption: choose another in its kind"),
    "NotInTimeWindow": phrase("it takes the request for an old one: its clock jumps"),
    "UnknownEngineID": phrase("it does not say which engine it is"),
    "UnknownContext": phrase("it does not know the context that it was asked in"),
    "UnavailableContext": phrase("the context that it was asked in is not there now"),
    "NoSuchView": phrase("this access shows nothing"),
    "NoAccessEntry": phrase("this access shows nothing"),
    "NoGroupName": phrase("this access shows nothing"),
    "NotInView": phrase("this access does not show that"),
    "ParseError": phrase("what it answered cannot be read"),
    "UnsupportedMsgProcessingModel": phrase("it speaks another version of SNMP: give it in its kind"),
    "UnsupportedSecurityModel": phrase("it speaks another version of SNMP: give it in its kind"),
}
"""What is wrong with the access, as the end of a sentence (RFC 3414 section 3.2, RFC 3412 section 7.2)."""


class Asks(Enum):
    """What is done to a value."""

    GET = "get"
    NEXT = "next"
    SET = "set"


@dataclass(frozen=True, slots=True)
class Access:
    """By what an agent lets somebody in."""

    version: SnmpVersion
    user: str = ""
    """A user of version 3."""
    password: str = field(default="", repr=False)
    """The community of versions 1 and 2c (RFC 3584), or the password of a user."""
    auth: SnmpAuth | None = None
    privacy: SnmpPrivacy | None = None

    def require_whole(self) -> None:
        """See that nothing is missing.

        Raises:
            BadInput: something is.
        """
        if self.version != "3":
            if not self.password:
                raise BadInput(
                    "SNMP asks for its community: give it as its password, with --password-from.", code=Wants.COMMUNITY
                )
        elif not self.user:
            raise BadInput("SNMP version 3 asks for a user: give it with --user, and its password.", code=Wants.LOG_IN)
        elif (self.auth or self.privacy) and len(self.password) < _MIN_PASSWORD:
            raise BadInput(
                "A password of SNMP version 3 has at least {min_password} characters: this one is shorter.",
                min_password=_MIN_PASSWORD,
                code=Wants.LOG_IN,
            )


@dataclass(frozen=True, slots=True)
class SnmpAnswer:
    """What came of one question."""

    refusal: str = ""
    """Why not, as the end of a sentence."""
    name: Oid = ()
    value: Value | None = None
    """None where it has none of that name."""
    is_shut_out: bool = False
    """Whether the access itself was refused, so that nothing more need be asked."""


class AgentTalk:
    """Makes questions to one agent out of its access, and reads its answers; what is sent is taken from it."""

    def __init__(self, access: Access) -> None:
        """Have an engine of our own made; it is loaded late, because not every start needs it.

        Raises:
            BadInput: the access lacks something.
        """
        access.require_whole()
        from pysnmp.carrier.base import AbstractTransport, AbstractTransportAddress, AbstractTransportDispatcher
        from pysnmp.entity import config
        from pysnmp.entity.engine import SnmpEngine

        talk = self

        class Dispatcher(AbstractTransportDispatcher):  # type: ignore[misc]
            pass

        class Address(tuple, AbstractTransportAddress):  # type: ignore[type-arg, misc]
            pass

        class Transport(AbstractTransport):  # type: ignore[misc]
            PROTO_TRANSPORT_DISPATCHER = Dispatcher
            ADDRESS_TYPE = Address

            def send_message(self, message: bytes, _: object) -> None:
                talk.message, talk.is_new = bytes(message), True

        self.message = b""
        """What is to be sent now, and again where nothing comes."""
        self.is_new = False
        """Whether it is another one than was sent."""
        self.answer: SnmpAnswer | None = None
        """What came of the question, once it did."""
        self._version = access.version
        self._engine: Any = SnmpEngine()
        self._address = Address(_AGENT)
        self._engine.register_transport_dispatcher(Dispatcher())
        config.add_transport(self._engine, _DOMAIN, Transport())
        if access.version == "3":
            level = "authPriv" if access.privacy else "authNoPriv" if access.auth else "noAuthNoPriv"
            auth = getattr(config, f"USM_AUTH_{_AUTH[access.auth]}") if access.auth else config.USM_AUTH_NONE
            privacy = (
                getattr(config, f"USM_PRIV_{_PRIVACY[access.privacy]}") if access.privacy else config.USM_PRIV_NONE
            )
            password = access.password.encode() or None
            config.add_v3_user(self._engine, access.user, auth, password, privacy, password)
            config.add_target_parameters(self._engine, "access", access.user, level, 3)
        else:
            config.add_v1_system(self._engine, "access", access.password.encode("utf-8"))
            config.add_target_parameters(self._engine, "access", "access", "noAuthNoPriv", int(access.version != "1"))
        config.add_target_address(self._engine, "agent", _DOMAIN, self._address, "access", retryCount=0)

    def ask(self, asks: Asks, values: Sequence[tuple[Oid, Value | None]]) -> None:
        """Make a question; of several values, the first one's answer counts."""
        from pysnmp.entity.rfc3413 import cmdgen
        from pysnmp.proto import rfc1902

        kinds = {int: rfc1902.Integer32, bytes: rfc1902.OctetString, IPv4Address: rfc1902.IpAddress}
        bound = []
        for name, value in values:
            if value is None:
                typed = rfc1902.Null("")
            elif isinstance(value, tuple):
                typed = rfc1902.ObjectIdentifier(value)
            else:
                typed = kinds[type(value)](str(value) if isinstance(value, IPv4Address) else value)
            bound.append((rfc1902.ObjectName(name), typed))
        generators = {
            Asks.GET: cmdgen.GetCommandGenerator, Asks.NEXT: cmdgen.NextCommandGeneratorSingleRun,
            Asks.SET: cmdgen.SetCommandGenerator,
        }  # fmt: skip
        self.answer = None
        generators[asks]().send_varbinds(self._engine, "agent", None, "", bound, self._answered)

    def receive(self, message: bytes) -> None:
        """Take what came from the agent, whatever it is."""
        from pyasn1.error import PyAsn1Error
        from pysnmp.error import PySnmpError

        try:
            self._engine.message_dispatcher.receive_message(self._engine, _DOMAIN, self._address, message)
        except (
            PySnmpError, PyAsn1Error, ValueError, TypeError, LookupError, AttributeError, ArithmeticError,
            RecursionError,
        ):  # fmt: skip
            return  # the package reads what was sent to it by letting itself fail

    def _answered(self, _: Any, __: int, indication: Any, status: Any, index: Any, values: Any, ___: Any) -> None:
        number = int(status)
        if indication:
            name = type(indication).__name__
            self.answer = SnmpAnswer(INDICATIONS.get(name, phrase("it refused ({name})", name=name)), is_shut_out=True)
        elif number:
            self.answer = SnmpAnswer(ERROR_STATUS.get(number, phrase("error status {number}", number=number)))
        elif values:
            name, value = values[0]
            self.answer = SnmpAnswer("", tuple(name), _plain(value))
        else:
            self.answer = SnmpAnswer(ERROR_STATUS[2])


def _plain(value: Any) -> Value | None:
    """Return a value as ours; of its types, those that are asked for here (RFC 2578 section 7.1)."""
    from pyasn1.type import univ
    from pysnmp.proto import rfc1902, rfc1905

    if isinstance(value, rfc1905.NoSuchObject | rfc1905.NoSuchInstance | rfc1905.EndOfMibView | univ.Null):
        return None
    if isinstance(value, rfc1902.IpAddress):
        octets = bytes(value)
        return IPv4Address(octets) if len(octets) == 4 else None
    if isinstance(value, univ.ObjectIdentifier):
        return tuple(value)
    if isinstance(value, univ.Integer):
        return int(value)
    return bytes(value) if isinstance(value, univ.OctetString) else None
