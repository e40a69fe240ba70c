"""What packages import that add verbs, pictures or formats to Rhodolite."""

from rhodolite.arrays import Array, Engine, InMemory, LazyArray, Mapped
from rhodolite.drawing.base import Drawing
from rhodolite.errors import DataError, UsageError, warn
from rhodolite.formats.layout import Layout
from rhodolite.formats.registry import Format
from rhodolite.model.dataset import Dataset, SourceFile
from rhodolite.model.typed_value import TypedValue
from rhodolite.model.variable import Variable
from rhodolite.operations.declaration import Operation, parameter

__all__ = [
    "Array",
    "DataError",
    "Dataset",
    "Drawing",
    "Engine",
    "Format",
    "InMemory",
    "Layout",
    "LazyArray",
    "Mapped",
    "Operation",
    "SourceFile",
    "TypedValue",
    "UsageError",
    "Variable",
    "parameter",
    "warn",
]
