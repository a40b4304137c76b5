"""A MAC address as a field of what is stored."""

from typing import Annotated

from pydantic import PlainSerializer, PlainValidator

from askport.core.addresses import MacAddress


def _mac(value: object) -> MacAddress:
    return value if isinstance(value, MacAddress) else MacAddress.parse(str(value))


Mac = Annotated[MacAddress, PlainValidator(_mac), PlainSerializer(str, return_type=str)]
