"""Tables as files: CSV, XLSX and ODS, read as people have them."""

import csv
import io
from collections import Counter
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from askport.core.errors import BadInput, MachineRefused
from askport.core.text import display_text

_MAX_BYTES = 50_000_000
_SEPARATORS = ";,\t|"
_SHEETS = frozenset({".xlsx", ".xlsm", ".xls", ".ods"})
_BOMS = ((b"\xef\xbb\xbf", "utf-8-sig"), (b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16"))


@dataclass(frozen=True, slots=True)
class Table:
    """One table of a file."""

    name: str
    rows: list[list[str]]
    read_as: str
    """How it was read, in words."""


def read_tables(path: Path) -> list[Table]:
    """Read every table of a file; a CSV file has one.

    Raises:
        BadInput: there is no such file, or it is no table.
        MachineRefused: it cannot be read.
    """
    name = display_text(str(path), 200)
    try:
        if not path.is_file():
            raise BadInput(f"There is no file '{name}': name a CSV, XLSX or ODS file.")
        if path.stat().st_size > _MAX_BYTES:
            raise BadInput(f"'{name}' has more than {_MAX_BYTES // 1_000_000} MB: save the table alone.")
        if path.suffix.lower() in _SHEETS:
            return _sheets(path, name)
        return [_csv(path.read_bytes(), name)]
    except OSError as error:
        raise MachineRefused(f"'{name}' cannot be read: {error.strerror}.") from None


def _sheets(path: Path, name: str) -> list[Table]:
    from python_calamine import CalamineError, load_workbook

    tables = []
    try:
        with load_workbook(path) as book:
            for title in book.sheet_names:
                sheet = book.get_sheet_by_name(title)
                rows = [[_cell(each) for each in row] for row in sheet.to_python(skip_empty_area=False)]
                # What spans several cells stands in the first of them only.
                for (top, left), (bottom, right) in sheet.merged_cell_ranges or ():
                    if top < len(rows) and left == right:
                        for place in range(top + 1, min(bottom + 1, len(rows))):
                            rows[place][left] = rows[place][left] or rows[top][left]
                tables.append(Table(title, rows, f"sheet '{display_text(title, 40)}'"))
    except (CalamineError, ValueError, OverflowError) as error:
        raise BadInput(f"'{name}' cannot be read as a spreadsheet ({error}): save it anew, or as CSV.") from None
    return tables


def _cell(value: Any) -> str:
    """Return a cell as a person reads it: a whole number has no decimal point."""
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    return "" if value is None else str(value)


def _csv(data: bytes, name: str) -> Table:
    text, encoding = _decoded(data, name)
    lines = text.splitlines()
    separator = ""
    if lines and lines[0].lower().startswith("sep=") and len(lines[0]) == 5:
        separator, text = lines[0][4], "\n".join(["", *lines[1:]])
    separator = separator or _separator(lines)
    rows = list(csv.reader(io.StringIO(text, newline=""), delimiter=separator, skipinitialspace=True))
    words = {";": "semicolons", ",": "commas", "\t": "tabs", "|": "bars"}.get(separator, f"'{separator}'")
    return Table("", rows, f"{encoding} with {words}")


def _decoded(data: bytes, name: str) -> tuple[str, str]:
    for mark, encoding in _BOMS:
        if data.startswith(mark):
            try:
                return data.decode(encoding), encoding.removesuffix("-sig").upper()
            except UnicodeDecodeError:
                raise BadInput(f"'{name}' begins as {encoding} and is not: save it as UTF-8.") from None
    try:
        return data.decode("utf-8"), "UTF-8"
    except UnicodeDecodeError:
        pass
    if b"\0" in data[:4000]:
        raise BadInput(f"'{name}' is no text: save it as CSV in UTF-8, or as XLSX.")
    return data.decode("cp1252", "replace"), "Windows-1252"


def _separator(lines: list[str]) -> str:
    """Return what separates the columns: what most lines have alike, outside quotes."""

    def score(separator: str) -> tuple[int, int]:
        counts = Counter(len(next(csv.reader([line], delimiter=separator), [])) for line in lines[:50] if line.strip())
        wide = {columns: often for columns, often in counts.items() if columns > 1}
        columns, often = max(wide.items(), key=lambda each: (each[1], each[0]), default=(1, 0))
        return often, columns

    return max(_SEPARATORS, key=score)
