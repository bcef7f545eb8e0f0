"""Documents at the edge: values described once, read and checked strictly, written, published.

pydantic reads straight into the core's frozen dataclasses: nothing is converted from another
type, fields that are not known are refused, fractions stand as text ("30000/1001").
"""

from typing import Any, Generic, TypeVar

from pydantic import ConfigDict, TypeAdapter, ValidationError
from pydantic_core import ErrorDetails

from kettle_core.errors import TakeError

T = TypeVar("T")
_STRICT = ConfigDict(strict=True, extra="forbid")
_SENTENCES = {
    "missing": "is missing",
    "unexpected_keyword_argument": "is not known",
    "int_type": "should be a whole number",
    "float_type": "should be a number",
    "string_type": "should be a text",
    "bool_type": "should be true or false",
    "dataclass_type": "should be an object",
    "dict_type": "should be an object",
    "union_tag_not_found": "does not say what it is",
    "union_tag_invalid": "is of no kind that is known",
    "json_invalid": "is no JSON",
}


class Document(Generic[T]):
    """A kind of document: its values to JSON text and back."""

    def __init__(self, kind: Any) -> None:
        self._adapter: TypeAdapter[T] = TypeAdapter(kind, config=_STRICT)

    def read(self, text: str | bytes) -> T:
        """Values of a JSON text.

        Raises
        ------
        TakeError
            If it is damaged or not of this kind; the message names the field by its path.
        """
        try:
            return self._adapter.validate_json(text)
        except ValidationError as error:
            fault = error.errors(include_url=False)[0]
            raise TakeError(_in_words(fault)) from error

    def write(self, values: T) -> str:
        """One line of JSON that `read` reads back to equal values."""
        return self._adapter.dump_json(values).decode()

    def schema(self) -> dict[str, Any]:
        """Its JSON Schema (draft 2020-12)."""
        return self._adapter.json_schema()


def _in_words(fault: ErrorDetails) -> str:
    place = ".".join(str(part) for part in fault["loc"]) or "It"
    words = _SENTENCES.get(fault["type"])
    if words is None:
        words = f"can't be used: {fault['msg'][0].lower()}{fault['msg'][1:]}"
    return f"{place} {words}."
