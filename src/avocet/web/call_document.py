"""What the OpenAPI document says of calling an address, which is answered before any request of the page."""

from typing import Any

CALL_PATH = "/api/v1/addresses/{name}/detections"

_JPEG_OR_SO = {"type": "string", "format": "binary"}
_NUMBER = {"type": "number"}
_FOUR = {"type": "array", "items": _NUMBER, "minItems": 4, "maxItems": 4}


def _object(*optional: str, **properties: Any) -> dict[str, Any]:
    required = [name for name in properties if name not in optional]
    return {"type": "object", "properties": properties, "required": required}


_DETECTION = _object(
    **{"class": {"type": "string"}},
    box=_FOUR | {"description": "x1, y1, x2, y2 in pixels of the picture that was sent"},
    fractions=_FOUR | {"description": "The same in parts of its width and height"},
    score=_NUMBER,
)

_PICTURE = _object(
    "annotated_jpeg",
    name={"type": "string"},
    width={"type": "integer"},
    height={"type": "integer"},
    detections={"type": "array", "items": _DETECTION},
    annotated_jpeg={"type": "string", "contentEncoding": "base64", "contentMediaType": "image/jpeg"},
)

_ANSWER = _object(
    address={"type": "string"},
    model=_object(
        name={"type": "string"},
        run_id={"type": ["integer", "null"]},
        ensemble_id={"type": ["integer", "null"]},
        since={"type": "string"},
    ),
    minimum_score=_NUMBER,
    overlap_limit=_NUMBER,
    box={"type": "string"},
    milliseconds=_NUMBER | {"description": "From the arrival of the call to its answer"},
    pictures={"type": "array", "items": _PICTURE},
)


def _query(name: str, description: str, **schema: Any) -> dict[str, Any]:
    return {"name": name, "in": "query", "description": description, "schema": schema}


CALL: dict[str, Any] = {
    "operationId": "call_address",
    "summary": "What the model that answers under an address finds in pictures.",
    "tags": ["addresses"],
    "security": [{"key": []}],
    "parameters": [
        {
            "name": "name",
            "in": "path",
            "required": True,
            "schema": {"type": "string", "pattern": "^[a-z0-9-]{1,60}$"},
        },
        _query(
            "minimum_score", "Instead of the one set for the address", type="number", minimum=0, maximum=1
        ),
        _query(
            "overlap_limit", "Instead of the one set for the address", type="number", minimum=0, maximum=1
        ),
        _query("class", "Only this class; may stand several times", type="array", items={"type": "string"}),
        _query("annotated", "Answer with the pictures too, boxes drawn in", type="boolean"),
    ],
    "requestBody": {
        "required": True,
        "content": {
            "image/*": {"schema": _JPEG_OR_SO},
            "multipart/form-data": {
                "schema": {
                    "type": "object",
                    "properties": {"picture": {"type": "array", "items": _JPEG_OR_SO, "minItems": 1}},
                }
            },
        },
    },
    "responses": {
        "200": {"description": "What was found", "content": {"application/json": {"schema": _ANSWER}}},
        "429": {"description": "More calls than the key allows in a minute; Retry-After says when"},
        "500": {"description": "The model failed"},
        "504": {"description": "There was no answer in time"},
    },
}

KEY_SCHEME: dict[str, Any] = {"type": "http", "scheme": "bearer", "description": "A key of the address"}
