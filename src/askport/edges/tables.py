"""Tables as files: CSV, XLSX and ODS, read as people have them."""

import csv
import io
import re
import zipfile
import zlib
from collections import Counter
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from askport.core.errors import BadInput, MachineRefused
from askport.core.phrases import phrase
from askport.core.text import display_text

_MAX_BYTES = 50_000_000
_MAX_UNPACKED = 150_000_000
_MAX_CELLS = 5_000_000
_CHUNK = 1_000_000
_TAIL = 40
"""Bytes: what is looked for may be cut between two chunks."""
MAX_ROWS = 50_000
"""More devices than any site has; a plan is held in memory as a whole."""
_LONGEST_CELL = 50
"""Lines of one cell: a longer one is a quotation mark that nobody closed."""
_AT = re.compile(rb'\sr="([A-Z]{1,4})(\d{1,8})"')
_REPEATED = re.compile(rb'number-columns-repeated="(\d{1,9})"[^>]*>[^<]{0,2}<text')
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
            raise BadInput("There is no file '{name}': give a CSV, XLSX or ODS file.", name=name)
        if path.stat().st_size > _MAX_BYTES:
            raise BadInput(
                "'{name}' has more than {max_bytes} MB: save the table alone.",
                name=name,
                max_bytes=_MAX_BYTES // 1_000_000,
            )
        if path.suffix.lower() in _SHEETS:
            return _sheets(path, name)
        return [_csv(path.read_bytes(), name)]
    except OSError as error:
        raise MachineRefused("'{name}' cannot be read: {why}.", name=name, why=error.strerror) from None


def _sheets(path: Path, name: str) -> list[Table]:
    from python_calamine import CalamineError, load_workbook

    tables = []
    try:
        if zipfile.is_zipfile(path):
            _see_size(path, name)
        with load_workbook(path) as book:
            for title in book.sheet_names:
                sheet = book.get_sheet_by_name(title)
                rows = [[_cell(each) for each in row] for row in sheet.to_python(skip_empty_area=False)]
                # What spans several cells stands in the first of them only.
                for (top, left), (bottom, right) in sheet.merged_cell_ranges or ():
                    if top < len(rows) and left == right:
                        for place in range(top + 1, min(bottom + 1, len(rows))):
                            rows[place][left] = rows[place][left] or rows[top][left]
                tables.append(Table(title, _few(rows, name), phrase("sheet '{title}'", title=display_text(title, 40))))
    except (CalamineError, ValueError, OverflowError, zipfile.BadZipFile, zlib.error) as error:
        raise BadInput(
            "'{name}' cannot be read as a spreadsheet ({error}): save it anew, or as CSV.", name=name, error=error
        ) from None
    return tables


def _see_size(path: Path, name: str) -> None:
    """Refuse a spreadsheet that would fill the memory: one of endless cells, or with a cell far from all others.

    Whoever reads a sheet makes a table of everything between its first cell and its last (ISO/IEC 29500-1 section
    18.3.1.4, OpenDocument 1.3 section 19.677).

    Raises:
        BadInput: it is one.
    """
    with zipfile.ZipFile(path) as packed:
        parts = packed.infolist()
        if sum(each.file_size for each in parts) > _MAX_UNPACKED:
            raise BadInput(
                "'{name}' unpacks to more than {max_unpacked} MB: save the table alone.",
                name=name,
                max_unpacked=_MAX_UNPACKED // 1_000_000,
            )
        for part in parts:
            if not part.filename.endswith(".xml"):
                continue
            rows = columns = 0
            held = b""
            with packed.open(part) as xml:
                while data := xml.read(_CHUNK):
                    text = held + data
                    for letters, digits in _AT.findall(text):
                        rows = max(rows, int(digits))
                        columns = max(columns, _column(letters))
                    repeats = [int(each) for each in _REPEATED.findall(text)]
                    columns = max(columns, *repeats) if repeats else columns
                    held = text[-_TAIL:]
            if rows * max(columns, 1) > _MAX_CELLS:
                raise BadInput(
                    "'{name}' has a cell far from all others, in row {rows}: delete what is empty there.",
                    name=name,
                    rows=rows,
                )


def _column(letters: bytes) -> int:
    number = 0
    for each in letters:
        number = number * 26 + each - 64
    return number


def _few(rows: list[list[str]], name: str) -> list[list[str]]:
    if len(rows) > MAX_ROWS:
        raise BadInput(
            "'{name}' has more than {max_rows:,} rows: split it, by its subnets say.", name=name, max_rows=MAX_ROWS
        )
    return rows


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
    rows = _few(_csv_rows(text, separator, name), name)
    words = {";": "semicolons", ",": "commas", "\t": "tabs", "|": "bars"}.get(separator, f"'{separator}'")
    return Table("", rows, phrase("{encoding} with {words}", encoding=encoding, words=words))


def _csv_rows(text: str, separator: str, name: str) -> list[list[str]]:
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=separator, skipinitialspace=True)
    rows, line = list[list[str]](), 1
    try:
        for row in reader:
            if reader.line_num - line >= _LONGEST_CELL:
                raise csv.Error
            rows.append(row)
            line = reader.line_num + 1
            if len(rows) > MAX_ROWS:
                break
    except csv.Error:
        raise BadInput(
            "'{name}', line {line}: a quotation mark opens there and is not closed: close it.", name=name, line=line
        ) from None
    return rows


def _decoded(data: bytes, name: str) -> tuple[str, str]:
    for mark, encoding in _BOMS:
        if data.startswith(mark):
            try:
                return data.decode(encoding), encoding.removesuffix("-sig").upper()
            except UnicodeDecodeError:
                raise BadInput(
                    "'{name}' begins as {encoding} and is not: save it as UTF-8.", name=name, encoding=encoding
                ) from None
    try:
        return data.decode("utf-8"), "UTF-8"
    except UnicodeDecodeError:
        pass
    if b"\0" in data[:4000]:
        raise BadInput("'{name}' is not a text: save it as CSV in UTF-8, or as XLSX.", name=name)
    return data.decode("cp1252", "replace"), "Windows-1252"


def _separator(lines: list[str]) -> str:
    """Return what separates the columns: what most lines have alike, outside quotes."""

    def score(separator: str) -> tuple[int, int]:
        counts = Counter(len(next(csv.reader([line], delimiter=separator), [])) for line in lines[:50] if line.strip())
        wide = {columns: often for columns, often in counts.items() if columns > 1}
        columns, often = max(wide.items(), key=lambda each: (each[1], each[0]), default=(1, 0))
        return often, columns

    return max(_SEPARATORS, key=score)
