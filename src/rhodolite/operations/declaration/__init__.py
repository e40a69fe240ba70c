"""Operations declared once: options, help, methods, the reference page and records come from it.

Holds the base class of operations, their parameters, and their form as plain dictionaries.
Never knows of any particular operation, and computes nothing.
"""

from rhodolite.operations.declaration.parameter import Parameter, parameter, parameters
from rhodolite.operations.declaration.plain import (
    description,
    from_plain,
    summary,
    to_plain,
)
from rhodolite.operations.declaration.step import Operation, Step

__all__ = [
    "Operation",
    "Parameter",
    "Step",
    "description",
    "from_plain",
    "parameter",
    "parameters",
    "summary",
    "to_plain",
]
