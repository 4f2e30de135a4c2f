"""What depth and its fusion are set with."""

from typing import Literal

from pydantic import Field

from ..base import StageSettings


class DenseSettings(StageSettings):
    """How fine, how strict."""

    photo_scale: Literal[1, 2, 4, 8] = Field(
        2,
        title="Photo scale",
        description="Share of the photo's width that is used: 1 is the full "
        "width, 2 half of it (four times faster), 4 a quarter, 8 an eighth.",
        json_schema_extra={"unit": "1/", "short": True},
    )
    min_photos: int = Field(
        3,
        ge=2,
        le=10,
        title="Agreeing photos",
        description="A point must be confirmed by at least this many photos.",
        json_schema_extra={"short": True},
    )
    neighbors: int = Field(
        6, ge=1, le=12, title="Neighbors", description="How many other photos each photo is compared with."
    )
    rounds: int = Field(
        2, ge=1, le=8, title="Rounds", description="Sweeps over each photo: more is a little finer and slower."
    )
    min_score: float = Field(
        0.5,
        ge=0.0,
        le=0.99,
        title="Least likeness",
        description="Patches must look at least this much alike between photos (correlation, 1 is the same).",
    )
    sure_score: float = Field(
        0.7,
        ge=0.0,
        le=1.01,
        title="Sure likeness",
        description="One agreeing photo less is enough where patches look at least this much alike: folds and "
        "undersides that few photos see. Over 1: never.",
    )
    depth_tolerance: float = Field(
        0.6,
        ge=0.05,
        le=5,
        title="Depth agreement",
        description="Largest difference of depth between agreeing photos.",
        json_schema_extra={"unit": "% of the distance"},
    )
    color_tolerance: int = Field(
        80,
        ge=0,
        le=255,
        title="Color agreement",
        description="Largest difference of color between agreeing photos, exposure taken out; 0: any.",
        json_schema_extra={"unit": "of 255"},
    )
    nearest: float = Field(
        0.0,
        ge=0,
        title="Nearest",
        description="Depth begins so far from the camera: in mm where the job has a scale, else in its own unit. 0: "
        "where the keep box does.",
    )
    farthest: float = Field(
        0.0,
        ge=0,
        title="Farthest",
        description="Depth ends so far from the camera, in the same unit. 0: where the keep box does.",
    )
    sampling: float = Field(
        0.0,
        ge=0,
        title="Sampling",
        description="Least distance between two points of the cloud, in the same unit. 0: all points are kept.",
    )
    most_points: float = Field(
        15.0,
        ge=0,
        title="Points at most",
        description="More points than this are thinned to an even distance while they are made, so that they fit into "
        "memory and can be turned and cleaned without waiting. 0: all are kept.",
        json_schema_extra={"unit": "million", "later": True},
    )
    remove_isolated: bool = Field(
        True,
        title="Remove isolated points",
        description="Leave out points far from all others, and specks of a few.",
        json_schema_extra={"short": True},
    )
    outline_votes: int = Field(
        3,
        ge=0,
        le=50,
        title="Outline votes",
        description="Leave out points that fall outside the mask in at least this many photos; 0 switches this off.",
    )
    seed: int = Field(0, ge=0, le=999999, title="Random seed", description="The same seed gives the same cloud.")
