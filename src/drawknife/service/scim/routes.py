"""The routes below ``/scim/v2`` (RFC 7644).

Whoever asks shows a token that was made to provision one directory.
"""

from __future__ import annotations

import secrets
from collections.abc import Callable
from typing import Any

import structlog
from flask import Blueprint, Flask, Response, g, request
from pydantic import ValidationError
from scim2_models import (
    ConflictException,
    Context,
    Error,
    ForbiddenException,
    ListResponse,
    Meta,
    NotFoundException,
    NotImplementedException,
    PatchOp,
    ResourceType,
    ResponseParameters,
    Schema,
    SCIMException,
    SearchRequest,
    UnauthorizedException,
)
from werkzeug.exceptions import HTTPException

from drawknife.core.words.errors import DrawknifeError, OutOfReach
from drawknife.core.words.roles import OWNER, covers
from drawknife.directory.sync import options_of
from drawknife.records.directories import read_directories

from ..api.common import current
from ..bodies import LARGEST_PROVISIONED
from ..current import Current
from ..requests import Request
from ..security import PROVISIONING, asker, refused
from .forms import plain_operations
from .found import Reading, location_of, meta_of
from .provisioning import Provisioning
from .resources import AT_ONCE, CONFIG, KINDS, LENIENT, MOST, PROVIDER, Group, Kind, User

log = structlog.get_logger()
MEDIA_TYPE = "application/scim+json"


scim = Blueprint("scim", __name__, url_prefix=PROVISIONING.rstrip("/"))
_KIND = f"<any({','.join(KINDS)}):kind>"


def make_app(current: Current, look_at: Callable[[Flask, Current], None]) -> Flask:
    """The routes of SCIM as an application of their own, beside the API.

    `look_at` counts and logs each request.
    """
    app = Flask("drawknife.scim", static_folder=None)
    app.request_class = Request
    app.config["MAX_CONTENT_LENGTH"] = LARGEST_PROVISIONED
    app.extensions["drawknife"] = current
    look_at(app, current)
    app.register_blueprint(scim)
    for kind, telling in (
        (SCIMException, of_scim),
        (ValidationError, of_form),
        (HTTPException, of_http),
        (DrawknifeError, of_drawknife),
        (Exception, of_chance),
    ):
        app.register_error_handler(kind, telling)
    return app


@scim.before_request
def provisioning_only() -> Response | None:
    g.holder = asker(request, current())
    if g.holder is None:
        problem = refused(request, current())
        if problem.status_code == 429:
            return problem
        return _error(
            UnauthorizedException(detail="a token that provisions a directory is wanted").to_error()
        )
    g.who = g.holder.name
    if not covers(g.holder.role, OWNER):
        raise ForbiddenException(
            detail=f"{g.holder.by}, who made this token, is not an owner any more"
        )
    found = [d for d in read_directories(current().database) if d.name == g.holder.directory]
    if not found or not options_of(found[0]).is_provisioned:
        raise ForbiddenException(detail="this token does not provision a directory")
    g.directory = found[0]
    return None


@scim.get("/ServiceProviderConfig")
def config() -> Response:
    return _answer(
        CONFIG.model_copy(
            update={"meta": Meta(resource_type="ServiceProviderConfig", location=request.base_url)}
        )
    )


@scim.get("/Schemas")
def schemas() -> Response:
    _check_no_filter()
    return _list(Schema, [_described(s, "Schemas") for s in PROVIDER.schemas])


@scim.get("/Schemas/<path:id_>")
def schema(id_: str) -> Response:
    return _one_of([_described(s, "Schemas") for s in PROVIDER.schemas], id_)


@scim.get("/ResourceTypes")
def resource_types() -> Response:
    _check_no_filter()
    return _list(ResourceType, [_described(t, "ResourceTypes") for t in PROVIDER.resource_types])


@scim.get("/ResourceTypes/<id_>")
def resource_type(id_: str) -> Response:
    return _one_of([_described(t, "ResourceTypes") for t in PROVIDER.resource_types], id_)


@scim.get(f"/{_KIND}")
def query(kind: str) -> Response:
    wish = _search_of(KINDS[kind]).model_validate(
        request.args.to_dict(), scim_ctx=Context.RESOURCE_QUERY_REQUEST, scim_provider=PROVIDER
    )
    return _searched(Reading(current().database, g.directory), [KINDS[kind]], wish)


@scim.post(f"/{_KIND}/.search")
def search(kind: str) -> Response:
    return _searched(Reading(current().database, g.directory), [KINDS[kind]], _wish(KINDS[kind]))


@scim.post("/.search")
def search_all() -> Response:
    return _searched(Reading(current().database, g.directory), [User, Group], _wish(User | Group))


@scim.get(f"/{_KIND}/<id_>")
def get(kind: str, id_: str) -> Response:
    return _one(KINDS[kind], id_, Context.RESOURCE_QUERY_RESPONSE)


@scim.post(f"/{_KIND}")
def create(kind: str) -> Response:
    sent = KINDS[kind].model_validate_json(
        request.get_data(), scim_ctx=Context.RESOURCE_CREATION_REQUEST, scim_provider=PROVIDER
    )
    id_ = _writing().create(sent)
    response = _one(KINDS[kind], id_, Context.RESOURCE_CREATION_RESPONSE)
    response.status_code = 201
    response.headers["Location"] = location_of(kind, id_)
    return response


@scim.put(f"/{_KIND}/<id_>")
def replace(kind: str, id_: str) -> Response:
    sent = KINDS[kind].model_validate_json(
        request.get_data(), scim_ctx=Context.RESOURCE_REPLACEMENT_REQUEST, scim_provider=PROVIDER
    )

    def edit(there: Any) -> Any:
        sent.replace(there)
        if isinstance(sent, User) and sent.active is None:
            sent.active = there.active  # what is not said stays: nobody is switched on by it
        return sent

    _writing().change(KINDS[kind], id_, edit)
    return _one(KINDS[kind], id_, Context.RESOURCE_REPLACEMENT_RESPONSE)


@scim.patch(f"/{_KIND}/<id_>")
def patch(kind: str, id_: str) -> Response:
    operations = _patch_of(KINDS[kind]).model_validate(
        plain_operations(request.get_data(), id_),
        scim_ctx=Context.RESOURCE_PATCH_REQUEST,
        scim_provider=PROVIDER,
    )

    def edit(there: Any) -> Any:
        operations.patch(there, LENIENT)
        return there

    _writing().change(KINDS[kind], id_, edit)
    return _one(KINDS[kind], id_, Context.RESOURCE_PATCH_RESPONSE)


@scim.delete(f"/{_KIND}/<id_>")
def delete(kind: str, id_: str) -> Response:
    _writing().delete(KINDS[kind], id_)
    return Response(status=204)


@scim.route("/Me", methods=["GET", "POST", "PUT", "PATCH", "DELETE"])
@scim.post("/Bulk")
def not_supported() -> Response:
    raise NotImplementedException(
        detail="this is not supported; /ServiceProviderConfig tells what is"
    )


def _writing() -> Provisioning:
    return Provisioning(current(), g.directory, g.who)


def _one(kind: Kind, id_: str, context: Context) -> Response:
    parameters = ResponseParameters[kind].model_validate(request.args.to_dict())  # type: ignore[valid-type]
    return _answer(Reading(current().database, g.directory).one(kind, id_), context, parameters)


# --- errors, as RFC 7644, section 3.12, has them ---


def of_scim(error: SCIMException) -> Response:
    return _error(error.to_error())


def of_form(error: ValidationError) -> Response:
    return _error(Error.from_validation_errors(error)[0])


def of_http(error: HTTPException) -> Response:
    response = _error(Error(status=error.code, detail=error.description))
    if "Allow" in (headers := error.get_response().headers):
        response.headers["Allow"] = headers["Allow"]
    return response


def of_drawknife(error: DrawknifeError) -> Response:
    if isinstance(error, OutOfReach):
        return _error(Error(status=503, detail="the service cannot reach its database"))
    return _error(ConflictException(detail=str(error)).to_error())


def of_chance(error: Exception) -> Response:
    number = secrets.token_hex(4)
    log.exception("unexpected", number=number, method=request.method, path=request.path)
    detail = (
        f"something went wrong that should not have; the service's log tells more under {number}"
    )
    return _error(Error(status=500, detail=detail))


# --- answers ---


def _search_of(kind: Any) -> type[SearchRequest[Any]]:
    return SearchRequest[kind]


def _patch_of(kind: Any) -> type[PatchOp[Any]]:
    return PatchOp[kind]


def _wish(kind: Any) -> SearchRequest[Any]:
    made: SearchRequest[Any] = _search_of(kind).model_validate_json(
        request.get_data(), scim_ctx=Context.SEARCH_REQUEST, scim_provider=PROVIDER
    )
    return made


def _searched(reading: Reading, kinds: list[Kind], wish: SearchRequest[Any]) -> Response:
    found = [r for kind in kinds for r in reading.some(kind, wish)]
    if wish.filter is not None:
        found = [r for r in found if wish.filter.match(r)]
    found = wish.sort(found)
    start = wish.start_index_0 or 0
    page = found[start : start + min(AT_ONCE if wish.count is None else wish.count, MOST)]
    kind: Any = kinds[0] if len(kinds) == 1 else User | Group
    return _listed(kind, page, len(found), start + 1, wish)


def _list(kind: Any, items: list[Any]) -> Response:
    return _listed(kind, items, len(items), 1, None)


def _listed(
    kind: Any, page: list[Any], total: int, start: int, wish: ResponseParameters[Any] | None
) -> Response:
    made = ListResponse[kind](
        total_results=total, start_index=start, items_per_page=len(page), resources=page
    )
    return _answer(made, Context.RESOURCE_QUERY_RESPONSE, wish)


def _check_no_filter() -> None:
    """RFC 7644, section 4: what describes the service is not filtered."""
    if "filter" in request.args:
        raise ForbiddenException(detail="what describes the service cannot be filtered")


def _described(item: Any, where: str) -> Any:
    return item.model_copy(update={"meta": meta_of(where[:-1], where, item.id)})


def _one_of(items: list[Any], id_: str) -> Response:
    found = next((i for i in items if i.id == id_), None)
    if found is None:
        raise NotFoundException(detail=f"there is no {id_}")
    return _answer(found)


def _answer(
    item: Any,
    context: Context = Context.RESOURCE_QUERY_RESPONSE,
    wish: ResponseParameters[Any] | None = None,
) -> Response:
    text = item.model_dump_json(scim_ctx=context, response_parameters=wish)
    return Response(text, mimetype=MEDIA_TYPE)


def _error(error: Error) -> Response:
    response = Response(error.model_dump_json(), error.status or 400, mimetype=MEDIA_TYPE)
    if error.status == 401:
        response.headers["WWW-Authenticate"] = "Bearer"
    return response
