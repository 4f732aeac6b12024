"""Addresses: made, changed, answered with another model, their keys, calls and kept pictures.

Calls themselves do not come here: `avocet.web.door.address_door` takes them.
"""

from flask import Response, request, send_file
from flask_openapi3 import Tag
from sqlalchemy.orm import Session

from avocet.store.address_tables import Address, AddressKey, AddressModel
from avocet.web.context import context, moment, reply, start_job
from avocet.web.document import DescribedBlueprint
from avocet.web.schemas.common import BinIn, BinQuery, JobStarted, ProjectPath
from avocet.web.schemas.use import addresses as schemas
from avocet.work.addresses import addresses as work
from avocet.work.addresses.calls import calls_of
from avocet.work.job_givens import KeptToCollect
from avocet.work.job_kinds import COLLECT_KEPT
from avocet.work.project.projects import get_project

addresses = DescribedBlueprint("addresses", __name__, url_prefix="/api/v1", abp_tags=[Tag(name="addresses")])


def _model_out(each: AddressModel) -> schemas.AddressModelOut:
    return schemas.AddressModelOut(
        id=each.id,
        name=each.name,
        run_id=each.run_id,
        ensemble_id=each.ensemble_id,
        since=moment(each.since),
    )


def _key_out(each: AddressKey) -> schemas.AddressKeyOut:
    return schemas.AddressKeyOut(
        id=each.id,
        name=each.name,
        start=each.start,
        per_minute=each.per_minute,
        created_at=moment(each.created_at),
        revoked_at=None if each.revoked_at is None else moment(each.revoked_at),
    )


def _out(session: Session, address: Address) -> schemas.AddressOut:
    today = calls_of(session, address.id, days=1)
    return schemas.AddressOut(
        id=address.id,
        name=address.name,
        order=address.order,
        keep_share=address.keep_share,
        kept=len(work.kept_pictures(context().folder, address)),
        created_at=moment(address.created_at),
        models=[_model_out(each) for each in address.models],
        keys=[_key_out(each) for each in address.keys],
        calls_today=sum(sum(day["outcomes"].values()) for day in today),
    )


@addresses.get("/projects/<int:project_id>/addresses", responses={200: schemas.AddressList})
def list_addresses(path: ProjectPath, query: BinQuery) -> Response:
    """The project's addresses, or those in the bin."""
    with context().reading() as session:
        get_project(session, path.project_id)
        found = work.list_addresses(session, path.project_id, query.binned)
        return reply(schemas.AddressList(addresses=[_out(session, each) for each in found]))


@addresses.post("/projects/<int:project_id>/addresses", responses={201: schemas.AddressOut})
def create_address(path: ProjectPath, body: schemas.AddressIn) -> Response:
    """Make an address that a model answers."""
    with context().sessions.begin() as session:
        made = work.create_address(
            session, context().folder, path.project_id, body.name, body.run_id, body.ensemble_id
        )
        out = _out(session, made)
    context().addresses_changed()
    return reply(out, 201)


@addresses.get("/addresses/<int:address_id>", responses={200: schemas.AddressOut})
def get_address(path: schemas.AddressPath) -> Response:
    """One address with its history and keys."""
    with context().reading() as session:
        return reply(_out(session, work.get_address(session, path.address_id)))


@addresses.patch("/addresses/<int:address_id>", responses={200: schemas.AddressOut})
def change_address(path: schemas.AddressPath, body: schemas.AddressPatch) -> Response:
    """Change what counts and which share of the pictures is kept."""
    order = {
        "minimum_score": body.minimum_score,
        "overlap_limit": body.overlap_limit,
        "only": body.only,
        "white": body.white,
    }
    with context().sessions.begin() as session:
        out = _out(session, work.change_address(session, path.address_id, order, body.keep_share))
    context().addresses_changed()
    return reply(out)


@addresses.post("/addresses/<int:address_id>/bin", responses={200: schemas.AddressOut})
def bin_address(path: schemas.AddressPath, body: BinIn) -> Response:
    """Move an address to the bin, where it answers nobody, or restore it."""
    with context().sessions.begin() as session:
        out = _out(session, work.bin_address(session, path.address_id, body.binned))
    context().addresses_changed()
    return reply(out)


@addresses.post("/addresses/<int:address_id>/models", responses={201: schemas.AddressOut})
def answer_with(path: schemas.AddressPath, body: schemas.AnsweringModel) -> Response:
    """Let another model answer from now on."""
    with context().sessions.begin() as session:
        work.answer_with(session, context().folder, path.address_id, body.run_id, body.ensemble_id)
        out = _out(session, work.get_address(session, path.address_id))
    context().addresses_changed()
    return reply(out, 201)


@addresses.post("/addresses/<int:address_id>/models/<int:model_id>/back", responses={201: schemas.AddressOut})
def back_to(path: schemas.BackPath) -> Response:
    """Let a model answer again that did so before."""
    with context().sessions.begin() as session:
        work.back_to(session, context().folder, path.address_id, path.model_id)
        out = _out(session, work.get_address(session, path.address_id))
    context().addresses_changed()
    return reply(out, 201)


@addresses.post("/addresses/<int:address_id>/keys", responses={201: schemas.KeyMade})
def make_key(path: schemas.AddressPath, body: schemas.KeyIn) -> Response:
    """Make a key; it is told this once."""
    with context().sessions.begin() as session:
        record, key = work.make_key(session, path.address_id, body.name, body.per_minute)
        out = schemas.KeyMade(record=_key_out(record), key=key)
    context().addresses_changed()
    return reply(out, 201)


@addresses.patch("/addresses/<int:address_id>/keys/<int:key_id>", responses={200: schemas.AddressKeyOut})
def revoke_key(path: schemas.KeyPath, body: schemas.RevokedIn) -> Response:
    """Revoke a key, or let it be good again."""
    with context().sessions.begin() as session:
        out = _key_out(work.revoke_key(session, path.address_id, path.key_id, body.revoked))
    context().addresses_changed()
    return reply(out)


@addresses.get("/addresses/<int:address_id>/calls", responses={200: schemas.CallsOut})
def read_calls(path: schemas.AddressPath) -> Response:
    """Calls of the last thirty days, by day."""
    with context().reading() as session:
        address = work.get_address(session, path.address_id)
        days = [schemas.DayOfCalls.model_validate(each) for each in calls_of(session, address.id)]
    return reply(schemas.CallsOut(days=days))


@addresses.get("/addresses/<int:address_id>/kept", responses={200: schemas.KeptList})
def list_kept(path: schemas.AddressPath) -> Response:
    """Pictures that came to the address and are kept, the most doubtful first."""
    with context().reading() as session:
        found = work.kept_pictures(context().folder, work.get_address(session, path.address_id))
    return reply(schemas.KeptList(pictures=[schemas.KeptOut.model_validate(each) for each in found]))


@addresses.get("/addresses/<int:address_id>/kept/<name>", doc_ui=False)
def kept_file(path: schemas.AddressPath) -> Response:
    """A kept picture."""
    name = str((request.view_args or {})["name"])
    with context().reading() as session:
        file = work.kept_file(context().folder, work.get_address(session, path.address_id), name)
    return send_file(file, conditional=True)


@addresses.post("/addresses/<int:address_id>/collect", responses={202: JobStarted})
def collect_kept(path: schemas.AddressPath, body: schemas.KeptChosen) -> Response:
    """Take kept pictures into the project as unlabelled ones, their boxes as proposals; they are kept no more."""
    with context().reading() as session:
        address = work.get_address(session, path.address_id)
    given = KeptToCollect(address_id=address.id, files=list(dict.fromkeys(body.files)))
    return start_job(address.project_id, COLLECT_KEPT, f"Collect from {address.name}", given)
