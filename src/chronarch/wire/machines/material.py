"""Materials on the wire."""

from __future__ import annotations

from chronarch.core.machines.materials import Material
from chronarch.wire.common import Wire, as_is

as_is(Material)


class KnownMaterial(Wire):
    """A material, and whether the shop said it is so; else its figures are the usual ones."""

    material: Material
    own: bool
