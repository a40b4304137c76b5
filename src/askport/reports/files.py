"""Reports as files, written whole or not at all."""

import json
from collections.abc import Iterable
from pathlib import Path

from askport.core.register.fold import Row
from askport.reports.register import register_csv, register_json


def write_register(rows: Iterable[Row], path: Path, *, csv: bool) -> None:
    """Write the register to a file; what stood there before stays until the new one is complete."""
    kept = list(rows)
    text = register_csv(kept) if csv else json.dumps(register_json(kept), indent=2, ensure_ascii=False) + "\n"
    draft = path.with_name(path.name + ".part")
    try:
        draft.write_text(text, encoding="utf-8", newline="")
        draft.replace(path)
    finally:
        draft.unlink(missing_ok=True)
