"""The OpenAPI document: what the framework tells of the schemas, and what it cannot know."""

import copy
from collections.abc import Callable
from typing import Any

from flask_openapi3 import APIBlueprint, OpenAPI

from avocet.web.call_document import CALL, CALL_PATH, KEY_SCHEME

PROBLEMS = {
    "400": "The request cannot be read",
    "401": "The password is missing or wrong",
    "403": "Requests from other pages are not accepted",
    "404": "There is no such thing",
    "405": "There is no such operation",
    "408": "The request came too slowly",
    "409": "Somebody changed it meanwhile, or it is in another state",
    "413": "The request is too large",
    "415": "The request is of another type",
    "422": "Something in the request cannot be used; the detail says what",
    "503": "The database is busy",
    "507": "The disk or the memory is full",
}
"""What every operation may answer, as a problem document (RFC 9457)."""

FILES: dict[str, dict[str, str]] = {
    "/api/v1/detections/{detection_id}/boxes/{number}/pixels": {"image/jpeg": "A box as a small picture"},
    "/api/v1/detections/{detection_id}/clip": {"video/*": "The clip as it was given"},
    "/api/v1/detections/{detection_id}/newest/pixels": {"image/jpeg": "The picture that was looked at last"},
    "/api/v1/detections/{detection_id}/pictures/{place}/pixels": {
        "image/jpeg": "A picture or frame that was looked at"
    },
    "/api/v1/evaluations/{evaluation_id}/detections.json": {
        "application/json": "All predictions, COCO results"
    },
    "/api/v1/evaluations/{evaluation_id}/figures.csv": {"text/csv": "The figures as a table"},
    "/api/v1/evaluations/{evaluation_id}/figures.json": {"application/json": "The figures"},
    "/api/v1/evaluations/{evaluation_id}/pictures/{picture_id}/crop": {
        "image/jpeg": "A box as a small picture"
    },
    "/api/v1/evaluations/{evaluation_id}/pictures/{picture_id}/file": {"image/*": "The picture"},
    "/api/v1/evaluations/{evaluation_id}/pictures/{picture_id}/thumbnail": {
        "image/jpeg": "The picture, small"
    },
    "/api/v1/jobs/{job_id}/file": {"*/*": "The file that the job has made"},
    "/api/v1/pictures/{picture_id}/crop": {"image/jpeg": "A box as a small picture"},
    "/api/v1/pictures/{picture_id}/file": {"image/*": "The picture"},
    "/api/v1/pictures/{picture_id}/thumbnail": {"image/jpeg": "The picture, small"},
    "/api/v1/projects/{project_id}/events": {"text/event-stream": "Events as they happen"},
    "/api/v1/runs/{run_id}/archive": {"application/zip": "Settings, figures, log and models"},
    "/api/v1/runs/{run_id}/model/{which}": {"application/zip": "A model bundle"},
    "/api/v1/sheets/{job_id}/{number}": {"image/jpeg": "An augmented picture"},
}
"""Operations that answer with a file, of which type, and what it is."""

BINARY = {"type": "string", "format": "binary"}

UPLOADS: dict[str, dict[str, Any]] = {
    "/api/v1/projects/{project_id}/media": {"files": {"type": "array", "items": BINARY, "minItems": 1}},
    "/api/v1/projects/{project_id}/annotations": {"files": {"type": "array", "items": BINARY, "minItems": 1}},
    "/api/v1/projects/{project_id}/evaluations/upload": {
        "order": {"type": "string", "contentMediaType": "application/json"},
        "model": BINARY,
        "detections": BINARY,
        "truth": BINARY,
    },
    "/api/v1/detections/upload": {
        "files": {"type": "array", "items": BINARY, "minItems": 1},
        "run_id": {"type": "string"},
        "ensemble_id": {"type": "string"},
        "minimum_score": {"type": "string"},
        "overlap_limit": {"type": "string"},
    },
}
"""Operations that want a form with files, and its fields."""


class DescribedBlueprint(APIBlueprint):
    """Operations that are described once somebody wants the document.

    The framework describes each operation where it is declared. All together that takes seconds of every start, and
    hardly anybody reads the document.
    """

    def __init__(self, *given: Any, **named: Any) -> None:
        super().__init__(*given, **named)
        self._undescribed: list[tuple[str, Callable[..., Any], dict[str, Any]]] = []

    def _collect_openapi_info(self, rule: str, func: Callable[..., Any], **given: Any) -> Any:
        self._undescribed.append((rule, func, given))
        return super()._collect_openapi_info(rule, func, **(given | {"doc_ui": False}))

    def describe(self) -> None:
        """Describe what was declared since the last time."""
        while self._undescribed:
            rule, func, given = self._undescribed.pop(0)
            super()._collect_openapi_info(rule, func, **given)


class DescribedAPI(OpenAPI):
    """An application that also tells of its problem documents, its files and its uploads."""

    def __init__(self, *given: Any, **named: Any) -> None:
        super().__init__(*given, **named)
        self._registered: list[DescribedBlueprint] = []

    def register_api(self, api: APIBlueprint, **options: Any) -> None:
        """Take in a blueprint; its operations are described later."""
        if isinstance(api, DescribedBlueprint):
            self._registered.append(api)
        super().register_api(api, **options)

    def generate_spec_json(self) -> None:
        """Describe all operations, and complete what the framework has gathered."""
        for each in self._registered:
            each.describe()
            self.paths.update(each.paths)
            self.components_schemas.update(each.components_schemas)
            self.tags += [tag for tag in each.tags if tag.name not in self.tag_names]
            self.tag_names += [tag.name for tag in each.tags if tag.name not in self.tag_names]
        super().generate_spec_json()
        self.spec_json["paths"][CALL_PATH] = {"post": copy.deepcopy(CALL)}
        self.spec_json.setdefault("components", {})["securitySchemes"] = {"key": KEY_SCHEME}
        for path, methods in self.spec_json["paths"].items():
            for method, operation in methods.items():
                _complete(path, method, operation)


def _complete(path: str, method: str, operation: dict[str, Any]) -> None:
    responses = operation.setdefault("responses", {})
    for status, said in PROBLEMS.items():
        schema = {"$ref": "#/components/schemas/Problem"}
        responses[status] = {"description": said, "content": {"application/problem+json": {"schema": schema}}}
    if method == "get" and path in FILES:
        (kind, said), *_ = FILES[path].items()
        responses["200"] = {"description": said, "content": {kind: {"schema": BINARY}}}
        responses["304"] = {"description": "The browser has it already"}
    if method == "post" and path in UPLOADS:
        wanted = [name for name in ("files",) if name in UPLOADS[path]]
        form = {"type": "object", "properties": UPLOADS[path], "required": wanted}
        operation["requestBody"] = {"required": True, "content": {"multipart/form-data": {"schema": form}}}
