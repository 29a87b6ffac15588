"""Changes: each makes a new sheet from a sheet and says in words what it did."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field, TypeAdapter

from .base import Change, JobChange
from .bring import BringItems, GoWith
from .by_hand import DropVariant, EditSupports, KeepBrought, KeepVariant, LeaveBrought, TakeVariant
from .by_height import AddPause, AddStrands, AddZone, DropByHeight, PickBodies, PickSeam
from .cuts import (
    CutEarlier,
    CutToGrid,
    JoinAgain,
    JoinCut,
    KeepNoMore,
    KeepPainted,
    KeepWhole,
    MakePieces,
    PutPlane,
    SetJoints,
    SwapPegs,
    TakePlan,
    TakePlaneOut,
    WeighPlans,
)
from .items import AddItems, Hollow, Mend, Paint, Resize, SeparateItem, TakeOut
from .job import (
    HandOver,
    KeepMachine,
    KeepPreset,
    PickMaterial,
    PickPrinter,
    Rename,
    SetLayer,
    SetLimit,
    SetOrder,
    SetOutlines,
    SetPrice,
    SetProcess,
    SetStepFactor,
    SetTable,
    TakePreset,
    WriteNotes,
)
from .machines import PrintIn, PrintOn
from .many import ChangeMany
from .overhangs import AcceptFinding, ProposeChannels
from .plate import Arrange, FillPlate, MakeCopies, PlaceOnPlate, SetPlating
from .stance import ChooseStance, FindStances, LayLong, Lean, SetLift, SetLoad, SetShow, StandOn, Turn
from .supports import (
    ForgetTips,
    MakeSupports,
    PutTips,
    RemoveSupports,
    RoundTips,
    SetFooting,
    SetStyle,
    SizeTip,
    Strengthen,
    StylePatches,
    TakeTipOut,
)
from .ties import TieTogether, Untie

# Those that anyone may send; the others are made by the server, which keeps what they name first.
AnyChange = Annotated[
    Rename
    | PickPrinter
    | PickMaterial
    | SetLayer
    | SetLimit
    | SetStepFactor
    | AcceptFinding
    | ProposeChannels
    | CutToGrid
    | JoinAgain
    | SetJoints
    | SwapPegs
    | JoinCut
    | PutPlane
    | CutEarlier
    | KeepWhole
    | KeepNoMore
    | TakePlaneOut
    | WeighPlans
    | StandOn
    | ChooseStance
    | Turn
    | Lean
    | LayLong
    | FindStances
    | SetShow
    | SetLoad
    | SetLift
    | MakeSupports
    | SetStyle
    | StylePatches
    | Strengthen
    | ForgetTips
    | RoundTips
    | RemoveSupports
    | KeepVariant
    | TakeVariant
    | DropVariant
    | KeepBrought
    | KeepMachine
    | LeaveBrought
    | SetFooting
    | AddZone
    | AddPause
    | AddStrands
    | DropByHeight
    | PickBodies
    | PickSeam
    | SetPrice
    | SetProcess
    | SetOutlines
    | SetTable
    | TakeOut
    | TakePreset
    | KeepPreset
    | WriteNotes
    | SetOrder
    | HandOver
    | PlaceOnPlate
    | MakeCopies
    | PrintIn
    | PrintOn
    | BringItems
    | GoWith
    | TieTogether
    | Untie
    | SetPlating,
    Field(discriminator="kind"),
]

CHANGES: TypeAdapter[AnyChange] = TypeAdapter(AnyChange)

__all__ = [
    "CHANGES",
    "AcceptFinding",
    "AddItems",
    "AddPause",
    "AddStrands",
    "AddZone",
    "AnyChange",
    "Arrange",
    "BringItems",
    "Change",
    "ChangeMany",
    "ChooseStance",
    "CutEarlier",
    "CutToGrid",
    "DropByHeight",
    "DropVariant",
    "EditSupports",
    "FillPlate",
    "FindStances",
    "ForgetTips",
    "GoWith",
    "HandOver",
    "Hollow",
    "JobChange",
    "JoinAgain",
    "JoinCut",
    "KeepBrought",
    "KeepMachine",
    "KeepNoMore",
    "KeepPainted",
    "KeepPreset",
    "KeepVariant",
    "KeepWhole",
    "LayLong",
    "Lean",
    "LeaveBrought",
    "MakeCopies",
    "MakePieces",
    "MakeSupports",
    "Mend",
    "Paint",
    "PickBodies",
    "PickMaterial",
    "PickPrinter",
    "PickSeam",
    "PlaceOnPlate",
    "PrintIn",
    "PrintOn",
    "ProposeChannels",
    "PutPlane",
    "PutTips",
    "RemoveSupports",
    "Rename",
    "Resize",
    "RoundTips",
    "SeparateItem",
    "SetFooting",
    "SetJoints",
    "SetLayer",
    "SetLift",
    "SetLimit",
    "SetLoad",
    "SetOrder",
    "SetOutlines",
    "SetPlating",
    "SetPrice",
    "SetProcess",
    "SetShow",
    "SetStepFactor",
    "SetStyle",
    "SetTable",
    "SizeTip",
    "StandOn",
    "Strengthen",
    "StylePatches",
    "SwapPegs",
    "TakeOut",
    "TakePlan",
    "TakePlaneOut",
    "TakePreset",
    "TakeTipOut",
    "TakeVariant",
    "TieTogether",
    "Turn",
    "Untie",
    "WeighPlans",
    "WriteNotes",
]
