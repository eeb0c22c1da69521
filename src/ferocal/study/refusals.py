"""Why a value is refused, in words of our own: no text of a library reaches a user."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ferocal.terms.wording import shortened

if TYPE_CHECKING:
    from pydantic_core import ErrorDetails

# What a value has to be, by what is wrong with it.
_WANTED = {
    "dict_type": "a table",
    "model_type": "a table",
    "model_attributes_type": "a table",
    "dataclass_type": "a table",
    "list_type": "a list",
    "tuple_type": "a list",
    "string_type": "a text in quotes",
    "int_type": "a whole number",
    "int_parsing": "a whole number",
    "int_from_float": "a whole number",
    "float_type": "a number",
    "float_parsing": "a number",
    "finite_number": "a finite number",
    "bool_type": "true or false",
    "bool_parsing": "true or false",
    "date_type": "a date such as 2026-05-01",
    "date_parsing": "a date such as 2026-05-01",
    "date_from_datetime_parsing": "a date such as 2026-05-01",
    "date_from_datetime_inexact": "a date such as 2026-05-01",
    "literal_error": "{expected}",
    "json_invalid": "JSON",
    "json_type": "JSON",
    "greater_than": "above {gt}",
    "greater_than_equal": "at least {ge}",
    "less_than": "below {lt}",
    "less_than_equal": "at most {le}",
    "string_too_short": "a text of at least {min_length} signs",
    "string_too_long": "a text of at most {max_length} signs",
    "string_pattern_mismatch": "a name of other signs",
}
_SIZES = {
    "too_short": "needs at least {min_length} entries",
    "too_long": "has more than {max_length} entries",
    "missing": "is missing",
    "extra_forbidden": "is not known",
}


def why_refused(details: ErrorDetails) -> str:
    """Why a value is refused, from what the validation says of it."""
    limits = details.get("ctx", {})
    kind = details["type"]
    if kind == "value_error":  # raised by a validator of our own
        return str(limits["error"])
    if kind in _SIZES:
        return _SIZES[kind].format(**limits)
    wanted = _WANTED.get(kind, "another value").format(**limits)
    return f"must be {wanted}; {shortened(repr(details['input']), 40)} is not"
