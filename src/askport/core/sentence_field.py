"""A sentence as a field of what is stored: its template with its values, or text."""

from typing import Annotated

from pydantic import PlainSerializer, PlainValidator

from askport.core.phrases import read_stored, stored


def _sentence(value: object) -> str:
    return value if isinstance(value, str) else read_stored(value)


Sentence = Annotated[str, PlainValidator(_sentence), PlainSerializer(stored, when_used="json")]
