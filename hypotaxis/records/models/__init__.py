"""Models by subject."""

from hypotaxis.records.models.dumps import Dump
from hypotaxis.records.models.patches import Patch, PatchList
from hypotaxis.records.models.rig import (
    Box,
    Cable,
    Change,
    FrontPanel,
    Instrument,
    KeptRig,
    Loop,
    Rig,
    Route,
    Socket,
    Tick,
)
from hypotaxis.records.models.session import (
    NO_NOTES,
    Pass,
    PassPlan,
    PlannedPass,
    PlayedChunk,
    PlayIn,
    Session,
    Take,
    Track,
)
from hypotaxis.records.models.stamps import Stamp
from hypotaxis.records.models.stand import Stand
from hypotaxis.records.models.studio import EndName, OwnPort, Studio
from hypotaxis.records.models.sync import Proof
from hypotaxis.records.models.templates import Template
from hypotaxis.records.models.timing import Sounding
from hypotaxis.records.models.work import Job

__all__ = [
    "NO_NOTES",
    "Box",
    "Cable",
    "Change",
    "Dump",
    "EndName",
    "FrontPanel",
    "Instrument",
    "Job",
    "KeptRig",
    "Loop",
    "OwnPort",
    "Pass",
    "PassPlan",
    "Patch",
    "PatchList",
    "PlannedPass",
    "PlayIn",
    "PlayedChunk",
    "Proof",
    "Rig",
    "Route",
    "Session",
    "Socket",
    "Sounding",
    "Stamp",
    "Stand",
    "Studio",
    "Take",
    "Template",
    "Tick",
    "Track",
]
