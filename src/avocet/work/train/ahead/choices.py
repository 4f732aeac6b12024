"""What a person chooses for a run: the settings of a training, some of them left open to the labels."""

from typing import Any

from pydantic import BaseModel, ConfigDict, Field, create_model
from pydantic.fields import FieldInfo

from avocet.detector.pictures.augmentation import Augmentation
from avocet.detector.training.field import declared
from avocet.detector.training.settings import Settings, settings_from

SIDE: Any = declared(Settings)["side"]
SIDE_OR_NONE: Any = FieldInfo.merge_field_infos(SIDE, default=None)
BATCH: Any = declared(Settings)["batch"]


class _Choice(BaseModel):
    model_config = ConfigDict(extra="forbid")


def _choice(name: str, settings: type, left_open: set[str], left_out: set[str], **more: Any) -> Any:
    """A class with the fields of a settings class; those left open may be null."""
    fields: dict[str, Any] = {}
    for key, info in declared(settings).items():
        if key in left_open:
            annotation: Any = info.annotation
            fields[key] = (annotation | None, FieldInfo.merge_field_infos(info, default=None))
        elif key not in left_out:
            fields[key] = (info.annotation, info)
    return create_model(name, __base__=_Choice, **(fields | more))


_Augmentation: Any = _choice("_Augmentation", Augmentation, {"flips"}, set())


class AugmentationIn(_Augmentation):  # type: ignore[misc]  # made from the settings' own fields
    """How training pictures are varied."""


_Settings: Any = _choice(
    "_Settings",
    Settings,
    {"side", "epochs", "passes"},
    {"extended"},
    augmentation=(AugmentationIn, Field(default_factory=AugmentationIn)),
)


class SettingsIn(_Settings):  # type: ignore[misc]  # made from the settings' own fields
    """What is left out or null is chosen from the labels."""


def chosen_settings(plan: Any, chosen: dict[str, Any]) -> Settings:
    """Settings as chosen; what is missing or None is chosen from the labels. Raises `InputError`."""
    given = {key: value for key, value in chosen.items() if value is not None}
    given.setdefault("side", plan.side)
    passes = int(given.setdefault("passes", plan.passes))
    shown = plan.epochs * plan.passes
    given.setdefault("epochs", max(1, round(shown / max(1, passes))))
    varied = {key: value for key, value in (given.get("augmentation") or {}).items() if value is not None}
    varied.setdefault("flips", "all" if plan.every_direction else "sideways")
    return settings_from(given | {"augmentation": varied})
