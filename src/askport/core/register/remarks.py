"""What somebody writes down about a device in his own words."""

from askport.core.errors import BadInput

MAX_REMARK = 400
"""Characters: what fits on a page of the handover."""


def clean_remark(text: str) -> str:
    """Return a remark as it is kept.

    Raises:
        BadInput: it is empty, too long, or has characters that cannot be printed.
    """
    remark = " ".join(text.split())
    if not remark or len(remark) > MAX_REMARK or not remark.isprintable():
        raise BadInput(f"A remark has 1 to {MAX_REMARK} printable characters: this one has {len(remark)}.")
    return remark
