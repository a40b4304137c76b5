"""The log: what was done to the adapter and why frames were dropped, as events in a file that stays small.

Nothing is written before ``begin``, and nothing where the file cannot be had: a log stops no work. Passwords never come
here: what is sent on a stream is told by its length only.
"""

from collections.abc import MutableMapping
from enum import StrEnum
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, Any

from askport.core.text import display_text

if TYPE_CHECKING:
    from askport.core.wire import Heard

_MAX_BYTES, _OLD_ONES = 1_000_000, 2
_MAX_TEXT = 500


class Level(StrEnum):
    """From which event on the log is written."""

    DEBUG = "debug"
    """Dropped frames too, each with its reason."""
    INFO = "info"
    WARNING = "warning"
    """Only what went wrong."""


class _Log:
    """The one log of this run."""

    def __init__(self) -> None:
        self.level = Level.INFO
        self.path: Path | None = None
        """Where it is, once it is written."""
        self.logger: Any = None


_LOG = _Log()


def set_level(level: Level) -> None:
    """Have the log begin at this level."""
    _LOG.level = level


def where() -> Path | None:
    """Return where the log is, or None where none is written."""
    return _LOG.path


def begin(directory: Path | None = None) -> None:
    """Begin to write, as the user who called; again, it does nothing."""
    if _LOG.logger is not None:
        return
    try:
        # Here, because they take as long to load as a command's start.
        logging, handlers = import_module("logging"), import_module("logging.handlers")
        structlog = import_module("structlog")
        path = (directory or import_module("platformdirs").user_state_path("askport")) / "askport.log"
        path.parent.mkdir(parents=True, exist_ok=True)
        handler = handlers.RotatingFileHandler(path, maxBytes=_MAX_BYTES, backupCount=_OLD_ONES, encoding="utf-8")
    except (OSError, ImportError):
        return
    writer = logging.Logger("askport", logging.DEBUG)
    handler.setFormatter(logging.Formatter("%(message)s"))
    handler.handleError = lambda _record: None  # a full disk stops no work
    writer.addHandler(handler)
    _LOG.path = path
    _LOG.logger = structlog.wrap_logger(
        writer,
        processors=[
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso", utc=True),
            structlog.processors.format_exc_info,
            _clean,
            structlog.processors.LogfmtRenderer(key_order=["timestamp", "level", "event"]),
        ],
        wrapper_class=structlog.make_filtering_bound_logger(getattr(logging, _LOG.level.upper())),
    )


def event(what: str, **facts: object) -> None:
    """Write down what was done."""
    if _LOG.logger is not None:
        _LOG.logger.info(what, **facts)


def wrong(what: str, **facts: object) -> None:
    """Write down what went wrong; inside an ``except``, with where that was."""
    if _LOG.logger is not None:
        _LOG.logger.error(what, **facts)


def dropped(heard: "Heard", reason: str) -> None:
    """Write down that a frame told nothing, and why."""
    if _LOG.logger is not None and _LOG.level is Level.DEBUG:
        from askport.core.formats.ethernet import Ethernet  # has been loaded by whoever heard the frame

        ethernet = heard.packet.get(Ethernet)
        source = str(ethernet.src) if ethernet else None
        _LOG.logger.debug("frame dropped", source=source, bytes=len(heard.data), reason=reason)


def _clean(_: object, __: str, facts: MutableMapping[str, Any]) -> MutableMapping[str, Any]:
    """Make every text harmless, line by line: it may come from the wire."""
    for key, value in facts.items():
        if not isinstance(value, bool | int | float | None):
            lines = str(value).splitlines()[-40:]
            facts[key] = " | ".join(display_text(each, _MAX_TEXT) for each in lines)
    return facts
