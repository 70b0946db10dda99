"""Calls about models, machines and spools."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from chronarch.client.call import Call, at, some
from chronarch.core.machines.materials import Material
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.plugs import PlugProfile
from chronarch.core.machines.reference_models import ReferenceModel
from chronarch.wire.common import RequestDone
from chronarch.wire.machines import finding as wf
from chronarch.wire.machines import machine as wm
from chronarch.wire.machines import power as wp
from chronarch.wire.machines import spools as ws
from chronarch.wire.machines.heat import HeatCurve, HeatStanding
from chronarch.wire.machines.material import KnownMaterial


def models() -> Call[list[MachineModel]]:
    return Call("GET", "/api/models", list[MachineModel])


def reference_models() -> Call[list[ReferenceModel]]:
    """Machines by what they are, to begin a model from."""
    return Call("GET", "/api/models/reference", list[ReferenceModel])


def add_model(model: MachineModel) -> Call[MachineModel]:
    return Call("POST", "/api/models", MachineModel, body=model)


def change_model(model: MachineModel) -> Call[MachineModel]:
    """Give the model of that name other figures."""
    return Call("PUT", at("models", model.name), MachineModel, body=model)


def materials() -> Call[list[KnownMaterial]]:
    """All that are known, and which of them the shop has given figures."""
    return Call("GET", "/api/materials", list[KnownMaterial])


def put_material(material: Material) -> Call[Material]:
    """Add a material, or give a usual one the shop's own figures."""
    return Call("PUT", "/api/materials", Material, body=material)


def remove_material(name: str) -> Call[RequestDone]:
    """Forget what the shop said of a material; a usual one is as usual again."""
    return Call("DELETE", at("materials", name), RequestDone)


def machines() -> Call[list[wm.Machine]]:
    return Call("GET", "/api/machines", list[wm.Machine])


def machine(name: str) -> Call[wm.MachineDetail]:
    return Call("GET", at("machines", name), wm.MachineDetail)


def add_machine(asked: wm.NewMachine, tender: str = "tender") -> Call[wm.MachineDetail]:
    return Call("POST", "/api/machines", wm.MachineDetail, params={"tender": tender}, body=asked)


def change_machine(name: str, **change: Any) -> Call[wm.MachineDetail]:
    """Change what `MachineChange` names: `link`, `model`, `intake`, `tools`, `site`, `place`, `pools`, `tags`,
    `reversed_axes`; what is left out stays. Raises pydantic.ValidationError."""
    return Call("PATCH", at("machines", name), wm.MachineDetail, body=wm.MachineChange(**change))


def find_machines(wish: wf.FindWish) -> Call[wf.Looked]:
    """Look for machines from where a tender runs; takes as long as the wish says, and a little."""
    return Call("POST", "/api/machines-found", wf.Looked, body=wish)


def greet_machine(link: str, tender: str = "tender") -> Call[wf.Found]:
    """Ask what is at an address; takes up to a minute."""
    return Call("POST", "/api/machines-found/greet", wf.Found, body=wf.GreetWish(tender=tender, link=link))


def begin_join(wish: wf.JoinWish) -> Call[wf.Join]:
    """Have a machine show a code on its display, or wait for a click of its own."""
    return Call("POST", "/api/joins", wf.Join, body=wish)


def join_standing(join: str) -> Call[wf.Join]:
    return Call("GET", at("joins", join), wf.Join)


def confirm_join(join: str, code: str = "") -> Call[wm.MachineDetail]:
    """The machine joins, with the code that its display shows, or once it was clicked."""
    return Call("POST", at("joins", join, "confirmed"), wm.MachineDetail, body=wf.JoinConfirmed(code=code))


def put_machine_photo(name: str, picture: bytes) -> Call[wm.MachineDetail]:
    """A picture of a machine, JPEG or PNG."""
    return Call("PUT", at("machines", name, "photo"), wm.MachineDetail, content=picture)


def machine_photo(name: str) -> Call[bytes]:
    return Call("GET", at("machines", name, "photo"), bytes)


def remove_machine_photo(name: str) -> Call[wm.MachineDetail]:
    return Call("DELETE", at("machines", name, "photo"), wm.MachineDetail)


def heat(name: str, begin: datetime | None = None, end: datetime | None = None) -> Call[HeatCurve]:
    """Heat over time; of the last hour without times."""
    return Call("GET", at("machines", name, "heat"), HeatCurve, params=some(begin=begin, end=end))


def heat_standing() -> Call[HeatStanding]:
    """What heat over time takes in the database, and what it comes to."""
    return Call("GET", "/api/heat/standing", HeatStanding)


def heat_csv(name: str, begin: datetime | None = None, end: datetime | None = None) -> Call[bytes]:
    """The same as CSV (RFC 4180)."""
    return Call("GET", at("machines", name, "heat.csv"), bytes, params=some(begin=begin, end=end))


def spools(finished: bool = False) -> Call[list[ws.Spool]]:
    return Call("GET", "/api/spools", list[ws.Spool], params=some(finished=finished))


def add_spool(asked: ws.NewSpool) -> Call[ws.Spool]:
    return Call("POST", "/api/spools", ws.Spool, body=asked)


def change_spool(number: int, change: ws.SpoolUpdate) -> Call[ws.Spool]:
    return Call("PATCH", f"/api/spools/{number}", ws.Spool, body=change)


def load_spool(number: int, machine: str, tool: int = 0) -> Call[ws.Spool]:
    return Call("POST", f"/api/spools/{number}/load", ws.Spool, body=ws.LoadSpool(machine=machine, tool=tool))


def spool_changes(number: int) -> Call[list[ws.SpoolEvent]]:
    return Call("GET", f"/api/spools/{number}/changes", list[ws.SpoolEvent])


def plugs() -> Call[list[wp.Plug]]:
    """The plugs of all machines that have one."""
    return Call("GET", "/api/plugs", list[wp.Plug])


def plug(machine: str) -> Call[wp.Plug]:
    return Call("GET", at("plugs", machine), wp.Plug)


def add_plug(asked: wp.NewPlug) -> Call[wp.Plug]:
    return Call("POST", "/api/plugs", wp.Plug, body=asked)


def change_plug(machine: str, change: wp.PlugChange) -> Call[wp.Plug]:
    return Call("PATCH", at("plugs", machine), wp.Plug, body=change)


def remove_plug(machine: str) -> Call[RequestDone]:
    return Call("DELETE", at("plugs", machine), RequestDone)


def plug_profiles() -> Call[list[PlugProfile]]:
    return Call("GET", "/api/plug-profiles", list[PlugProfile])


def set_plug_profile(profile: PlugProfile) -> Call[PlugProfile]:
    return Call("PUT", at("plug-profiles", profile.name), PlugProfile, body=profile)


def remove_plug_profile(name: str) -> Call[RequestDone]:
    return Call("DELETE", at("plug-profiles", name), RequestDone)


def turn_power(machine: str, *, on: bool, force: bool = False, reason: str = "") -> Call[wp.Plug]:
    """Turn a machine on or off at its plug. Forced, it is turned off whatever it does, and the reason is recorded."""
    return Call("POST", at("machines", machine, "power"), wp.Plug, body=wp.PowerWish(on=on, force=force, reason=reason))
