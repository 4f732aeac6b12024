"""How one setting of a training is declared: default, name, explanation, bounds, all in one place."""

from collections.abc import Mapping
from typing import Any

from pydantic import Field
from pydantic.fields import FieldInfo


def setting(
    default: Any,
    title: str,
    says: str,
    least: float | None = None,
    most: float | None = None,
    step: float | None = None,
    *,
    above: float | None = None,
    multiple_of: int | None = None,
    choices: Mapping[str, str] | None = None,
    unit: str = "",
) -> Any:
    """A field of a settings class.

    Parameters
    ----------
    default : object
    title : str
        What people call it.
    says : str
        What it does, to be read beside it.
    least, most : float, optional
        Bounds, both allowed.
    step : float, optional
        By which a control changes it.
    above : float, optional
        A lower bound that is not allowed itself.
    multiple_of : int, optional
    choices : mapping, optional
        What each allowed value is called.
    unit : str

    Returns
    -------
    pydantic.fields.FieldInfo
    """
    extra: dict[str, Any] = {}
    if step is not None:
        extra["x-step"] = step
    if choices:
        extra["x-choices"] = dict(choices)
    if unit:
        extra["x-unit"] = unit
    return Field(
        default=default, title=title, description=says, ge=least, le=most, gt=above, multiple_of=multiple_of,
        json_schema_extra=extra,
    )  # fmt: skip


def declared(settings: type) -> dict[str, FieldInfo]:
    """The fields of a settings class as they were declared.

    Parameters
    ----------
    settings : type
        A class whose fields are made by `setting`.

    Examples
    --------
    >>> from avocet.detector.pictures.augmentation import Augmentation
    >>> declared(Augmentation)["turn"].title
    'Turn'
    """
    found: dict[str, FieldInfo] = vars(settings)["__pydantic_fields__"]
    return found
