"""The tables. What must never be broken is a constraint of the schema, not a habit of the code above:

*   one open build a machine: `build.open_machine` is the machine while the bed is not cleared, else null, and unique;
*   one build a copy: `build.live_copy` is the copy unless it was scrapped, else null, and unique within the job;
*   no overlapping ledger intervals: a period with `WITHOUT OVERLAPS` (added by the migration, SQLAlchemy has no words
    for it).
"""

from __future__ import annotations

from chronarch.records.access.tables import Key, Person, Session
from chronarch.records.base import Base, UtcTime
from chronarch.records.change_log import Change, ChangeCounter
from chronarch.records.control.tables import BuildChange, Tender
from chronarch.records.ledger.tables import (
    BuildCost,
    BuildStop,
    ChangePoint,
    ChangePointPass,
    CostRate,
    CostWork,
    Energy,
    KeptReport,
    Ledger,
    LedgerDay,
    LedgerMonth,
    ReportPlan,
)
from chronarch.records.library.tables import (
    Arrival,
    Blob,
    ContentReading,
    File,
    Folder,
    HotFolder,
    Overruling,
    Part,
    Revision,
)
from chronarch.records.machines.tables import (
    BedMesh,
    HeatReading,
    Machine,
    MachineFirmware,
    MachineSettings,
    Material,
    MeanReading,
    MeanSensorReading,
    Model,
    Plug,
    PlugProfile,
    SensorReading,
    Spool,
    SpoolChange,
    WantedFirmware,
)
from chronarch.records.notices.tables import ActUse, Channel, Delivery, DeliveryTry, Notice, NoticeRule, SignInPlace
from chronarch.records.orders.tables import (
    Build,
    BuildLayers,
    BuildTag,
    BuildUse,
    Job,
    Order,
    QueueVersion,
    SavedView,
    Stock,
)
from chronarch.records.planning.tables import Site
from chronarch.records.rounds.tables import HelperLink
from chronarch.records.system.tables import Answered, BackupTaken, Setting, StorageDay
from chronarch.records.upkeep.tables import UpkeepDone, UpkeepMark, UpkeepTask, UpkeepWindow
from chronarch.records.watching.tables import BedView, Camera, Film, FilmRule, Frame, Suspicion, WatchSetting

__all__ = [
    "ActUse",
    "Answered",
    "Arrival",
    "BackupTaken",
    "Base",
    "BedMesh",
    "BedView",
    "Blob",
    "Build",
    "BuildChange",
    "BuildCost",
    "BuildLayers",
    "BuildStop",
    "BuildTag",
    "BuildUse",
    "Camera",
    "Change",
    "ChangeCounter",
    "ChangePoint",
    "ChangePointPass",
    "Channel",
    "ContentReading",
    "CostRate",
    "CostWork",
    "Delivery",
    "DeliveryTry",
    "Energy",
    "File",
    "Film",
    "FilmRule",
    "Folder",
    "Frame",
    "HeatReading",
    "HelperLink",
    "HotFolder",
    "Job",
    "KeptReport",
    "Key",
    "Ledger",
    "LedgerDay",
    "LedgerMonth",
    "Machine",
    "MachineFirmware",
    "MachineSettings",
    "Material",
    "MeanReading",
    "MeanSensorReading",
    "Model",
    "Notice",
    "NoticeRule",
    "Order",
    "Overruling",
    "Part",
    "Person",
    "Plug",
    "PlugProfile",
    "QueueVersion",
    "ReportPlan",
    "Revision",
    "SavedView",
    "SensorReading",
    "Session",
    "Setting",
    "SignInPlace",
    "Site",
    "Spool",
    "SpoolChange",
    "Stock",
    "StorageDay",
    "Suspicion",
    "Tender",
    "UpkeepDone",
    "UpkeepMark",
    "UpkeepTask",
    "UpkeepWindow",
    "UtcTime",
    "WantedFirmware",
    "WatchSetting",
]
