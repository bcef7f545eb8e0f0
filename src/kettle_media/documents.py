"""Documents at the edge: values described once, read and checked strictly, written, published.

pydantic reads straight into the core's frozen dataclasses: nothing is converted from another
type, fields that are not known are refused, fractions stand as text ("30000/1001").
"""

import json
from collections.abc import Callable
from dataclasses import is_dataclass
from typing import Any, Generic, NewType, TypeVar

from pydantic import ConfigDict, TypeAdapter, ValidationError
from pydantic.json_schema import GenerateJsonSchema
from pydantic_core import ErrorDetails

from kettle_core.errors import KettleError, TakeError

T = TypeVar("T")
_STRICT = ConfigDict(strict=True, extra="forbid", allow_inf_nan=False)
_SENTENCES = {
    "missing": "is missing",
    "unexpected_keyword_argument": "is not known",
    "int_type": "should be a whole number",
    "float_type": "should be a number",
    "finite_number": "should be a number",
    "string_type": "should be a text",
    "bool_type": "should be true or false",
    "dataclass_type": "should be an object",
    "dict_type": "should be an object",
    "tuple_type": "should be a list",
    "greater_than_equal": "should be at least {ge:g}",
    "greater_than": "should be more than {gt:g}",
    "less_than_equal": "should be at most {le:g}",
    "less_than": "should be less than {lt:g}",
    "multiple_of": "should be a multiple of {multiple_of:g}",
    "too_long": "should be a list of at most {max_length}",
    "string_too_long": "should have at most {max_length} characters",
    "literal_error": "should be {expected}",
    "union_tag_not_found": "does not say what it is",
    "union_tag_invalid": "is of no kind that is known",
    "json_invalid": "is no JSON",
}
# Of these the message says all; what came would say it again.
_PLAIN = {"missing", "unexpected_keyword_argument", "json_invalid", "union_tag_not_found"}


class _Schema(GenerateJsonSchema):
    """Without titles that say a field's name again; with what strict reading refuses."""

    def field_title_should_be_set(self, schema: Any) -> bool:
        return False

    def encode_default(self, dft: Any) -> Any:
        """A value of ours as it would be written."""
        if is_dataclass(dft):
            return TypeAdapter(type(dft)).dump_python(dft, mode="json")
        return super().encode_default(dft)

    def dataclass_schema(self, schema: Any) -> dict[str, Any]:
        return {**super().dataclass_schema(schema), "additionalProperties": False}


class Document(Generic[T]):
    """A kind of document: its values to JSON text and plain data, and back.

    Parameters
    ----------
    kind : a frozen dataclass, a tuple of them, or a tagged union
    what : what stands in a message for the whole, and before a field that is not there
    refusal : makes the error that is raised of a sentence and the field's path
    """

    def __init__(
        self,
        kind: Any,
        what: str = "It",
        refusal: Callable[[str, str], KettleError] = lambda told, _place: TakeError(told),
    ) -> None:
        # A dataclass by another name: pydantic asks one that it knows for a config of its own.
        self._adapter: TypeAdapter[T] = TypeAdapter(NewType("Values", kind), config=_STRICT)
        self._what, self._refusal = what, refusal

    def read(self, text: str | bytes) -> T:
        """Values of a JSON text.

        Raises
        ------
        KettleError
            The document's own, if it is damaged or not of this kind; it names the field's path.
        """
        try:
            return self._adapter.validate_json(text)
        except ValidationError as error:
            fault = error.errors(include_url=False)[0]
            place = _path(fault["loc"])
            told = f"{place or self._what} {_in_words(fault)}."
            raise self._refusal(told, place) from error

    def write(self, values: T) -> str:
        """One line of JSON that `read` reads back to equal values."""
        return self._adapter.dump_json(values).decode()

    def read_plain(self, data: Any) -> T:
        """Values of plain data, as `json.loads` gives them; raises what `read` does."""
        try:
            text = json.dumps(data)
        except (TypeError, ValueError, RecursionError) as error:
            raise self._refusal(f"{self._what} is no plain data.", "") from error
        return self.read(text)

    def plain(self, values: T, defaults: bool = True) -> Any:
        """Plain data that `read_plain` reads back; without `defaults` only what differs."""
        return self._adapter.dump_python(values, mode="json", exclude_defaults=not defaults)

    def schema(self) -> dict[str, Any]:
        """Its JSON Schema (draft 2020-12)."""
        return self._adapter.json_schema(schema_generator=_Schema)


def _path(parts: tuple[int | str, ...]) -> str:
    """Where a field stands, as people write it.

    >>> _path(("scenes", 0, "sounds", 1, "gain_db"))
    'scenes[0].sounds[1].gain_db'
    """
    return "".join(f"[{p}]" if isinstance(p, int) else f".{p}" for p in parts).lstrip(".")


def _in_words(fault: ErrorDetails) -> str:
    kind = fault["type"]
    if kind == "expected":
        words = fault["msg"]
    elif kind in _SENTENCES:
        words = _SENTENCES[kind].format(**fault.get("ctx", {}))
    else:
        words = f"can't be used: {fault['msg'][0].lower()}{fault['msg'][1:]}"
    return words if kind in _PLAIN else f"{words}, got {fault['input']!r:.60}"
