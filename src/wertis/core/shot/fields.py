"""What the fields of a shot's records are made of: checked types that also say what is an array, what names a file, and what comes in several kinds.

Loading, saving and finding files again go by these types alone, so that a new record needs no code of its own there.
"""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Annotated, Any, ClassVar, Self

import numpy as np
from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, GetCoreSchemaHandler
from pydantic_core import CoreSchema, core_schema

Name = Annotated[str, Field(min_length=1, max_length=200)]
Ident = Annotated[str, Field(max_length=64)]
Number = Annotated[float, Field(allow_inf_nan=False, ge=-1e7, le=1e7)]
Point = tuple[Number, Number]
Frame = Annotated[int, Field(ge=-10_000_000, le=100_000_000)]


@dataclass(frozen=True)
class NamesFile:
    """Marks a text that is the path of a file, a folder or a pattern; empty for none."""


FilePath = Annotated[str, NamesFile(), Field(max_length=4096)]


@dataclass(frozen=True)
class ArrayOf:
    """Marks a NumPy array, of a kind of number and with so many dimensions; it becomes read only.

    Raises
    ------
    ValueError
        On validation, when the array is another one.
    """

    dtype: str
    ndim: int

    def __get_pydantic_core_schema__(self, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        return core_schema.no_info_after_validator_function(self._checked, core_schema.is_instance_schema(np.ndarray))

    def _checked(self, array: np.ndarray) -> np.ndarray:
        if array.dtype != np.dtype(self.dtype) or array.ndim != self.ndim:
            raise ValueError(f"an array of {array.dtype} with {array.ndim} dimensions, where {self.dtype} with {self.ndim} is wanted")
        array.flags.writeable = False
        return array


Integers = Annotated[np.ndarray, ArrayOf("int64", 1)]
Reals = Annotated[np.ndarray, ArrayOf("float64", 1)]
Matrices = Annotated[np.ndarray, ArrayOf("float64", 3)]
Table = Annotated[np.ndarray, ArrayOf("float64", 2)]
Triples = Annotated[np.ndarray, ArrayOf("int64", 2)]
Picture = Annotated[np.ndarray, ArrayOf("float16", 3)]
Flags = Annotated[np.ndarray, ArrayOf("bool", 2)]


class Record(BaseModel):
    """Base of everything in a shot: checked on entry, never changed."""

    # a kind's validator is built when it is first used: building all of them would take a third of the time of importing Wertis
    model_config = ConfigDict(frozen=True, extra="forbid", arbitrary_types_allowed=True, defer_build=True)

    def __eq__(self, other: object) -> bool:
        if self is other:
            return True
        if type(self) is not type(other):
            return NotImplemented
        return all(_same(getattr(self, name), getattr(other, name)) for name in type(self).model_fields)

    __hash__ = None  # type: ignore[assignment]

    def but(self, **changes: Any) -> Self:
        """The same record with some fields changed, checked again.

        Raises
        ------
        pydantic.ValidationError
            When a new value does not fit its field.
        """
        # fields are taken as they are, not dumped: unchanged parts are shared and arrays stay the same objects
        fields = {name: getattr(self, name) for name in type(self).model_fields}
        return type(self).model_validate({**fields, **changes})


def _same(a: Any, b: Any) -> bool:
    """Whether two values of a field are equal, arrays element by element, with nan equal to nan."""
    if a is b:
        return True
    if isinstance(a, np.ndarray) or isinstance(b, np.ndarray):
        return isinstance(a, np.ndarray) and isinstance(b, np.ndarray) and np.array_equal(a, b, equal_nan=a.dtype.kind == "f" and b.dtype.kind == "f")
    return bool(a == b)


class KindOf(Record):
    """Base of records that come in several kinds, told apart by their `kind`; a kind is registered by defining its class."""

    kind: str
    kinds: ClassVar[dict[str, type["KindOf"]]]

    @classmethod
    def __pydantic_init_subclass__(cls, **_: Any) -> None:
        if KindOf in cls.__bases__:
            cls.kinds = {}
            return
        default = cls.model_fields["kind"].default
        if isinstance(default, str):
            cls.kinds[default] = cls


def of_kind(root: type[KindOf]) -> BeforeValidator:
    """Makes a field of the type `root` take whatever kind its data names."""

    def made(value: Any) -> Any:
        if not isinstance(value, dict):
            return value
        kind = root.kinds.get(str(value.get("kind")))
        if kind is None:
            raise ValueError(f"there is no kind of {root.__name__.lower()} named {value.get('kind')!r} in this version")
        return kind.model_validate(value)

    return BeforeValidator(made)


def mapped(value: Any, change: Callable[[Any, Any], Any], mark: type) -> Any:
    """A record, or what its fields hold, with every value whose field is marked by `mark` (in the marked type's metadata) put through `change`.

    What holds nothing that changed is the same object as before.
    """
    if isinstance(value, Record):
        changes = {}
        for name, field in type(value).model_fields.items():
            old = getattr(value, name)
            marked = next((m for m in field.metadata if isinstance(m, mark)), None)
            new = change(old, marked) if marked is not None else mapped(old, change, mark)
            if new is not old:
                changes[name] = new
        return value.but(**changes) if changes else value
    if isinstance(value, tuple):
        made = tuple(mapped(v, change, mark) for v in value)
        return made if any(a is not b for a, b in zip(made, value, strict=True)) else value
    if isinstance(value, dict):
        table = {k: mapped(v, change, mark) for k, v in value.items()}
        return table if any(table[k] is not value[k] for k in value) else value
    return value


def marked_values(value: Any, mark: type) -> Iterator[Any]:
    """Every value in a record whose field is marked by `mark`, in the order of the fields."""
    if isinstance(value, Record):
        for name, field in type(value).model_fields.items():
            held = getattr(value, name)
            if any(isinstance(m, mark) for m in field.metadata):
                yield held
            else:
                yield from marked_values(held, mark)
    elif isinstance(value, tuple):
        for each in value:
            yield from marked_values(each, mark)
    elif isinstance(value, dict):
        for each in value.values():
            yield from marked_values(each, mark)
