"""The door of the API: each operation is named once, and is route, check of what is sent, and chapter of OpenAPI alike."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from dataclasses import dataclass
from http import HTTPStatus
from typing import Any, TypeVar

from apispec import APISpec
from flask import Blueprint, Response, g, request
from pydantic import BaseModel, ValidationError
from pydantic.json_schema import models_json_schema

from brumel import __version__
from brumel.store.tables import Token, User
from brumel.web.access import desk
from brumel.web.api import models
from brumel.web.arriving import json_object
from brumel.web.sign_in_limit import limiter
from brumel.web.units import units_of_record
from brumel.work.desk import NotAllowed
from brumel.work.people import tokens

PREFIX = "/api/v1"
blueprint = Blueprint("api", __name__, url_prefix=PREFIX)
#: Calls of one address.
LIMIT = "600 per minute"
PROBLEM = "application/problem+json"
#: Where a problem's kind is told; nothing has to answer there.
ABOUT_PROBLEMS = "urn:brumel:problem:"

M = TypeVar("M", bound=BaseModel)


@dataclass(frozen=True)
class Operation:
    """One thing a program can ask for or send.

    path : below the prefix, with {ids} in braces
    scope : what a token must cover for it
    takes, body : what its parameters and its body must be
    """

    name: str
    method: str
    path: str
    scope: str
    summary: str
    gives: type[BaseModel]
    takes: type[BaseModel]
    body: type[BaseModel] | None = None

    @property
    def status(self) -> HTTPStatus:
        return HTTPStatus.CREATED if self.body else HTTPStatus.OK


OPERATIONS: list[Operation] = []


def operation(
    method: str,
    path: str,
    scope: str,
    gives: type[BaseModel],
    takes: type[BaseModel] = models.Nothing,
    body: type[BaseModel] | None = None,
) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Make a function an operation: it gets what was asked, checked, and what its path names; it gives a model."""

    def decorate(do: Callable[..., Any]) -> Callable[..., Any]:
        summary = (do.__doc__ or "").strip().splitlines()[0]
        op = Operation(do.__name__, method, path, scope, summary, gives, takes, body)
        OPERATIONS.append(op)

        def answer(**ids: str) -> Response:
            caller(op.scope)
            asked = takes.model_validate(_parameters())
            sent = (body.model_validate(json_object()),) if body else ()
            with units_of_record():
                given = do(asked, *sent, **ids)
            return Response(given.model_dump_json(), op.status, mimetype="application/json")

        rule = re.sub(r"\{(\w+)\}", r"<\1>", path)
        blueprint.add_url_rule(rule, do.__name__, limiter.limit(LIMIT)(_named(answer, do)), methods=[method])
        return do

    return decorate


def _named(answer: Callable[..., Response], do: Callable[..., Any]) -> Callable[..., Response]:
    # The limiter knows a route by its function's name.
    answer.__name__, answer.__qualname__, answer.__module__ = do.__name__, do.__qualname__, do.__module__
    return answer


def _parameters() -> dict[str, Any]:
    """The query as a dictionary; a parameter that is there twice has no one meaning, so all of it is refused by the model."""
    return {name: values[0] if len(values) == 1 else values for name, values in request.args.lists()}


class NoToken(Exception):
    """The call has no token that opens anything."""


def caller(scope: str) -> User:
    """The person a call is made for. Raises NoToken; NotAllowed where the token does not cover it."""
    kind, _, word = request.headers.get("Authorization", "").partition(" ")
    token: Token | None = tokens.by_token(desk(), word.strip(), "program") if kind.lower() == "bearer" else None
    if token is None:
        raise NoToken
    if scope not in token.scopes:
        raise NotAllowed(f"This token does not cover “{scope}”: {tokens.SCOPES[scope]}.")
    g.api_caller = token.user
    return token.user


def acting() -> User:
    """The person the running call is made for."""
    user: User = g.api_caller
    return user


# -- what went wrong


def problem(status: int, detail: str, **more: Any) -> Response:
    """A refusal [RFC 9457]."""
    named = HTTPStatus(status)
    body = models.Problem(
        type=ABOUT_PROBLEMS + named.phrase.lower().replace(" ", "-"),
        title=named.phrase,
        status=status,
        detail=detail,
        **more,
    )
    response = Response(body.model_dump_json(), status, mimetype=PROBLEM)
    if status == HTTPStatus.UNAUTHORIZED:
        response.headers["WWW-Authenticate"] = 'Bearer realm="Brumel"'
    return response


@blueprint.errorhandler(NoToken)
def _no_token(_: NoToken) -> Response:
    return problem(
        401, "Send a token that is good in the header Authorization: Bearer …; it is made on your account's page."
    )


@blueprint.errorhandler(ValidationError)
def _wrong(error: ValidationError) -> Response:
    faults = [
        models.Fault(field=".".join(str(part) for part in each["loc"])[:120] or "body", detail=each["msg"][:300])
        for each in error.errors(include_url=False, include_input=False, include_context=False)[:50]
    ]
    return problem(422, "; ".join(f"{fault.field}: {fault.detail}" for fault in faults[:6]), faults=faults)


# -- how it is told


def spec() -> dict[str, Any]:
    """The whole API as OpenAPI 3.1, made of the operations and of the models they take and give."""
    made = APISpec(
        title="Brumel",
        version=__version__,
        openapi_version="3.1.0",
        info={
            "description": "Sites, kit, calibrations, visits, readings and logger series of a practice, and what is due."
        },
        servers=[{"url": PREFIX}],
        security=[{"token": []}],
        webhooks={name: _posted(name, model) for name, model in models.WEBHOOKS.items()},
    )
    made.components.security_scheme("token", {"type": "http", "scheme": "bearer"})
    _, schemas = models_json_schema(
        [(model, "serialization" if issubclass(model, models.Answer) else "validation") for model in _models()],
        ref_template="#/components/schemas/{model}",
    )
    for name, schema in schemas["$defs"].items():
        made.components.schema(name, schema)
    for op in OPERATIONS:
        made.path(op.path, operations={op.method.lower(): _told(op)})
    return json.loads(json.dumps(made.to_dict()))


def _models() -> list[type[BaseModel]]:
    used: list[type[BaseModel]] = [models.Problem, *models.WEBHOOKS.values()]
    for op in OPERATIONS:
        used += [op.gives, *([op.body] if op.body else [])]
    return list(dict.fromkeys(used))


def _posted(name: str, model: type[BaseModel]) -> dict[str, Any]:
    signed = {
        "name": "Brumel-Signature",
        "in": "header",
        "required": True,
        "description": "t=…,v1=…: HMAC-SHA256, by the address's secret, of the time, a point and the body",
        "schema": {"type": "string"},
    }
    return {
        "post": {
            "operationId": f"told_{name}",
            "summary": (model.__doc__ or "").strip(),
            "security": [],
            "parameters": [signed],
            "requestBody": {"required": True, "content": {"application/json": _of(model)}},
            "responses": {"2XX": {"description": "Taken; anything else is tried again"}},
        }
    }


def _told(op: Operation) -> dict[str, Any]:
    ids = [
        {"name": name, "in": "path", "required": True, "schema": {"type": "string", "format": "uuid"}}
        for name in re.findall(r"\{(\w+)\}", op.path)
    ]
    told: dict[str, Any] = {
        "operationId": op.name,
        "summary": op.summary,
        "description": f"Needs a token that covers “{op.scope}”.",
        "parameters": ids + _query(op.takes),
        "responses": {
            str(int(op.status)): {"description": op.status.phrase, "content": {"application/json": _of(op.gives)}},
            **{str(code): _refusal(code) for code in _codes(op)},
        },
    }
    if op.body:
        told["requestBody"] = {"required": True, "content": {"application/json": _of(op.body)}}
        told["parameters"].append(
            {
                "name": "Idempotency-Key",
                "in": "header",
                "required": True,
                "description": "Made by the program for this one write; sent again, it writes nothing more",
                "schema": {"type": "string", "format": "uuid"},
            }
        )
    return told


def _codes(op: Operation) -> list[int]:
    return [401, 403, 404, 422, 429, 503, *([400, 409, 413] if op.body else [])]


def _of(model: type[BaseModel]) -> dict[str, Any]:
    return {"schema": {"$ref": f"#/components/schemas/{model.__name__}"}}


def _refusal(code: int) -> dict[str, Any]:
    return {"description": HTTPStatus(code).phrase, "content": {PROBLEM: _of(models.Problem)}}


def _query(takes: type[BaseModel]) -> list[dict[str, Any]]:
    schema = takes.model_json_schema()
    return [
        {
            "name": name,
            "in": "query",
            "required": False,
            "description": each.pop("description", ""),
            "schema": _without_null(each),
        }
        for name, each in schema.get("properties", {}).items()
    ]


def _without_null(schema: dict[str, Any]) -> dict[str, Any]:
    """A parameter is left out rather than null."""
    kept = {k: v for k, v in schema.items() if k not in ("anyOf", "title", "default")}
    for each in schema.get("anyOf", []):
        if each.get("type") != "null":
            kept |= each
    return kept
